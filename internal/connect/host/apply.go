package host

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"strings"
	"time"
	"unicode"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// Apply implements connect.Session in one exec.
func (s *session) Apply(ctx context.Context, acts []connect.Act) []connect.Answer {
	limit := s.access.Patience() + time.Duration(len(acts))*2*time.Second + time.Minute // the minute is for the lock
	for _, a := range acts {
		if a.Object == model.HomeKind || a.Verb == model.Remove || a.Verb == model.Modify && a.After().Has(model.Number) {
			limit += searchFor // every file of the host may be looked at
			break
		}
	}
	b := batch{acts: acts, answers: make([]connect.Answer, len(acts)), target: s.access.Target, urgent: s.access.Urgent,
		settings: s.access.Settings}
	err := s.exec(ctx, limit, func(in io.WriteCloser, out io.Reader) error {
		return b.talk(in, newAnswer(out, s.access.As))
	})
	b.conclude(err)
	return b.answers
}

// searchFor is how long looking at all files of a host may take.
const searchFor = 8 * time.Minute

// batch is a conversation with a host about some acts.
type batch struct {
	acts     []connect.Act
	answers  []connect.Answer
	target   string
	urgent   bool
	settings map[string]string
	ready    []int    // acts that are carried out
	before   *reading // nil, or not whole: the connection was lost before anything was done
	after    *reading
}

func (b *batch) talk(in io.WriteCloser, out *answer) (err error) {
	say(in, askScript(b.acts, b.urgent, b.settings), false)
	if b.before, err = out.read(); err != nil || !b.before.whole || b.before.refusal != "" {
		in.Close()
		return err
	}
	view := connect.Expect(b.before)
	p := newProgram(b.before.system.Attributes.One(tools), b.settings[elevationSetting])
	for i, a := range b.acts {
		if words := b.before.doubt(a.Act); words != "" {
			b.answers[i] = connect.Found(a, connect.Drifted, words, b.before)
			continue
		}
		if words := unfit(a); words != "" {
			b.answers[i] = connect.Answer{Outcome: connect.Failed, Words: words}
			continue
		}
		standing, words := connect.Judge(a, schema, view)
		if standing != connect.Ready {
			b.answers[i] = connect.Found(a, standing, words, b.before)
			continue
		}
		p.add(i, a, view)
		b.ready = append(b.ready, i)
		view.Take(a.Act)
	}
	if len(b.ready) == 0 {
		in.Close()
		return nil
	}
	p.flush()
	say(in, p.script.String()+"tell\necho Z:\n", true)
	b.after, err = out.read()
	return err
}

// conclude answers the acts that were ready, and all when nothing could be read.
func (b *batch) conclude(err error) {
	lost := fmt.Sprintf("%s: the connection was lost before the host answered", b.target)
	if err != nil {
		lost = fmt.Sprintf("%s: %v", b.target, err)
	}
	switch r := b.before; {
	case r != nil && r.refusal != "":
		copy(b.answers, connect.All(b.acts, connect.Failed, b.target+": "+r.refusal))
		return
	case r == nil || !r.whole:
		copy(b.answers, connect.All(b.acts, connect.Unsure, lost))
		return
	}
	for _, i := range b.ready {
		if b.after == nil || !b.after.whole || b.after.refusal != "" {
			b.answers[i] = connect.Answer{Outcome: connect.Unsure, Words: lost}
			if b.after != nil && b.after.refusal != "" {
				b.answers[i].Words = b.target + ": " + b.after.refusal
			}
			continue
		}
		b.answers[i] = connect.Verify(b.acts[i], schema, b.after, b.after.results[i])
		b.beside(i)
	}
}

// beside tells of the group that the account tools make with an account, and take away with it.
func (b *batch) beside(i int) {
	a := b.acts[i]
	if a.Object != model.Account || a.Verb != model.Create && a.Verb != model.Remove {
		return
	}
	group := model.Named{Kind: model.GroupKind, Name: a.Name}
	switch was, is := b.before.Object(group), b.after.Object(group); {
	case was == nil && is != nil:
		b.answers[i].Made = []model.Object{*is}
	case was != nil && is == nil:
		b.answers[i].Gone = []model.Named{group}
	}
}

// passwordMost is how long a password may be that the account tools and the
// sign-in take whole (PAM_MAX_RESP_SIZE).
const passwordMost = 511

// unfit says that a password cannot be handed to the account tools: they take a
// line for each account, so that a line break in one would set another's.
func unfit(a connect.Act) string {
	if words := unfitElevation(a.Act); words != "" {
		return words
	}
	for _, c := range a.Changes {
		for _, v := range c.After {
			if c.Sealed == "" && strings.ContainsFunc(v, unicode.IsControl) {
				return fmt.Sprintf("%s holds a line break or another control character, which no host takes", model.Called(c.Attribute))
			}
			if _, field := columns[c.Attribute]; (field || c.Attribute == home) && strings.Contains(v, ":") {
				return fmt.Sprintf("%s holds a colon, which no host takes", model.Called(c.Attribute))
			}
		}
	}
	for _, n := range []string{a.Name, a.Member} {
		if strings.ContainsFunc(n, unicode.IsControl) || a.Object != model.ElevationKind && a.Object != model.HomeKind &&
			strings.ContainsAny(n, ":,") {
			return fmt.Sprintf("no host takes the name %q", n)
		}
	}
	secret, set := a.Secrets[model.Password]
	if hash, hashed := a.Secrets[model.PasswordHash]; hashed {
		secret, set = hash, true
	}
	switch p := secret.Reveal(); {
	case set && len(p) == 0:
		return "a password of no letters would let everybody in"
	case bytes.ContainsFunc(p, unicode.IsControl):
		return "the password holds a line break or another control character, which no host takes"
	case len(p) > passwordMost:
		return fmt.Sprintf("the password has more than %d bytes, which no host takes", passwordMost)
	}
	return ""
}

// doubt says that an act speaks of a name that stands twice: the host's tools
// would change the first, and the system might read either.
func (r *reading) doubt(a model.Act) string {
	if a.Object == model.HomeKind && r.homes[a.Name] != nil && r.homes[a.Name].Attributes.Has(model.InUse) {
		return "somebody works in it now"
	}
	for _, n := range []model.Named{a.Of(), {Kind: a.MemberKind, Name: a.Member}} {
		if file := r.twice[n]; file != "" {
			return fmt.Sprintf("its name stands twice in %s; mend that on the host first", file)
		}
	}
	return ""
}
