package ldap

import (
	"context"
	"crypto/rand"

	goldap "github.com/go-ldap/ldap/v3"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// Admits implements connect.Offers: a bind with a password that nobody has, which a
// directory that keeps a password policy answers with why it refuses
// (draft-behera-ldap-password-policy §6.2): of an account that is shut, that it is
// locked. Of one that is open the bind counts as a failed sign-in.
func (s *session) Admits(ctx context.Context, accounts []string) []connect.Admission {
	out := connect.NotKnown(len(accounts), "")
	fail := func(from int, err error) []connect.Admission {
		for i := from; i < len(out); i++ {
			out[i].Words = s.fail("ask whether accounts are let in", err).Error()
		}
		return out
	}
	acts := make([]connect.Act, len(accounts))
	for i, name := range accounts {
		acts[i] = connect.Act{Act: model.Act{Object: model.Account, Name: name}}
	}
	t, err := s.lookup(acts)
	if err != nil {
		return fail(0, err)
	}
	raw, err := s.dial(ctx)
	if err != nil {
		return fail(0, err)
	}
	conn := goldap.NewConn(raw, true)
	conn.SetTimeout(s.access.Patience())
	conn.Start()
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { raw.Close() })
	defer stop()
	for i, a := range acts {
		v := t.entry(a.Of())
		if v == nil {
			out[i] = connect.Admission{State: connect.KeptOut, Words: "there is no such account"}
			continue
		}
		answer, err := conn.SimpleBind(goldap.NewSimpleBindRequest(v.dn, rand.Text(),
			[]goldap.Control{goldap.NewControlBeheraPasswordPolicy()}))
		if goldap.IsErrorWithCode(err, goldap.ErrorNetwork) {
			return fail(i, err)
		}
		out[i] = admission(answer, err)
	}
	return out
}

// lockedOut is the policy's error for an account that is locked.
const lockedOut = 1

func admission(answer *goldap.SimpleBindResult, err error) connect.Admission {
	if err == nil {
		return connect.Admission{State: connect.LetIn, Words: "the directory lets it in, with whatever password"}
	}
	if answer != nil {
		for _, c := range answer.Controls {
			if p, ok := c.(*goldap.ControlBeheraPasswordPolicy); ok && p.Error == lockedOut {
				return connect.Admission{State: connect.KeptOut, Words: "the directory refuses it: " + connect.Printable(p.ErrorString)}
			}
		}
	}
	if !goldap.IsErrorWithCode(err, goldap.LDAPResultInvalidCredentials) { // some directories have a code of their own for it
		return connect.Admission{State: connect.NotTold,
			Words: "the directory does not say that it is shut: " + connect.Printable(err.Error())}
	}
	return connect.Admission{State: connect.NotTold, Words: "the directory does not say that it refuses it: no password policy that " +
		"locks (pwdLockout) applies to it, and then it is let in all the same, or the directory does not tell why it refuses"}
}
