package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/connect/host"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/demo/world"
	"hen-roost/internal/service"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/seen"
	"hen-roost/internal/work"
)

// surveyFleet: a hundred hosts read side by side, against the same connections that only print the files.
func surveyFleet(ctx context.Context, w *workbench) (float64, float64, error) {
	return surveyOf(ctx, w, 100, 3)
}

const keyLine = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAI%08dq0n7cPZqkqL0g9jV7kB5dL4W2Vd2m1o1b0T8mYf hand%d"

// equipped are a hundred accounts with a key each, in two groups.
func equipped(round int) (acts []connect.Act) {
	groups := []string{fmt.Sprintf("deck%d", round), fmt.Sprintf("crew%d", round)}
	for _, g := range groups {
		acts = append(acts, connect.Act{Act: model.Act{Verb: model.Create, Object: model.GroupKind, Name: g}})
	}
	for i := range aHundred {
		acts = append(acts, connect.Act{Stage: 1, Act: model.Act{Verb: model.Create, Object: model.Account, Name: fmt.Sprintf("ours%d.%d",
			round, i),
			Changes: []model.Change{{Attribute: model.Number, After: []string{fmt.Sprint(13000 + round*100 + i)}},
				{Attribute: model.FullName, After: []string{fmt.Sprintf("Hand %d", i)}}, {Attribute: "shell", After: []string{"/bin/bash"}},
				{Attribute: model.Keys, After: []string{fmt.Sprintf(keyLine, i, i)}}}}})
	}
	for i := range aHundred {
		for _, g := range groups {
			acts = append(acts, connect.Act{Stage: 2, Act: model.Act{Verb: model.JoinIt, Object: model.GroupKind, Name: g,
				Member: fmt.Sprintf("ours%d.%d", round, i), MemberKind: model.Account, Changes: model.Entering(true)}})
		}
	}
	return acts
}

func applyEquipped(ctx context.Context, a connect.Access, round int) error {
	s, err := host.Connector{}.Open(ctx, a)
	if err != nil {
		return err
	}
	defer s.Close()
	for i, answer := range connect.Apply(ctx, s, equipped(round)) {
		if answer.Outcome != connect.Done {
			return fmt.Errorf("step %d %s: %s", i, answer.Outcome, answer.Words)
		}
	}
	return nil
}

// writtenOnce is what somebody writes who is in a hurry: the lines appended to the files, homes made and handed over,
// without lock, backup or looking.
func writtenOnce(round int) string {
	var passwd, shadow, group, homes, deck strings.Builder
	for i := range aHundred {
		name, n := fmt.Sprintf("bare%d.%d", round, i), 13000+round*100+i
		fmt.Fprintf(&passwd, "%s:x:%d:%d:Hand %d:/home/%s:/bin/bash\n", name, n, n, i, name)
		fmt.Fprintf(&shadow, "%s:!:19000:0:99999:7:::\n", name)
		fmt.Fprintf(&group, "%s:x:%d:\n", name, n)
		if deck.Len() > 0 {
			deck.WriteByte(',')
		}
		deck.WriteString(name)
		fmt.Fprintf(&homes, "mkdir -p /home/%s/.ssh; cp -a /etc/skel/. /home/%s/; echo '%s' >/home/%s/.ssh/authorized_keys; "+
			"chmod 600 /home/%s/.ssh/authorized_keys; chmod 700 /home/%s /home/%s/.ssh; chown -R %d:%d /home/%s\n",
			name, name, fmt.Sprintf(keyLine, i, i), name, name, name, name, n, n, name)
	}
	fmt.Fprintf(&group, "deck%d:x:%d:%s\ncrew%d:x:%d:%s\n", round, 50000+2*round, deck.String(), round, 50001+2*round, deck.String())
	return "cat >>/etc/passwd <<'E'\n" + passwd.String() + "E\ncat >>/etc/shadow <<'E'\n" + shadow.String() +
		"E\ncat >>/etc/group <<'E'\n" +
		group.String() + "E\n" + homes.String()
}

// hundredOnce: a hundred accounts with keys, in two groups, on a host of two thousand, each read before and read back,
// against files that are written once.
func hundredOnce(ctx context.Context, w *workbench) (float64, float64, error) {
	hosts, err := fleet(ctx, w, 2, sized(2000))
	if err != nil {
		return 0, 0, err
	}
	return pair(7, func(round int) error { return applyEquipped(ctx, hosts[0], round) }, func(round int) error {
		_, err := bareExec(hosts[1], writtenOnce(round))
		return err
	})
}

// hundredOneByOne: the same against a script of the system's tools for one account at a time.
func hundredOneByOne(ctx context.Context, w *workbench) (float64, float64, error) {
	hosts, err := fleet(ctx, w, 2, sized(2000))
	if err != nil {
		return 0, 0, err
	}
	return pair(3, func(round int) error { return applyEquipped(ctx, hosts[0], round) }, func(round int) error {
		var b strings.Builder
		fmt.Fprintf(&b, "groupadd deck%d; groupadd crew%d\n", round, round)
		for i := range aHundred {
			name := fmt.Sprintf("bare%d.%d", round, i)
			fmt.Fprintf(&b, "useradd -m -u %d -c 'Hand %d' -s /bin/bash %s; gpasswd -a %s deck%d; gpasswd -a %s crew%d; mkdir -m 700 "+
				"/home/%s/.ssh; "+
				"echo '%s' >/home/%s/.ssh/authorized_keys; chmod 600 /home/%s/.ssh/authorized_keys; chown -R %s: /home/%s/.ssh\n",
				13000+round*100+i, i, name, name, round, name, round, name, fmt.Sprintf(keyLine, i, i), name, name, name, name)
		}
		_, err := bareExec(hosts[1], b.String())
		return err
	})
}

// largeHost: 20,000 accounts and a group that holds them all, against the second that it may take.
func largeHost(ctx context.Context, w *workbench) (float64, float64, error) {
	took, _, err := readLarge(ctx, w)
	return took, 1, err
}

// largeHostMemory: what the heap grows by meanwhile at the most, against the 64 MB that it may.
func largeHostMemory(ctx context.Context, w *workbench) (float64, float64, error) {
	_, most, err := readLarge(ctx, w)
	return most, 64, err
}

func readLarge(ctx context.Context, w *workbench) (seconds, megabytes float64, err error) {
	key, err := world.NewKey()
	if err != nil {
		return 0, 0, err
	}
	h, err := world.StartHost(ctx, filepath.Join(w.dir, "hosts"), "large", "127.0.2.99", `awk 'BEGIN { for (i = 1; i <= 20000; i++) {
		print "hand" i ":x:" 2000 + i ":100:Hand " i ":/home/hand" i ":/bin/sh" >"/tmp/p"; print "hand" i ":!:19000:0:99999:7:::" >"/tmp/s"
		g = g (i > 1 ? "," : "") "hand" i }; print "all:x:70000:" g >"/tmp/g" }'
		cat /tmp/p >>/etc/passwd; cat /tmp/s >>/etc/shadow; cat /tmp/g >>/etc/group`, key)
	if err != nil {
		return 0, 0, err
	}
	defer h.Stop()
	a := connect.Access{Target: "large", Address: h.Address, As: "root", Secret: key.Private}
	if _, err = (host.Connector{}).Open(ctx, a); err != nil {
		if k, ok := err.(*connect.KeyError); ok {
			a.Key = k.Offered
		}
	}
	var times []float64
	for range 5 {
		runtime.GC()
		var before, now runtime.MemStats
		runtime.ReadMemStats(&before)
		stop, done := make(chan struct{}), make(chan uint64)
		go func() {
			var most uint64
			for {
				select {
				case <-stop:
					done <- most
					return
				case <-time.After(5 * time.Millisecond):
					runtime.ReadMemStats(&now)
					most = max(most, now.HeapAlloc)
				}
			}
		}()
		began := time.Now()
		n, err := work.Survey(ctx, host.Connector{}, a, work.Sink{Put: func([]model.Object) error { return nil }})
		times = append(times, time.Since(began).Seconds())
		close(stop)
		megabytes = max(megabytes, float64(<-done-min(before.HeapAlloc, 0))/1e6-float64(before.HeapAlloc)/1e6)
		if err == nil && n.Accounts != 20000 {
			err = fmt.Errorf("%d accounts seen", n.Accounts)
		}
		if err != nil {
			return 0, 0, err
		}
	}
	return median(times), megabytes, nil
}

// sleepingFleet: a fleet of 2,000 hosts of which 400 take the connection and say nothing: when the 1,600 are done, against
// when they are without the 400. The hosts are simulated: each answers after a moment, and holds three accounts.
func sleepingFleet(ctx context.Context, w *workbench) (float64, float64, error) {
	awake, asleep := sized(1600), sized(400)
	when := func(sleepers int) (float64, error) {
		f, err := newFakeFleet(awake, sleepers)
		if err != nil {
			return 0, err
		}
		defer f.stop()
		s, stop, err := f.service(ctx, w)
		if err != nil {
			return 0, err
		}
		defer stop()
		var mu sync.Mutex
		n, began, last := 0, time.Now(), 0.0
		_, err = s.Survey(ctx, door.Itself, nil, func(r seen.SurveyResult) {
			mu.Lock()
			defer mu.Unlock()
			if r.State == seen.Surveyed {
				if n++; n == awake {
					last = time.Since(began).Seconds()
				}
			}
		})
		if err == nil && n != awake {
			err = fmt.Errorf("%d of %d were read", n, awake)
		}
		return last, err
	}
	with, err := when(asleep)
	if err != nil {
		return 0, 0, err
	}
	without, err := when(0)
	return with, without, err
}

// fakeFleet are hosts that are simulated: one listener answers, another takes connections and is silent.
type fakeFleet struct {
	quick, silent net.Listener
	awake, asleep int
	wg            sync.WaitGroup
}

func newFakeFleet(awake, asleep int) (*fakeFleet, error) {
	f := &fakeFleet{awake: awake, asleep: asleep}
	var err error
	if f.quick, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return nil, err
	}
	if f.silent, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return nil, err
	}
	for _, l := range []net.Listener{f.quick, f.silent} {
		f.wg.Go(func() {
			var open []net.Conn
			for {
				c, err := l.Accept()
				if err != nil {
					for _, c := range open {
						c.Close()
					}
					return
				}
				open = append(open, c)
				if l == f.quick {
					_, _ = c.Write([]byte("ready\n")) // if it fails the survey says so
				}
			}
		})
	}
	return f, nil
}

func (f *fakeFleet) stop() {
	f.quick.Close()
	f.silent.Close()
	f.wg.Wait()
}

// Schema, Open: a connector of such hosts.
func (f *fakeFleet) Schema() model.Schema { return host.Connector{}.Schema() }

func (f *fakeFleet) Open(ctx context.Context, a connect.Access) (connect.Session, error) {
	ctx, cancel := context.WithTimeout(ctx, a.Patience())
	defer cancel()
	c, err := a.Connect(ctx)
	if err != nil {
		return nil, err
	}
	defer context.AfterFunc(ctx, func() { c.Close() })()
	if _, err := io.ReadFull(c, make([]byte, 6)); err != nil {
		c.Close()
		return nil, &connect.Error{Target: a.Target, Op: "connect", Err: err}
	}
	return fakeSession{c}, nil
}

type fakeSession struct{ net.Conn }

// Survey takes as long as a host does that is one network away.
func (fakeSession) Survey(_ context.Context, found func(model.Object) error) error {
	time.Sleep(15 * time.Millisecond)
	for i := range 3 {
		if err := found(model.Object{Kind: model.Account, Name: fmt.Sprintf("hand%d", i),
			Attributes: model.Pack(model.Attribute{Name: model.Disabled, Values: []string{"no"}})}); err != nil {
			return err
		}
	}
	return nil
}

func (f fakeSession) Begin(context.Context, []connect.Act) (connect.Carrier, error) {
	return connecttest.ByHand(f.apply), nil
}

func (fakeSession) apply(_ context.Context, acts []connect.Act) []connect.Answer {
	return connect.All(acts, connect.Failed, "nothing is changed here")
}

// service is one that looks after such a fleet, in random order of who sleeps.
func (f *fakeFleet) service(ctx context.Context, w *workbench) (*service.Service, func(), error) {
	var b bytes.Buffer
	b.WriteString("roost: 1\ntargets:\n")
	total := f.awake + f.asleep
	for i := range total {
		address := f.quick.Addr().String()
		if f.asleep > 0 && i%(total/f.asleep) == 0 {
			address = f.silent.Addr().String()
		}
		fmt.Fprintf(&b, "  h%04d: {kind: host, address: %q, login: {as: root}}\n", i, address)
	}
	st, err := w.storeOf(ctx)
	if err != nil {
		return nil, nil, err
	}
	s, err := service.New(service.Config{Store: st, Kinds: connect.Kinds{host.Kind: f}, KeyFile: filepath.Join(w.dir, fmt.Sprintf("key%d",
		f.asleep)),
		Log: slog.New(slog.NewTextHandler(io.Discard, nil)), Wait: time.Duration(sized(10_000)) * time.Millisecond})
	if err != nil {
		return nil, nil, err
	}
	_, err = s.Declare(ctx, door.Itself, []declare.File{{Name: "fleet.yaml", Text: b.String()}}, "the fleet")
	return s, s.Close, err
}

// Offers, Knows: nothing more.
func (fakeSession) Offers() connect.Offers { return connect.Offers{} }
func (*fakeFleet) Knows() connect.Knows    { return connect.Knows{} }
