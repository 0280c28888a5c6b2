// Package connecttest is the suite that every connector passes against a real
// system, and a made-up target in memory that offers all there is to pass.
package connecttest

import (
	"context"
	"errors"
	"slices"
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
		{"closed", suite.closed}, {"removal", suite.removal}, {"renewal", suite.renewal}, {"keys", suite.keys}} {
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
	was := x.surveyed()
	s := x.open()
	got := connect.Apply(ctx, s, batch)
	s.Close()
	if len(got) != len(acts) {
		x.Fatalf("%s: %d answers to %d acts", what, len(got), len(acts))
	}
	for i, w := range want {
		if got[i].Outcome != w {
			x.Errorf("%s: step %d (%s %s %s) ended %s (%s), want %s", what, i, acts[i].Verb, acts[i].Object, acts[i].Name, got[i].Outcome,
				got[i].Words, w)
		}
	}
	x.agrees(what, was, acts, got)
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
	can := s.Offers().Admits != nil
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

// removal takes what is still as it was, and what is gone is gone.
func (x suite) removal() {
	gone := x.account(model.Remove, x.name, model.Change{Attribute: model.Disabled, Before: []string{"yes"}})
	if !x.schema.Account().Does(model.Remove) {
		x.Fatal("accounts cannot be removed")
	}
	x.try("open again since", []model.Act{gone}, connect.Moved)
	x.try("shut", []model.Act{x.account(model.Disable, x.name, fromTo(model.Disabled, "no", "yes"))}, connect.Done)
	kept, err := connect.Keep(context.Background(), x.open(), []string{x.name, x.named("suite.nobody")})
	if err != nil || x.open().Offers().Keep != nil && len(kept) != 1 {
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
