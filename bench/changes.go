package main

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	goldap "github.com/go-ldap/ldap/v3"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/ldap"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/demo/world"
	"hen-roost/internal/service"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

var crowd = sized(50_000) // members of a large group

// crowded is a durable directory with a large group, and people who are not in it yet.
type crowded struct {
	d      *world.Directory
	access connect.Access
	next   int // of the people who are not
}

func (w *workbench) crowdedOf(ctx context.Context) (*crowded, error) {
	if w.crowded != nil {
		return w.crowded, nil
	}
	var b strings.Builder
	for i := range 14 * aHundred {
		fmt.Fprintf(&b, "dn: %s\nobjectClass: inetOrgPerson\nuid: join.%04[2]d\ncn: Join %[2]d\nsn: %[2]d\n\n", joiner(i), i)
	}
	fmt.Fprintf(&b, "dn: cn=everybody,%s\nobjectClass: groupOfNames\ncn: everybody\n", groups)
	for i := range crowd {
		fmt.Fprintf(&b, "member: uid=hand.%06d,%s\n", i, people)
	}
	d, a, err := directory(ctx, w, "crowd", "", true)
	if err != nil {
		return nil, err
	}
	if err := d.LoadOffline(ctx, b.String()+"\n"); err != nil {
		return nil, err
	}
	w.crowded = &crowded{d: d, access: a}
	return w.crowded, nil
}

func joiner(i int) string { return fmt.Sprintf("uid=join.%04d,%s", i, people) }

// hundred are the next hundred who are not in the group yet.
func (c *crowded) hundred() (first int) {
	c.next += aHundred
	return c.next - aHundred
}

// joinCrowd: a hundred people into a group of 50,000, each read back, against a
// hundred bare changes of the group with eight under way.
func joinCrowd(ctx context.Context, w *workbench) (float64, float64, error) {
	return w.joining(ctx, func(conn *goldap.Conn, first int) error {
		var wg sync.WaitGroup
		errs := make([]error, aHundred)
		turns := make(chan int)
		for range 8 {
			wg.Go(func() {
				for i := range turns {
					errs[i] = conn.Modify(joinRequest(first+i, 1))
				}
			})
		}
		for i := range aHundred {
			turns <- i
		}
		close(turns)
		wg.Wait()
		for _, err := range errs {
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// joinCrowdAtOnce: the same against one bare change with all hundred in it.
func joinCrowdAtOnce(ctx context.Context, w *workbench) (float64, float64, error) {
	return w.joining(ctx, func(conn *goldap.Conn, first int) error { return conn.Modify(joinRequest(first, aHundred)) })
}

func joinRequest(first, n int) *goldap.ModifyRequest {
	r := goldap.NewModifyRequest("cn=everybody,"+groups, nil)
	var list []string
	for i := range n {
		list = append(list, joiner(first+i))
	}
	r.Add("member", list)
	return r
}

func (w *workbench) joining(ctx context.Context, bare func(conn *goldap.Conn, first int) error) (float64, float64, error) {
	c, err := w.crowdedOf(ctx)
	if err != nil {
		return 0, 0, err
	}
	conn, err := dialBare(c.access)
	if err != nil {
		return 0, 0, err
	}
	defer conn.Close()
	s, err := ldap.Connector{}.Open(ctx, c.access)
	if err != nil {
		return 0, 0, err
	}
	defer s.Close()
	return pair(3, func(int) error {
		first, acts := c.hundred(), make([]connect.Act, aHundred)
		for i := range acts {
			acts[i] = connect.Act{Act: model.Act{Verb: model.JoinIt, Object: model.GroupKind, Name: "everybody",
				Member: fmt.Sprintf("join.%04d", first+i), MemberKind: model.Account}}
		}
		for _, a := range connect.Apply(ctx, s, acts) {
			if a.Outcome != connect.Done {
				return fmt.Errorf("%s: %s", a.Outcome, a.Words)
			}
		}
		return nil
	}, func(int) error { return bare(conn, c.hundred()) })
}

// changedHundred: a hundred of 100,000 entries are changed; from then until what
// differs is found, through the service, against the tenth of a second it may take.
func changedHundred(ctx context.Context, w *workbench) (float64, float64, error) {
	big, err := w.hundredThousand(ctx)
	if err != nil {
		return 0, 0, err
	}
	s, err := w.following(ctx, big)
	if err != nil {
		return 0, 0, err
	}
	var took []float64
	for turn := range turns(7) {
		var b strings.Builder
		for i := range aHundred {
			fmt.Fprintf(&b, "dn: uid=hand.%06d,%s\nchangetype: modify\nreplace: loginShell\nloginShell: /bin/turn%d\n\n", turn*aHundred+i,
				people, turn)
		}
		if err := big.d.Load(b.String()); err != nil {
			return 0, 0, err
		}
		began := time.Now()
		got, err := s.Survey(ctx, door.Itself, []string{"big"}, nil)
		if err != nil || got[0].Changed != aHundred || got[0].Fresh != aHundred {
			return 0, 0, fmt.Errorf("%+v %w", got, err)
		}
		took = append(took, time.Since(began).Seconds()*1000)
	}
	return median(took), 100, nil
}

// following is a service that knows the big directory, and whose its accounts are.
func (w *workbench) following(ctx context.Context, big *bigDirectory) (*service.Service, error) {
	st, err := w.storeOf(ctx)
	if err != nil {
		return nil, err
	}
	s, err := service.New(service.Config{Store: st, Kinds: connect.Kinds{ldap.Kind: ldap.Connector{}},
		KeyFile: filepath.Join(w.dir, "follow.key"),
		Log:     slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn}))})
	if err != nil {
		return nil, err
	}
	w.later(s.Close)
	var text strings.Builder
	text.WriteString("roost: 1\nusers:\n")
	links := make([]model.Link, many)
	for i := range many {
		fmt.Fprintf(&text, "  hand.%06[1]d: {name: Hand Number %[1]d, given: Hand, family: Number %[1]d, mail: "+
			"hand.%06[1]d@ternsound.example, number: %[2]d}\n", i, 100_000+i)
		name := fmt.Sprintf("hand.%06d", i)
		links[i] = model.Link{Target: "big", User: name, Name: name}
	}
	fmt.Fprintf(&text, "roles:\n  everyone: {held-when: \"true\", gives: [{at: big, account: {shell: /bin/bash}}]}\ntargets:\n  big: "+
		"{kind: directory, address: %q, login: {as: %q, secret: big}, settings: {people: %q, groups: %q}}\n",
		big.access.Address, big.access.As, people, groups)
	if _, err := s.Declare(ctx, door.Itself, []declare.File{{Name: "big.yaml", Text: text.String()}}, "bench"); err != nil {
		return nil, err
	}
	if err := s.SetSecret(ctx, door.Itself, "big", big.access.Secret); err != nil {
		return nil, err
	}
	got, err := s.Survey(ctx, door.Itself, nil, nil)
	if err == nil {
		err = s.AcceptKey(ctx, door.Itself, "big", got[0].Print)
	}
	if err == nil {
		err = st.Tx(ctx, func(tx *store.Tx) error { return tx.PutLinks(ctx, "big", links, 0, time.Now()) })
	}
	if err == nil {
		got, err = s.Survey(ctx, door.Itself, nil, nil)
	}
	if err == nil && (got[0].Accounts != many || got[0].Findings != 0) {
		err = fmt.Errorf("%+v", got)
	}
	return s, err
}
