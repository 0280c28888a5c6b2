package host

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"
	"unicode"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// Begin implements connect.Session: it begins the one exec in which acts are read, carried out and read back, and in which the
// host's account files are locked.
func (s *session) Begin(ctx context.Context, acts []connect.Act) (connect.Carrier, error) {
	limit := s.access.Patience() + time.Duration(len(acts))*2*time.Second + time.Minute // the minute is for the lock
	for _, a := range acts {
		if a.Object == model.HomeKind || a.Verb == model.Remove || a.Verb == model.Modify && a.After().Has(model.Number) {
			limit += searchFor // every file of the host may be looked at
			break
		}
	}
	b := &batch{target: s.access.Target, asked: make(chan struct{}), program: make(chan string), over: make(chan error, 1)}
	go func() {
		b.over <- s.exec(ctx, limit, func(in io.WriteCloser, out io.Reader) error {
			return b.talk(in, newAnswer(out, s.access.As), askScript(acts, s.access.Urgent, s.access.Settings))
		})
	}()
	var err error
	select {
	case <-b.asked:
		if r := b.before; r.whole && r.refusal == "" {
			b.View, b.expected = r, connect.Expect(r)
			b.steps = newProgram(r.system.Attributes.One(tools), s.access.Settings[elevationSetting])
			return b, nil
		}
		err = b.end("")
	case err = <-b.over:
	}
	if r := b.before; r != nil && r.refusal != "" {
		return nil, &connect.Declined{Err: fmt.Errorf("%s: %s", b.target, r.refusal)}
	}
	return nil, b.lost(err)
}

// searchFor is how long looking at all files of a host may take.
const searchFor = 8 * time.Minute

// batch is a conversation with a host about some acts.
type batch struct {
	connect.View
	target   string
	steps    *program
	before   *reading // not whole: the connection was lost before anything was done
	after    *reading
	expected *connect.Expected // the host when the steps so far are carried out
	asked    chan struct{}     // closed when before is read
	program  chan string       // what the host is told to do; "": nothing
	over     chan error        // how the exec ended
}

// talk is the conversation, from its beginning to its end.
func (b *batch) talk(in io.WriteCloser, out *answer, ask string) (err error) {
	say(in, ask, false)
	b.before, err = out.read()
	if err != nil {
		in.Close()
		return err
	}
	close(b.asked)
	script := <-b.program
	if script == "" {
		in.Close()
		return nil
	}
	say(in, script+"tell\necho Z:\n", true)
	b.after, err = out.read()
	return err
}

// end has the host do something, or nothing, and returns when the exec has ended.
func (b *batch) end(script string) error {
	select {
	case b.program <- script:
		return <-b.over
	case err := <-b.over:
		return err
	}
}

// Judge implements connect.Carrier.
func (b *batch) Judge(a connect.Act, expected connect.View) (connect.Standing, string) {
	if words := b.before.doubt(a.Act); words != "" {
		return connect.Drifted, words
	}
	if words := unfit(a); words != "" {
		return connect.Barred, words
	}
	return connect.Judge(a, schema, expected)
}

// Carry implements connect.Carrier: the acts of all stages are carried out by one script.
func (b *batch) Carry(_ context.Context, x *connect.Batch, ready []int) {
	for _, i := range ready {
		if x.Acts[i].Verb != model.AdoptIt {
			b.steps.add(i, x.Acts[i], b.expected)
			b.expected.Take(x.Acts[i].Act)
		}
	}
}

// ReadBack implements connect.Carrier.
func (b *batch) ReadBack(_ context.Context, x *connect.Batch) (connect.View, error) {
	for i := range x.Answers { // what was cut off once may have done this beside
		if x.Acts[i].Again && x.Answers[i].Outcome == connect.Done {
			b.beside(x.Acts[i], b.before, &x.Answers[i])
		}
	}
	script := ""
	if x.Sent() != nil {
		b.steps.flush()
		script = b.steps.script.String()
	}
	err := b.end(script)
	switch r := b.after; {
	case script == "":
		return b.before, nil
	case r != nil && r.refusal != "":
		return nil, fmt.Errorf("%s: %s", b.target, r.refusal)
	case r == nil || !r.whole:
		return nil, b.lost(err)
	}
	for i, said := range b.after.results {
		if said != "" {
			x.Trouble[i] = errors.New(said)
		}
	}
	return b.after, nil
}

func (b *batch) lost(err error) error {
	if err == nil {
		err = errors.New("the connection was lost before the host answered")
	}
	return fmt.Errorf("%s: %w", b.target, err)
}

// Answer implements connect.Carrier.
func (b *batch) Answer(a connect.Act, after connect.View, trouble error) connect.Answer {
	words := ""
	if trouble != nil {
		words = trouble.Error()
	}
	out := connect.Verify(a, schema, after, words)
	b.beside(a, after, &out)
	return out
}

// beside tells of the group that the account tools make with an account, and take away with it.
func (b *batch) beside(a connect.Act, after connect.View, answer *connect.Answer) {
	if a.Object != model.Account || a.Verb != model.Create && a.Verb != model.Remove {
		return
	}
	group := model.Named{Kind: model.GroupKind, Name: a.Name}
	switch was, is := b.before.Object(group), after.Object(group); {
	case is != nil && (was == nil || a.Again && a.Verb == model.Create):
		answer.Made = []model.Object{*is}
	case is == nil && (was != nil || a.Again && a.Verb == model.Remove):
		answer.Gone = []model.Named{group}
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
			if (fields[c.Attribute].column != "" || c.Attribute == home) && strings.Contains(v, ":") {
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
