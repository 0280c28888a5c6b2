package dialect

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/candidate"
	"hen-roost/internal/core/model"
	language "hen-roost/internal/dialect"
)

// batch is acts that are carried out, and what was.
type batch struct {
	connect.Usual
	connect.View
	*connect.Batch
	*session
	kinds   map[model.ObjectKind]bool
	before  *seen
	done    []connect.Act // in the order in which they were
	entered bool          // the mode in which something can be changed
	barred  error         // why that cannot be entered
}

// kindsOf are the kinds of which a batch must know: those that it changes, those that are moved, and accounts, which may tell
// what they are in.
func (s *session) kindsOf(acts []connect.Act) map[model.ObjectKind]bool {
	out := map[model.ObjectKind]bool{}
	for _, a := range acts {
		out[a.Object] = true
		if a.Moves() {
			out[a.MemberKind] = true
			for name, h := range s.file.Holds {
				for _, l := range h.List {
					if l.In[a.Object.String()].Set() {
						out[model.KindNamed(name)] = true
					}
				}
			}
		}
	}
	return out
}

// Begin implements connect.Session.
func (s *session) Begin(ctx context.Context, acts []connect.Act) (connect.Carrier, error) {
	if s.file.Draft != nil {
		return candidate.Begin(ctx, draft{s}, acts)
	}
	b, err := s.begun(ctx, acts)
	if err != nil {
		return nil, s.fail("read", err)
	}
	return b, nil
}

func (s *session) begun(ctx context.Context, acts []connect.Act) (*batch, error) {
	kinds := s.kindsOf(acts)
	before, err := s.list(ctx, kinds)
	if err != nil {
		return nil, err
	}
	return &batch{Usual: connect.Usual{Schema: s.file.Schema()}, View: before, session: s, kinds: kinds, before: before}, nil
}

// Carry implements connect.Carrier.
func (b *batch) Carry(ctx context.Context, x *connect.Batch, ready []int) {
	b.Batch = x
	b.carry(ctx, ready)
}

// ReadBack implements connect.Carrier.
func (b *batch) ReadBack(ctx context.Context, x *connect.Batch) (connect.View, error) {
	b.Batch = x
	if b.Lost == nil && b.talk != nil && len(b.done) > 0 {
		b.proveOurs(ctx)
	}
	if b.entered && b.Lost == nil {
		if err := b.lines(ctx, b.file.Mode.Leave); language.Broken(err) { // what else is said of it changes nothing that was done
			b.Lost = err
		}
	}
	v, err := x.After(func([]connect.Act) (connect.View, error) { return b.list(ctx, b.kinds) })
	if err != nil {
		return nil, b.fail("change", err)
	}
	return v, nil
}

// carry types what the acts of one stage take, those that go many at once together.
func (b *batch) carry(ctx context.Context, ready []int) {
	if b.file.Job != nil {
		b.job(ctx, ready)
		return
	}
	type way struct {
		verb model.Verb
		of   model.Named
	}
	together := map[way][]int{}
	for _, i := range ready {
		a := b.Acts[i]
		if b.Lost != nil || a.Verb == model.AdoptIt {
			continue
		}
		if b.displaced(a) {
			b.done = slices.Insert(b.done, 0, a) // taken back last, so that they enter it again
			continue
		}
		if !b.enters(ctx, i) {
			continue
		}
		if _, can := b.file.Holds[a.Object.String()].Together(a.Verb); can && len(a.Changes) < 2 {
			w := way{a.Verb, model.Named{Kind: a.Object}}
			if a.Moves() {
				w.of = a.Of()
			}
			together[w] = append(together[w], i)
			continue
		}
		b.one(ctx, i)
	}
	for _, w := range slices.SortedFunc(maps.Keys(together), func(x, y way) int {
		return cmp.Or(strings.Compare(string(x.verb), string(y.verb)), x.of.Compare(y.of))
	}) {
		c, _ := b.file.Holds[w.of.Kind.String()].Together(w.verb)
		for some := range slices.Chunk(together[w], c.Many) {
			if b.Lost == nil {
				b.many(ctx, c, some)
			}
		}
	}
}

// displaced says of an act that takes somebody out of a set whether they leave it by entering another in the same batch: then
// nothing is typed for it, and they are never without.
func (b *batch) displaced(a connect.Act) bool {
	if h := b.file.Holds[a.Object.String()]; a.Verb != model.LeaveIt || h == nil || len(h.OneOf) == 0 {
		return false
	}
	return slices.ContainsFunc(b.Acts, func(x connect.Act) bool {
		return x.Verb == model.JoinIt && x.Object == a.Object && x.Member == a.Member && x.MemberKind == a.MemberKind
	})
}

// enters enters the mode in which something can be changed, before the first act. Where that cannot be, no act can.
func (b *batch) enters(ctx context.Context, i int) bool {
	if !b.entered && b.barred == nil && b.file.Mode != nil {
		b.barred = b.lines(ctx, b.file.Mode.Enter)
		b.entered = b.barred == nil
	}
	if language.Broken(b.barred) {
		b.Lost = b.barred
	} else if b.barred != nil {
		b.Trouble[i] = b.barred
	}
	return b.barred == nil
}

// lines types lines that are as they stand.
func (s *session) lines(ctx context.Context, list []language.Text) error {
	for _, t := range list {
		answer, err := s.say(ctx, t.Raw, nil, s.vars(), "")
		if err != nil {
			return err
		}
		if why := s.file.Failure(answer); why != "" {
			return failed(connect.Printable(why))
		}
	}
	return nil
}

// one carries out one act.
func (b *batch) one(ctx context.Context, i int) {
	a := b.Acts[i]
	err := b.typed(a, b.speaking(ctx))
	switch {
	case err == nil:
		b.done = append(b.done, a)
	case language.Broken(err):
		b.Lost = err
	default:
		b.Trouble[i] = errors.New(connect.Printable(err.Error()))
	}
}

// speaker types a line, and returns what is answered.
type speaker func(line string, c language.Command, vars language.Vars) (string, error)

// speaking types at the system, and answers what it asks.
func (s *session) speaking(ctx context.Context) speaker {
	return func(line string, c language.Command, vars language.Vars) (string, error) {
		input, err := c.Input.Plain(vars)
		if err != nil {
			return "", err
		}
		return s.say(ctx, line, c.Answer, vars, input)
	}
}

// typed types what an act takes.
func (s *session) typed(a connect.Act, say speaker) error {
	h := s.file.Holds[a.Object.String()]
	if h == nil {
		return failed(fmt.Sprintf("the dialect %s says nothing of a %s", s.file.Kind, a.Object))
	}
	vars := s.vars()
	vars["name"], vars["set"], vars["member"], vars["kind"] = a.Name, a.Name, a.Member, a.MemberKind.String()
	if vars["names"] = []string{a.Name}; a.Moves() { // of a command for many, one alone
		vars["names"] = []string{a.Member}
	}
	want, was := map[string]any{}, map[string]any{}
	for _, c := range a.Changes {
		want[language.Key(c.Attribute)], was[language.Key(c.Attribute)] = plain(c.After), plain(c.Before)
	}
	vars["want"], vars["was"] = want, was
	send := func(list []language.Command) error { return s.send(list, vars, say) }
	switch a.Verb {
	case model.Create:
		if err := send(h.Create); err != nil {
			return err
		}
		if err := s.set(a, h, vars, send); err != nil {
			return err
		}
		return send(h.Then)
	case model.Modify:
		return s.set(a, h, vars, send)
	case model.Enable: // with whatever else is to be so when it is open, as a new password
		if err := s.set(a, h, vars, send); err != nil {
			return err
		}
		return send(h.Enable)
	case model.Disable:
		if err := send(h.Disable); err != nil {
			return err
		}
		return s.set(a, h, vars, send)
	}
	return send(h.Commands(a.Verb))
}

// send types commands, one after the other.
func (s *session) send(list []language.Command, vars language.Vars, say speaker) error {
	return s.file.Sent(list, vars, func(line string, c language.Command) (string, error) { return say(line, c, vars) })
}

// set types what the changes of an act take, one after the other.
func (s *session) set(a connect.Act, h *language.Holds, vars language.Vars, send func([]language.Command) error) error {
	for _, c := range a.Changes {
		if c.Attribute == model.Disabled && (a.Verb == model.Enable || a.Verb == model.Disable) {
			continue
		}
		commands, can := h.Set[c.Attribute]
		if !can {
			return failed(c.Attribute + " cannot be set there")
		}
		vars["value"] = plain(c.After)
		if c.Sealed != "" || a.Secrets[c.Attribute].Reveal() != nil {
			secret := a.Secrets[c.Attribute]
			if secret.Empty() {
				return failed("there is no secret to be set")
			}
			vars["secret"], vars["value"] = string(secret.Reveal()), nil
		}
		if err := send(commands); err != nil {
			return err
		}
	}
	return nil
}

// plain is a value as expressions see it: one, several, or none.
func plain(values []string) any {
	switch len(values) {
	case 0:
		return ""
	case 1:
		return values[0]
	}
	return values
}

// many carries out acts that go at once, and hears which of them did not.
func (b *batch) many(ctx context.Context, c language.Command, places []int) {
	vars := b.vars()
	vars["set"] = b.Acts[places[0]].Name
	names, at := make([]string, 0, len(places)), map[string]int{}
	for _, i := range places {
		name := b.Acts[i].Name
		if b.Acts[i].Moves() {
			name = b.Acts[i].Member
		}
		if _, err := b.file.Quote.Word(name); err != nil { // it would keep the others from being said
			b.Trouble[i] = errors.New(connect.Printable(err.Error()))
			continue
		}
		names, at[name] = append(names, name), i
	}
	vars["names"] = names
	if len(names) == 0 {
		return
	}
	answer := ""
	err := b.file.Sent([]language.Command{c}, vars, func(line string, c language.Command) (text string, err error) {
		answer, err = b.say(ctx, line, c.Answer, vars, "")
		var told *language.Failed
		if c.Each.Set() && (err == nil || errors.As(err, &told)) && c.Each.MatchString(answer) {
			return "", nil // it tells of each that it did not do
		}
		return answer, err
	})
	if language.Broken(err) {
		b.Lost = err
		return
	}
	for line := range strings.Lines(answer) {
		m := c.Each.FindStringSubmatch(strings.TrimRight(line, "\r\n"))
		if m == nil {
			continue
		}
		if i, known := at[m[c.Each.SubexpIndex("name")]]; known {
			b.Trouble[i] = errors.New(connect.Printable(m[c.Each.SubexpIndex("why")]))
		}
	}
	for _, i := range places {
		switch {
		case b.Trouble[i] != nil:
		case err != nil:
			b.Trouble[i] = errors.New(connect.Printable(err.Error()))
		default:
			b.done = append(b.done, b.Acts[i])
		}
	}
}

// proveOurs has our own login let in anew, on a connection of its own. Where it is not any more, what was done is taken back on
// the conversation that is still open.
func (b *batch) proveOurs(ctx context.Context) {
	other, err := Connector{File: b.file}.signIn(ctx, b.access, b.access.As, b.access.Secret)
	if err == nil {
		other.Close()
		return
	}
	if !errors.As(err, new(*connect.Refused)) {
		return // nothing is known of it
	}
	words := "after it our own login was let in no more, so it was taken back"
	for _, a := range slices.Backward(b.done) {
		back, can := inverse(a)
		if can {
			err = b.typed(back, b.speaking(ctx))
		}
		if !can || err != nil {
			words = fmt.Sprintf("after it our own login was let in no more, and %s %s could not be taken back", a.Verb, a.Name)
		}
		if language.Broken(err) {
			b.Lost = err
			break
		}
	}
	for i, a := range b.Acts {
		if slices.ContainsFunc(b.done, func(d connect.Act) bool { return d.Key() == a.Key() }) {
			b.Trouble[i] = errors.New(words)
		}
	}
}

// inverse is the act that takes another back; what was removed cannot be.
func inverse(a connect.Act) (connect.Act, bool) {
	verb, can := map[model.Verb]model.Verb{model.Modify: model.Modify, model.Create: model.Remove, model.Disable: model.Enable,
		model.Enable: model.Disable, model.JoinIt: model.LeaveIt, model.LeaveIt: model.JoinIt}[a.Verb]
	a.Verb = verb
	changes := slices.Clone(a.Changes)
	for i, c := range changes {
		changes[i].Before, changes[i].After = c.After, c.Before
		can = can && (c.Sealed == "" || verb == model.Remove)
	}
	a.Changes = changes
	return a, can
}
