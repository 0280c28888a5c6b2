package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"golang.org/x/crypto/ssh"

	files "hen-roost/demo"
	"hen-roost/internal/connect"
	"hen-roost/internal/connect/dialect"
	"hen-roost/internal/core/model"
	"hen-roost/internal/standin/spoken"
)

var (
	switches     = sized(200)
	switchesDone = 32 // at once
	switchSecret = "a-secret-of-ours"
	personSecret = "a-word-of-theirs"
)

// quay is a switch as it was delivered, but for our own login.
func quay(w *workbench, n int, typed func(int, string)) (*spoken.Server, error) {
	dir := filepath.Join(w.dir, fmt.Sprint("quay", n))
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	l, err := spoken.NewSkerry(filepath.Join(dir, "state"), spoken.SkerryState{Name: "quay", People: map[string]spoken.Mooring{
		"hen-roost": {Name: "Hen Roost", Class: "master", Hash: spoken.Hashed(switchSecret)},
		"install":   {Class: "master", Hash: spoken.Hashed("install")}},
		Classes: map[string][]string{"master": {"tell", "change people", "turn out"}, "mooring": {"tell"}, "visitor": {}}})
	if err != nil {
		return nil, err
	}
	s, err := spoken.Serve(l, "127.0.9.31:0", filepath.Join(dir, "key"))
	if err == nil {
		s.Typed = typed
		w.later(s.Stop)
	}
	return s, err
}

// settle brings one switch to what is declared of it, as a round does, and has somebody sign in with their new password.
func settle(ctx context.Context, c dialect.Connector, a connect.Access) error {
	x, err := c.Open(ctx, a)
	if err != nil {
		return err
	}
	defer x.Close()
	var acts []connect.Act
	for _, n := range []string{"hanne.vik", "kai.nyman", "olga.petrova"} {
		acts = append(acts, connect.Act{Act: model.Act{Verb: model.Create, Object: model.Account, Name: n, Changes: []model.Change{
			{Attribute: model.FullName, After: []string{"Crew " + n}}, {Attribute: "may-from", After: []string{"10.20.0.0/16"}},
			{Attribute: model.Password, Sealed: "x"}}},
			Secrets: map[string]connect.Secret{model.Password: connect.Seal([]byte(personSecret))}},
			connect.Act{Act: model.Act{Verb: model.JoinIt, Object: model.RightKind, Name: "mooring", Member: n, MemberKind: model.Account,
				Changes: model.Entering(true)}, Stage: 1})
	}
	acts = append(acts, connect.Act{Act: model.Act{Verb: model.Disable, Object: model.Account, Name: "install",
		Changes: []model.Change{{Attribute: model.Disabled, Before: []string{"no"}, After: []string{"yes"}}}}, Stage: 2})
	ordered := make([]connect.Act, 0, len(acts))
	for stage := range 3 {
		for _, a := range acts {
			if a.Stage == stage {
				ordered = append(ordered, a)
			}
		}
	}
	answers, _ := connect.Whole(ctx, x, ordered, func(connect.Mark) error { return nil })
	for _, a := range answers {
		if a.Outcome != connect.Done {
			return fmt.Errorf("%s %s", a.Outcome, a.Words)
		}
	}
	if p, words := connect.Prove(ctx, x, "hanne.vik", connect.Seal([]byte(personSecret))); p != connect.Proved {
		return fmt.Errorf("%s %s", p, words)
	}
	return nil
}

// bareTalk is a conversation without any sense: what is typed is typed, and what comes is read up to what looks like a question.
type bareTalk struct {
	client *ssh.Client
	in     io.Writer
	out    io.Reader
}

func bareOpen(address, login, secret string) (*bareTalk, error) {
	client, err := ssh.Dial("tcp", address, &ssh.ClientConfig{User: login, Auth: []ssh.AuthMethod{ssh.Password(secret)},
		HostKeyCallback: ssh.InsecureIgnoreHostKey()})
	if err != nil {
		return nil, err
	}
	run, err := client.NewSession()
	if err != nil {
		return nil, err
	}
	in, err1 := run.StdinPipe()
	out, err2 := run.StdoutPipe()
	t := &bareTalk{client, in, out}
	return t, errors.Join(err1, err2, run.Shell(), t.read())
}

func (t *bareTalk) read() error {
	var text []byte
	buf := make([]byte, 4096)
	for {
		n, err := t.out.Read(buf)
		text = append(text, buf[:n]...)
		if s := string(text); strings.HasSuffix(s, "> ") || strings.HasSuffix(s, "secret: ") || strings.HasSuffix(s, "once more: ") {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

func (t *bareTalk) say(line string) error {
	if _, err := io.WriteString(t.in, line+"\n"); err != nil || line == "away" {
		return err
	}
	return t.read()
}

// said is something typed in one of several conversations.
type said struct {
	talk int
	line string
}

// replay types what was typed to one switch to another.
func replay(address string, script []said) error {
	open := map[int]*bareTalk{}
	defer func() {
		for _, t := range open {
			t.client.Close()
		}
	}()
	for _, x := range script {
		if open[x.talk] == nil {
			t, err := bareOpen(address, "hen-roost", switchSecret)
			if err != nil {
				return err
			}
			open[x.talk] = t
		}
		if err := open[x.talk].say(x.line); err != nil {
			return err
		}
	}
	t, err := bareOpen(address, "hanne.vik", personSecret)
	if err == nil {
		t.client.Close()
	}
	return err
}

func dialectSwitches(ctx context.Context, w *workbench) (float64, float64, error) {
	text, err := files.Dialect("harbour-switch")
	if err != nil {
		return 0, 0, err
	}
	c, err := dialect.Learn("harbour-switch.yaml", text)
	if err != nil {
		return 0, 0, err
	}
	var mu sync.Mutex
	var script []said
	first, err := quay(w, 0, func(talk int, line string) {
		mu.Lock()
		defer mu.Unlock()
		if talk <= 2 && line != "" { // the third is of whoever proves their password
			script = append(script, said{talk, line})
		}
	})
	if err != nil {
		return 0, 0, err
	}
	known := func(s *spoken.Server) (connect.Access, error) {
		return accepted(ctx, c, connect.Access{Target: "quay", Address: s.Address, As: "hen-roost", Secret: []byte(switchSecret)})
	}
	a, err := known(first)
	if err != nil {
		return 0, 0, err
	}
	if err := settle(ctx, c, a); err != nil {
		return 0, 0, err
	}
	const rounds = 5
	var fresh []connect.Access
	for i := range 2 * rounds * switches {
		s, err := quay(w, i+1, nil)
		if err != nil {
			return 0, 0, err
		}
		if a, err = known(s); err != nil {
			return 0, 0, err
		}
		fresh = append(fresh, a)
	}
	all := func(do func(a connect.Access) error) error {
		var wg sync.WaitGroup
		var errs []error
		next := make(chan connect.Access)
		for range switchesDone {
			wg.Go(func() {
				for s := range next {
					if err := do(s); err != nil {
						mu.Lock()
						errs = append(errs, err)
						mu.Unlock()
					}
				}
			})
		}
		mu.Lock()
		some := fresh[:switches]
		fresh = fresh[switches:]
		mu.Unlock()
		for _, s := range some {
			next <- s
		}
		close(next)
		wg.Wait()
		return errors.Join(errs...)
	}
	return pair(rounds, func(int) error { return all(func(a connect.Access) error { return settle(ctx, c, a) }) },
		func(int) error { return all(func(a connect.Access) error { return replay(a.Address, script) }) })
}
