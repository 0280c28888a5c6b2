package ldap

import (
	"context"
	"errors"
	"strings"
	"sync"

	goldap "github.com/go-ldap/ldap/v3"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// Who is in a group is never read whole to change it: a group of 50,000 is
// decoded, sent and parsed in 50 ms and more, a member is compared in one. The
// directory says itself of a change that it was so before.

// members carries out all joins and leaves of one group in one request.
func (b *batch) members(conn *goldap.Conn, which []int) {
	g := b.before.entry(b.Acts[which[0]].Of())
	dns := map[int]string{}
	var ready []int
	for _, i := range which {
		dn, err := b.memberDN(b.before, b.Acts[i].Act)
		if err != nil {
			b.report(err, i)
			continue
		}
		dns[i] = dn
		ready = append(ready, i)
	}
	err := b.move(conn, g.dn, ready, dns)
	if there(err) { // some of them were so before: those are not tried again
		var rest []int
		for _, i := range ready {
			in, cerr := conn.Compare(g.dn, b.member, dns[i])
			if cerr == nil && in == (b.Acts[i].Verb == model.JoinIt) {
				b.report(err, i)
				continue
			}
			rest = append(rest, i)
		}
		ready, err = rest, b.move(conn, g.dn, rest, dns)
	}
	if err == nil || len(ready) == 1 || goldap.IsErrorWithCode(err, goldap.ErrorNetwork) {
		b.report(err, ready...)
		return
	}
	for _, i := range ready { // one bad member does not keep out the rest
		b.report(b.move(conn, g.dn, []int{i}, dns), i)
	}
}

// move changes the members of a group in one request.
func (b *batch) move(conn *goldap.Conn, group string, which []int, dns map[int]string) error {
	if len(which) == 0 {
		return nil
	}
	request := func(keep bool) *goldap.ModifyRequest {
		m := goldap.NewModifyRequest(group, nil)
		var join, leave []string
		for _, i := range which {
			if b.Acts[i].Verb == model.JoinIt {
				join = append(join, dns[i])
			} else {
				leave = append(leave, dns[i])
			}
		}
		if keep {
			join = append(join, b.placeholder)
		}
		if len(join) > 0 {
			m.Add(b.member, join)
		}
		if len(leave) > 0 {
			m.Delete(b.member, leave)
		}
		return m
	}
	err := conn.Modify(request(false))
	if goldap.IsErrorWithCode(err, goldap.LDAPResultObjectClassViolation) {
		err = conn.Modify(request(true)) // the last of them: groupOfNames may not be empty (RFC 4519 §3.5)
	}
	return err
}

// memberDN is the DN of who joins or leaves. Who leaves may be from elsewhere,
// and known by a DN only, or their own entry may be gone.
func (s *session) memberDN(t *tree, a model.Act) (string, error) {
	if v := t.entry(model.Named{Kind: a.MemberKind, Name: a.Member}); v != nil {
		return v.dn, nil
	}
	if a.Verb == model.LeaveIt {
		if _, err := goldap.ParseDN(a.Member); err == nil && strings.Contains(a.Member, "=") {
			return a.Member, nil
		}
		return s.place(s, model.Act{Object: a.MemberKind, Name: a.Member}), nil
	}
	return "", errors.New(a.MemberKind.String() + " " + a.Member + " is not there")
}

// compare finds out who of those that acts move is in which group.
func (s *session) compare(ctx context.Context, t *tree, acts []connect.Act) error {
	var mu sync.Mutex
	var jobs []func(*goldap.Conn)
	var lost error
	for _, a := range acts {
		g := t.entry(a.Of())
		if !a.Moves() || g == nil {
			continue
		}
		dn, err := s.memberDN(t, a.Act)
		if err != nil {
			continue // not there, and so in nothing
		}
		pair := [2]model.Named{a.Of(), {Kind: a.MemberKind, Name: a.Member}}
		jobs = append(jobs, func(conn *goldap.Conn) {
			in, err := conn.Compare(g.dn, s.member, dn)
			mu.Lock()
			defer mu.Unlock()
			switch {
			case err == nil:
				t.members[pair] = in
			case !there(err):
				lost = s.fail("compare members", err)
			}
		})
	}
	return errors.Join(s.each(ctx, jobs), lost)
}
