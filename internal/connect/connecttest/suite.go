// Package connecttest is the suite that every connector passes against a real
// system, and a made-up target in memory that offers all there is to pass.
package connecttest

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// Subject is a connector and a target to try it on.
type Subject struct {
	Connector connect.Connector
	Access    connect.Access
	Login     string       // of an account that is not there yet
	Attribute model.Change // a change of one attribute of that account, before and after
	Number    string
	Loose     [2]string                              // a full name as it may be asked for, and as the target keeps it
	Things    []model.Act                            // what else can be made there, in order
	Seat      string                                 // a licence of one seat, which is free
	Rights    []string                               // permissions that can be given there, in canonical form
	Gate      bool                                   // the target tells of open accounts that it lets them in
	Blind     bool                                   // the target cannot tell whether it lets anybody in
	Elevates  bool                                   // what becoming superuser takes can be given, and tried
	Proves    bool                                   // a sign-in with a password can be tried
	SignedIn  func(t *testing.T) (session string)    // lets somebody sign in; nil: nobody can
	Change    func(t *testing.T, account string)     // changes an account behind our back; nil: no surveys from a mark
	Forget    func(t *testing.T, mark string) string // makes a mark void
	Fresh     []byte                                 // another secret for our own login; nil: it cannot be renewed
}

// suite is a subject under test.
type suite struct {
	Subject
	*testing.T
	schema model.Schema
	name   string // of the account
}

// Run puts a connector through the suite.
func Run(t *testing.T, s Subject) {
	t.Helper()
	x := suite{Subject: s, T: t, schema: s.Connector.Schema()}
	x.checkSchema()
	x.name = x.named(s.Login)
	for _, part := range []struct {
		name string
		test func(suite)
	}{{"objects", suite.objects}, {"drifted", suite.drifted}, {"names", suite.names}, {"canonical", suite.canonical},
		{"things", suite.things}, {"seats", suite.seats}, {"rights", suite.rights},
		{"secrets", suite.secrets}, {"elevation", suite.elevation}, {"sessions", suite.sessions}, {"since", suite.since}, {"whole",
			suite.whole},
		{"removal", suite.removal}, {"renewal", suite.renewal}, {"keys", suite.keys}} {
		if !t.Run(part.name, func(t *testing.T) { y := x; y.T = t; part.test(y) }) {
			return
		}
	}
}

func (x suite) open() connect.Session { return Open(x.T, x.Connector, x.Access) }

// named is the name of an account with a login, other parts as usual.
func (x suite) named(login string, rest ...string) string {
	k := x.schema.Account()
	parts := []string{login}
	for i, p := range k.Name[1:] {
		if parts = append(parts, p.Usual); i < len(rest) {
			parts[i+1] = rest[i]
		}
	}
	return k.Compose(parts...)
}

func (x suite) try(what string, acts []model.Act, want ...connect.Outcome) []connect.Answer {
	x.Helper()
	return x.apply(what, false, acts, want...)
}

func (x suite) apply(what string, again bool, acts []model.Act, want ...connect.Outcome) []connect.Answer {
	x.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	batch := make([]connect.Act, len(acts))
	for i, a := range acts {
		a.Changes = slices.DeleteFunc(slices.Clone(a.Changes), func(c model.Change) bool {
			return (c.Attribute == model.Number || c.Attribute == model.FullName) && !x.has(a.Object, c.Attribute)
		})
		batch[i] = connect.Act{Act: a, Stage: i, Again: again, Secrets: map[string]connect.Secret{}}
		for _, c := range a.Changes {
			switch c.Sealed {
			case "":
			case none:
				batch[i].Secrets[c.Attribute] = connect.Seal(nil)
			default:
				batch[i].Secrets[c.Attribute] = connect.Seal([]byte(c.Sealed + thePassword))
			}
		}
	}
	got := x.open().Apply(ctx, batch)
	if len(got) != len(acts) {
		x.Fatalf("%s: %d answers to %d acts", what, len(got), len(acts))
	}
	for i, w := range want {
		if got[i].Outcome != w {
			x.Errorf("%s: step %d (%s %s %s) ended %s (%s), want %s", what, i, acts[i].Verb, acts[i].Object, acts[i].Name, got[i].Outcome,
				got[i].Words, w)
		}
	}
	return got
}

// has says whether objects of a kind have an attribute there: not everywhere have accounts a number, or tell whose they are.
func (x suite) has(kind model.ObjectKind, attribute string) bool {
	_, ok := x.schema.Find(kind, attribute)
	return ok
}

const (
	hostile     = "Suite O'Neil; $(reboot) \"Ünal\""
	thePassword = "-Rope;'\"$(x) 91 knots"
	none        = "none" // the id of a secret that is empty
)

func group(verb model.Verb, name string, changes ...model.Change) model.Act {
	return model.Act{Verb: verb, Object: model.GroupKind, Name: name, Changes: changes}
}

func (x suite) account(verb model.Verb, name string, changes ...model.Change) model.Act {
	return model.Act{Verb: verb, Object: model.Account, Name: name, User: "suite", Changes: changes}
}

// joins is an act of each kind of set that accounts can be members of.
func move(verb model.Verb, kind model.ObjectKind, set, account string) model.Act {
	return model.Act{Verb: verb, Object: kind, Name: set, Member: account, MemberKind: model.Account,
		Changes: model.Entering(verb == model.JoinIt)}
}

func to(attribute string, after string) model.Change {
	return model.Change{Attribute: attribute, After: []string{after}}
}

func fromTo(attribute, before, after string) model.Change {
	return model.Change{Attribute: attribute, Before: []string{before}, After: []string{after}}
}

// objects makes, changes, shuts, opens, joins and leaves, and each once more.
func (x suite) objects() {
	create := x.account(model.Create, x.name, to(model.Number, x.Number), to(model.FullName, hostile),
		model.Change{Attribute: x.Attribute.Attribute, After: x.Attribute.Before})
	join := move(model.JoinIt, model.GroupKind, "suite-crew", x.name)
	all := []model.Act{group(model.Create, "suite-crew", to(model.Number, "5999")), create, join}
	answers := x.try("first time", all, connect.Done, connect.Done, connect.Done)
	full := ""
	if x.has(model.Account, model.FullName) {
		full = hostile
	}
	if o := answers[1].Object; o == nil || o.Attributes.One(model.FullName) != full {
		x.Errorf("the account was not read back: %+v", o)
	}
	if m := answers[2].In; m == nil || !*m {
		x.Error("that the account is in the group was not read back")
	}
	o := Find(x, x.open(), model.Account, x.name)
	if got := o.Attributes.One(model.FullName); got != full {
		x.Errorf("the full name came back as %q", got)
	}
	if got := o.Attributes.One(model.Disabled); got != "no" {
		x.Errorf("a new account is disabled: %q", got)
	}
	if g := Find(x, x.open(), model.GroupKind, "suite-crew"); !slices.Contains(g.Attributes.Get(model.Members), x.name) {
		x.Errorf("the group's list does not show the member: %v", g.Attributes)
	}
	x.try("second time", all, connect.AlreadySo, connect.AlreadySo, connect.AlreadySo)
	x.apply("after a lost connection", true, all, connect.Done, connect.Done, connect.Done)

	shut, opened := x.account(model.Disable, x.name, fromTo(model.Disabled, "no", "yes")),
		x.account(model.Enable, x.name, fromTo(model.Disabled, "yes", "no"))
	x.try("change", []model.Act{x.account(model.Modify, x.name, x.Attribute)}, connect.Done)
	x.try("disable", []model.Act{shut}, connect.Done)
	x.try("disable again", []model.Act{shut}, connect.AlreadySo)
	x.gate(connect.KeptOut)
	x.try("enable", []model.Act{opened}, connect.Done)
	if x.Gate {
		x.gate(connect.LetIn)
	}
	leave := move(model.LeaveIt, model.GroupKind, "suite-crew", x.name)
	if a := x.try("leave", []model.Act{leave}, connect.Done)[0]; a.In == nil || *a.In {
		x.Error("that the account is out of the group was not read back")
	}
	x.try("leave again", []model.Act{leave}, connect.AlreadySo)
}

// gate asks whether the account is let in. Who tells of one that is shut must tell so.
func (x suite) gate(want connect.AdmissionState) {
	s := x.open()
	_, can := s.(connect.Gate)
	for i, a := range connect.Admits(context.Background(), s, []string{x.name, "suite.nobody", "-x"}) {
		wanted := []connect.AdmissionState{want, connect.KeptOut, connect.KeptOut}[i]
		if !can || x.Blind {
			wanted = connect.NotTold
		}
		if a.State != wanted || a.Words == "" {
			x.Errorf("account %d of three: %+v, want %s", i+1, a, wanted)
		}
	}
}

// drifted meets what is otherwise than when the act was drafted.
func (x suite) drifted() {
	stale := model.Change{Attribute: x.Attribute.Attribute, Before: []string{"/something/else"}, After: x.Attribute.Before}
	x.try("changed since the survey", []model.Act{x.account(model.Modify, x.name, stale)}, connect.Moved)
	x.try("not there", []model.Act{x.account(model.Modify, x.named("suite.nobody"), x.Attribute)}, connect.Moved)
	x.try("no such group", []model.Act{move(model.JoinIt, model.GroupKind, "suite-none", x.name),
		move(model.LeaveIt, model.GroupKind, "suite-none", x.name)}, connect.Moved, connect.AlreadySo)
	x.try("there, and another", []model.Act{x.account(model.Create, x.name, to(model.FullName, "Somebody Else"),
		to(x.Attribute.Attribute, "something else"))}, connect.Moved)
	adopt := x.account(model.AdoptIt, x.name, fromTo(model.Owner, "nobody", "suite"))
	x.try("adopted alone", []model.Act{adopt}, connect.Done)
	join := move(model.JoinIt, model.GroupKind, "suite-crew", x.name)
	ghost := move(model.JoinIt, model.GroupKind, "suite-crew", x.named("suite.nobody"))
	x.try("one bad item does not stop the others", []model.Act{adopt, ghost, join}, connect.Done, connect.Failed, connect.Done)
	x.try("some in already", []model.Act{join, ghost, group(model.Create, "suite-more"),
		move(model.JoinIt, model.GroupKind, "suite-more", x.name)},
		connect.AlreadySo, connect.Failed, connect.Done, connect.Done)
}

// names makes a second account of one login where a name has further parts.
func (x suite) names() {
	k := x.schema.Account()
	for _, parts := range [][]string{{"a"}, {"a", "b"}, {"a@b", "c"}, {"", "x"}} {
		if len(k.Name) == len(parts) && !slices.Equal(k.Split(k.Compose(parts...)), parts) {
			x.Errorf("%q is taken apart as %q", parts, k.Split(k.Compose(parts...)))
		}
	}
	if len(k.Name) < 2 {
		return
	}
	second := x.named(x.Login, "10.1.%")
	x.try("a second account of the same login", []model.Act{x.account(model.Create, second, to(model.FullName, "Second"))}, connect.Done)
	if o := Find(x, x.open(), model.Account, x.name); x.has(model.Account, model.FullName) && o.Attributes.One(model.FullName) != hostile {
		x.Errorf("the first was changed: %v", o.Attributes.Map())
	}
	x.try("removed alone", []model.Act{x.account(model.Remove, second)}, connect.Done)
	Find(x, x.open(), model.Account, x.name)
}

// canonical asks for a value in another form than the target keeps it in.
func (x suite) canonical() {
	if x.Loose[0] == "" {
		return
	}
	change := []model.Act{x.account(model.Modify, x.name, fromTo(model.FullName, hostile, x.Loose[0]))}
	x.try("in a form of our own", change, connect.Done)
	if got := Find(x, x.open(), model.Account, x.name).Attributes.One(model.FullName); got != x.Loose[1] {
		x.Errorf("%q is kept as %q, not as %q", x.Loose[0], got, x.Loose[1])
	}
	x.try("again", change, connect.AlreadySo)
	s, _ := x.schema.Find(model.Account, model.FullName)
	if !s.Same([]string{x.Loose[0]}, []string{x.Loose[1]}) {
		x.Error("the schema does not know that both are the same")
	}
	x.try("back", []model.Act{x.account(model.Modify, x.name, fromTo(model.FullName, x.Loose[1], hostile))}, connect.Done)
}

// things are made, found so, changed back and removed: containers, rights, policies.
func (x suite) things() {
	for _, a := range x.Things {
		x.try("made", []model.Act{a}, connect.Done)
		o := Find(x, x.open(), a.Object, a.Name)
		for _, c := range a.Changes {
			if !slices.Equal(o.Attributes.Get(c.Attribute), c.After) {
				x.Errorf("%s of %s %s is %q", c.Attribute, a.Object, a.Name, o.Attributes.Get(c.Attribute))
			}
		}
		x.try("made again", []model.Act{a}, connect.AlreadySo)
	}
	for _, a := range slices.Backward(x.Things) {
		if !x.schema.Of(a.Object).Does(model.Remove) {
			continue
		}
		gone := model.Act{Verb: model.Remove, Object: a.Object, Name: a.Name}
		for _, c := range a.Changes {
			gone.Changes = append(gone.Changes, model.Change{Attribute: c.Attribute, Before: []string{"as it never was"}})
		}
		if len(a.Changes) > 0 {
			x.try("removed though it is otherwise", []model.Act{gone}, connect.Moved)
		}
		gone.Changes = nil
		x.try("removed", []model.Act{gone}, connect.Done)
		x.try("removed again", []model.Act{gone}, connect.AlreadySo)
	}
}

// seats are freed before they are taken, and one that is not free is not given.
func (x suite) seats() {
	if x.Seat == "" {
		return
	}
	if o := Find(x, x.open(), model.LicenceKind, x.Seat); o.Attributes.One(model.Seats) != "1" {
		x.Errorf("how many seats there are is not told: %v", o.Attributes.Map())
	}
	other := x.named("suite.two")
	x.try("two people, one seat", []model.Act{x.account(model.Create, other),
		move(model.JoinIt, model.LicenceKind, x.Seat, x.name), move(model.JoinIt, model.LicenceKind, x.Seat, other)},
		connect.Done, connect.Done, connect.Failed)
	x.try("freed, then taken", []model.Act{move(model.LeaveIt, model.LicenceKind, x.Seat, x.name),
		move(model.JoinIt, model.LicenceKind, x.Seat, other)}, connect.Done, connect.Done)
	x.try("the second goes", []model.Act{x.account(model.Remove, other)}, connect.Done)
}

// secrets are set, proved, and shown nowhere.
func (x suite) secrets() {
	s, can := x.schema.Find(model.Account, model.Password)
	if !can || !s.Sealed {
		return
	}
	set := x.account(model.Modify, x.name, model.Change{Attribute: model.Password, Sealed: "one"})
	answers := x.try("a password", []model.Act{set}, connect.Done)
	if said := fmt.Sprintf("%+v %v %q", answers, connect.Seal([]byte(thePassword)),
		[]any{connect.Seal([]byte(thePassword))}); strings.Contains(said, "Rope") || !strings.Contains(said, "(sealed)") {
		x.Errorf("a secret is shown: %s", said)
	}
	if o := Find(x, x.open(), model.Account, x.name); o.Attributes.Has(model.Password) || o.Attributes.Has(model.Passwordless) {
		x.Errorf("the password is read, or there is none: %v", o.Attributes.Map())
	}
	x.try("none at all", []model.Act{x.account(model.Modify, x.name, model.Change{Attribute: model.Password, Sealed: none})},
		connect.Failed)
	if !x.Proves {
		return
	}
	session := x.open()
	if p, words := connect.Prove(context.Background(), session, x.name, connect.Seal([]byte("one"+thePassword))); p != connect.Proved {
		x.Errorf("the new password: %s %s", p, words)
	}
	if p, words := connect.Prove(context.Background(), session, x.name, connect.Seal([]byte("another"))); p != connect.Disproved {
		x.Errorf("a wrong password: %s %s", p, words)
	}
	var wg sync.WaitGroup
	for i := range 4 { // several at once, as they come
		wg.Go(func() {
			word, want := "one"+thePassword, connect.Proved
			if i == 3 {
				word, want = "another", connect.Disproved
			}
			if p, words := connect.Prove(context.Background(), session, x.name, connect.Seal([]byte(word))); p != want {
				x.Errorf("beside others: %s %s, want %s", p, words, want)
			}
		})
	}
	wg.Wait()
	x.try("a second one", []model.Act{x.account(model.Modify, x.name, model.Change{Attribute: model.Password, Sealed: "two"})},
		connect.Done)
	if p, words := connect.Prove(context.Background(), session, x.name, connect.Seal([]byte("one"+thePassword))); p != connect.Disproved {
		x.Errorf("the first password still works: %s %s", p, words)
	}
	if _, has := x.schema.Find(model.Account, model.MustChange); has {
		x.try("one that must be changed", []model.Act{x.account(model.Modify, x.name,
			model.Change{Attribute: model.Password, Sealed: "three"}, to(model.MustChange, "yes"))}, connect.Done)
		if o := Find(x, x.open(), model.Account, x.name); o.Attributes.One(model.MustChange) != "yes" {
			x.Errorf("it need not be changed: %v", o.Attributes.Map())
		}
		if p, words := connect.Prove(context.Background(), session, x.name,
			connect.Seal([]byte("three"+thePassword))); p != connect.Proved {
			x.Errorf("the one that must be changed: %s %s", p, words)
		}
		x.try("it need not be changed", []model.Act{x.account(model.Modify, x.name, fromTo(model.MustChange, "yes", "no"))})
	}
	x.try("shut", []model.Act{x.account(model.Disable, x.name, fromTo(model.Disabled, "no", "yes"))}, connect.Done)
	x.try("a password while it is shut", []model.Act{x.account(model.Modify, x.name, model.Change{Attribute: model.Password,
		Sealed: "four"})},
		connect.Done)
	if o := Find(x, x.open(), model.Account, x.name); o.Attributes.One(model.Disabled) != "yes" {
		x.Errorf("a new password has opened it: %v", o.Attributes.Map())
	}
	x.try("open", []model.Act{x.account(model.Enable, x.name, fromTo(model.Disabled, "yes", "no"))}, connect.Done)
}

// elevation is given and taken, and tried by whoever has it.
func (x suite) elevation() {
	if k := x.schema.Of(model.ElevationKind); !k.Does(model.JoinIt) || !x.Elevates {
		return
	}
	x.try("a password to try it with", []model.Act{x.account(model.Modify, x.name, model.Change{Attribute: model.Password,
		Sealed: "five"})},
		connect.Done)
	secret := connect.Seal([]byte("five" + thePassword))
	for _, step := range []struct {
		verb model.Verb
		want connect.Proof
	}{{model.LeaveIt, connect.Disproved}, {model.JoinIt, connect.Proved}, {model.LeaveIt, connect.Disproved}} {
		x.try("elevation", []model.Act{move(step.verb, model.ElevationKind, "all", x.name)})
		x.try("elevation again", []model.Act{move(step.verb, model.ElevationKind, "all", x.name)}, connect.AlreadySo)
		if p, words := connect.ProveElevation(context.Background(), x.open(), x.name, secret); p != step.want {
			x.Errorf("after %s: %s %s, want %s", step.verb, p, words, step.want)
		}
	}
	if p, _ := connect.ProveElevation(context.Background(), x.open(), x.name, connect.Seal([]byte("another"))); p == connect.Proved {
		x.Error("a wrong password becomes superuser")
	}
}

// sessions are seen and ended.
func (x suite) sessions() {
	if x.SignedIn == nil {
		if _, err := connect.Watch(context.Background(), x.open()); err != nil && !errors.Is(err, errors.ErrUnsupported) {
			x.Errorf("who is signed in: %v", err)
		}
		return
	}
	name := x.SignedIn(x.T)
	s := x.open()
	seen := func() bool {
		list, err := connect.Watch(context.Background(), s)
		if err != nil {
			x.Fatal(err)
		}
		return slices.ContainsFunc(list, func(o model.Object) bool { return o.Name == name && o.Kind == model.SessionKind })
	}
	if !seen() {
		x.Fatalf("session %s is not seen", name)
	}
	for _, want := range []connect.Outcome{connect.Done, connect.AlreadySo} {
		if got := connect.End(context.Background(), s, []string{name}); len(got) != 1 || got[0].Outcome != want {
			x.Errorf("ending it: %+v, want %s", got, want)
		}
	}
	if seen() {
		x.Error("it is still there")
	}
}

// since goes on from a mark: what changed and nothing else, and what is gone.
func (x suite) since() {
	type seen struct{ found, gone []string }
	from := func(mark string) (next string, whole bool, out seen) {
		s, found := x.open(), func(o model.Object) error { out.found = append(out.found, o.Kind.String()+" "+o.Name); return nil }
		next, err := connect.Since(context.Background(), s, mark, found, func(n connect.Gone) error {
			out.gone = append(out.gone, n.Kind.String()+" "+n.Name+n.Unique)
			return nil
		})
		if whole = errors.Is(err, connect.ErrVoid); whole {
			if len(out.found)+len(out.gone) > 0 {
				x.Errorf("a void mark, and something was told: %v", out)
			}
			next, err = connect.Survey(context.Background(), s, found)
		}
		if err != nil {
			x.Fatal(err)
		}
		return next, whole, out
	}
	mark, whole, all := from("")
	if !whole || !slices.Contains(all.found, "account "+x.name) {
		x.Fatalf("the first survey is not whole: %v", all)
	}
	if x.Change == nil {
		return
	}
	if _, whole, again := from(mark); whole || slices.Contains(again.found, "account "+x.name) {
		x.Errorf("nothing changed, and it was told again: %v", again)
	}
	x.Change(x.T, x.name)
	x.try("a second account, for a time", []model.Act{x.account(model.Create, x.named("suite.brief"), to(model.FullName, "Brief"),
		to(model.Number, "1888"))}, connect.Done)
	brief := Find(x, x.open(), model.Account, x.named("suite.brief"))
	middle, _, some := from(mark)
	if !slices.Contains(some.found, "account "+x.name) || !slices.Contains(some.found, "account "+brief.Name) ||
		len(some.found) >= len(all.found) {
		x.Errorf("what changed is not told, or more than that: %v of %v", some, all)
	}
	if o := Find(x, x.open(), model.Account, x.name); slices.Contains(some.gone, "account "+o.Unique) ||
		slices.Contains(some.gone, "account "+o.Name) || slices.Contains(some.gone, " "+o.Unique) {
		x.Errorf("what changed is told to be gone: %v", some.gone)
	}
	x.try("it goes", []model.Act{x.account(model.Remove, brief.Name)}, connect.Done)
	if _, _, rest := from(middle); !slices.Contains(rest.gone, "account "+brief.Unique) &&
		!slices.Contains(rest.gone, "account "+brief.Name) {
		x.Errorf("that it is gone is not told: %v", rest)
	}
	if x.Forget != nil {
		if _, whole, anew := from(x.Forget(x.T, middle)); !whole || !slices.Contains(anew.found, "account "+x.name) {
			x.Errorf("after a void mark not everything was told: %v", anew)
		}
	}
}

// whole takes a batch all or nothing, and goes back when nobody confirms.
func (x suite) whole() {
	s := x.open()
	told := 0
	tell := func(connect.Mark) error { told++; return nil }
	act := func(name string) connect.Act {
		return connect.Act{Act: x.account(model.Create, name, to(model.FullName, "On Trial"))}
	}
	first, second := x.named("suite.trial"), x.named("suite.other")
	bad := connect.Act{Act: x.account(model.Modify, x.named("suite.nobody"), x.Attribute)}
	got, ok := connect.Whole(context.Background(), s, []connect.Act{act(first), bad}, tell)
	if !ok {
		return
	}
	if got[0].Outcome != connect.NotTried || got[1].Outcome != connect.Moved || told != 1 {
		x.Errorf("one of two cannot be: %+v, told %d times", got, told)
	}
	x.absent(first)
	got, _ = connect.Whole(context.Background(), s, []connect.Act{act(first)},
		func(connect.Mark) error { return errors.New("the journal is away") })
	if got[0].Outcome != connect.NotTried {
		x.Errorf("without a journal: %+v", got)
	}
	x.absent(first)
	if got, _ = connect.Whole(context.Background(), s, []connect.Act{act(first), act(second)}, tell); got[0].Outcome != connect.Done ||
		got[1].Outcome != connect.Done {
		x.Errorf("both can be: %+v", got)
	}
	x.try("they go", []model.Act{x.account(model.Remove, first), x.account(model.Remove, second)}, connect.Done, connect.Done)
	if lines, err := connect.Preview(context.Background(), s, []connect.Act{act(first)}); err != nil || len(lines) == 0 {
		x.Errorf("the target's own difference: %v %v", lines, err)
	}
}

func (x suite) absent(account string) {
	x.Helper()
	if err := x.open().Survey(context.Background(), func(o model.Object) error {
		if o.Kind == model.Account && o.Name == account {
			x.Errorf("%s is there", account)
		}
		return nil
	}); err != nil {
		x.Fatal(err)
	}
}

// removal takes what is still as it was, and what is gone is gone.
func (x suite) removal() {
	gone := x.account(model.Remove, x.name, model.Change{Attribute: model.Disabled, Before: []string{"yes"}})
	if !x.schema.Account().Does(model.Remove) {
		x.Fatal("accounts cannot be removed")
	}
	x.try("open again since", []model.Act{gone}, connect.Moved)
	x.try("shut", []model.Act{x.account(model.Disable, x.name, fromTo(model.Disabled, "no", "yes"))}, connect.Done)
	kept, err := connect.Keep(context.Background(), x.open(), []string{x.name, x.named("suite.nobody")})
	if _, can := x.open().(connect.Keeper); err != nil || can && len(kept) != 1 {
		x.Errorf("what makes it again: %d of one, %v", len(kept), err)
	}
	x.try("removed", []model.Act{gone}, connect.Done)
	x.absent(x.name)
	x.again(kept[x.name])
	x.try("removed again", []model.Act{gone}, connect.AlreadySo)
	x.apply("removed before the connection was lost", true, []model.Act{gone}, connect.Done)
	x.try("the groups", []model.Act{group(model.Remove, "suite-crew"), group(model.Remove, "suite-more")}, connect.Done, connect.Done)
	x.try("the groups again", []model.Act{group(model.Remove, "suite-crew")}, connect.AlreadySo)
}

// keys that are not the accepted one end everything before it begins.
func (x suite) keys() {
	for _, key := range []string{"", "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGq3kq0n7cPZqkqL0g9jV7kB5dL4W2Vd2m1o1b0T8mYf"} {
		wrong := x.Access
		wrong.Key = key
		var k *connect.KeyError
		if _, err := x.Connector.Open(context.Background(), wrong); !errors.As(err, &k) {
			x.Errorf("the key %q was not refused: %v", key, err)
		}
	}
	s := x.open()
	if s.Close() != nil {
		x.Error("closing fails")
	}
	_ = s.Close() // once more does no harm
}

// checkSchema finds schemas that cannot be right.
func (x suite) checkSchema() {
	s := x.schema
	if _, ok := s.Find(model.Account, model.Disabled); !ok {
		x.Error("the schema does not say how an account is disabled")
	}
	for _, need := range s.Needs {
		if !slices.Contains(s.Settings, need) {
			x.Errorf("setting %q is needed but not known", need)
		}
	}
	for _, k := range s.Kinds {
		if len(k.Verbs) > 0 && len(k.Name) == 0 {
			x.Errorf("nobody knows how a %s may be called", k.Kind)
		}
		if len(k.Name) > 1 && k.Joint == "" {
			x.Errorf("the parts of the name of a %s run into each other", k.Kind)
		}
		if k.Does(model.JoinIt) != k.Does(model.LeaveIt) || k.Does(model.JoinIt) && len(k.Members) == 0 {
			x.Errorf("who can join a %s, and leave it, is not clear", k.Kind)
		}
	}
}

// Accept asks the target for its identity key and accepts it.
func Accept(t testing.TB, c connect.Connector, a connect.Access) connect.Access {
	t.Helper()
	var err error
	for range 3 { // on a busy machine a system that has just started may not answer in time
		_, err = c.Open(context.Background(), a)
		if k, ok := err.(*connect.KeyError); ok {
			a.Key = k.Offered
			return a
		}
	}
	t.Fatalf("no unknown key was reported: %v", err)
	return a
}

// Open opens a session that ends with the test.
func Open(t testing.TB, c connect.Connector, a connect.Access) connect.Session {
	t.Helper()
	s, err := c.Open(context.Background(), a)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

// Find surveys and returns one object.
func Find(t testing.TB, s connect.Session, kind model.ObjectKind, name string) model.Object {
	t.Helper()
	var out model.Object
	err := s.Survey(context.Background(), func(o model.Object) error {
		if o.Kind == kind && o.Name == name {
			out = o
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if out.Name == "" {
		t.Fatalf("the survey did not see %s %q", kind, name)
	}
	return out
}
