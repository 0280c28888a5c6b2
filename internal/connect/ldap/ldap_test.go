package ldap_test

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/connect/ldap"
	"hen-roost/internal/core/model"
	"hen-roost/internal/demo/world"
)

func start(t *testing.T, entries string) (*world.Directory, connect.Access) {
	t.Helper()
	d, err := world.StartDirectory(context.Background(), t.TempDir(), "127.0.4.11", entries, false)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(d.Stop)
	a := connect.Access{Target: "staff-directory", Address: d.Address, As: world.Login, Secret: []byte(d.Password), Wait: 5 * time.Second,
		Settings: map[string]string{"people": "ou=People," + world.Suffix, "groups": "ou=Groups," + world.Suffix}}
	return d, connecttest.Accept(t, ldap.Connector{}, a)
}

func TestSuite(t *testing.T) {
	d, a := start(t, "")
	connecttest.Run(t, connecttest.Subject{Proves: true, Fresh: []byte("a-fresh-one-for-us-90"),
		Change: func(t *testing.T, account string) {
			if err := d.Load("dn: uid=" + account + ",ou=People," + world.Suffix +
				"\nchangetype: modify\nreplace: loginShell\nloginShell: /bin/zsh\n"); err != nil {
				t.Fatal(err)
			}
		},
		Forget:    long,
		Connector: ldap.Connector{}, Access: a, Login: "suite.one", Number: "1999", Loose: [2]string{" Suite   One ", "Suite One"},
		Attribute: model.Change{Attribute: "shell", Before: []string{"/bin/sh"}, After: []string{"/bin/bash"}}})
}

// An account that no policy locks is let in though it is shut: the directory is not said to refuse it.
func TestGateWithoutPolicy(t *testing.T) {
	d, a := start(t, "")
	s := connecttest.Open(t, ldap.Connector{}, a)
	act := func(verb model.Verb, changes ...model.Change) connect.Act {
		a := connect.Act{Act: model.Act{Verb: verb, Object: model.Account, Name: "zoe", Changes: changes}}
		if verb == model.Create {
			a.Secrets = map[string]connect.Secret{model.Password: connect.Seal([]byte("Rope-91-knots"))}
		}
		return a
	}
	if err := d.Load("dn: cn=everybody,ou=Policies," + world.Suffix + "\nchangetype: modify\nreplace: pwdLockout\n" +
		"pwdLockout: FALSE\n"); err != nil {
		t.Fatal(err)
	}
	made := connecttest.Apply(s, []connect.Act{act(model.Create, model.Change{Attribute: model.FullName, After: []string{"Zoe"}},
		model.Change{Attribute: model.Number, After: []string{"1701"}}, model.Change{Attribute: model.Password, Sealed: "x"})})
	shut := connecttest.Apply(s, []connect.Act{act(model.Disable, model.Change{Attribute: model.Disabled, Before: []string{"no"},
		After: []string{"yes"}})})
	in, err := s.Offers().Prove(context.Background(), "zoe", connect.Seal([]byte("Rope-91-knots")))
	if made[0].Outcome != connect.Done || shut[0].Outcome != connect.Done || !in || err != nil ||
		!strings.Contains(shut[0].Words, "not proved: the directory does not say that it refuses it") {
		t.Fatalf("%+v %+v %v %v", made, shut, in, err)
	}
	if got := connect.Admits(context.Background(), s, []string{"zoe"})[0]; got.State != connect.NotTold || !strings.Contains(got.Words,
		"pwdLockout") {
		t.Errorf("%+v", got)
	}
}

// long is a mark whose cookies are from long ago.
func long(t *testing.T, mark string) string {
	t.Helper()
	m := map[string]any{}
	err := json.Unmarshal([]byte(mark), &m)
	for _, key := range []string{"people", "groups"} {
		text, _ := m[key].(string)
		cookie, bad := base64.StdEncoding.DecodeString(text)
		m[key] = bytes.ReplaceAll(cookie, []byte("csn=2"), []byte("csn=1"))
		err = errors.Join(err, bad)
	}
	b, bad := json.Marshal(m)
	if err = errors.Join(err, bad); err != nil {
		t.Fatal(err)
	}
	return string(b)
}

// A directory tells what it is, where it says so.
func TestDetails(t *testing.T) {
	_, a := start(t, "")
	o := connecttest.Find(t, connecttest.Open(t, ldap.Connector{}, a), model.SystemKind, model.Itself)
	for attribute, want := range map[string]string{model.ClockOff: "0", "naming-contexts": world.Suffix, model.System: "OpenLDAP",
		model.UpSince: "20"} {
		if !strings.HasPrefix(o.Attributes.One(attribute), want) {
			t.Errorf("%s: %v", attribute, o.Attributes.Map())
		}
	}
}

// The tree is told by its units, and one that has come is noticed by what is told since.
func TestPlaces(t *testing.T) {
	d, a := start(t, "")
	s := connecttest.Open(t, ldap.Connector{}, a)
	within := map[string]string{}
	found := func(o model.Object) error {
		if o.Kind == model.PlaceKind {
			within[o.Name] = o.Attributes.One(model.Within)
		}
		return nil
	}
	mark, err := connect.Survey(context.Background(), s, found)
	people := "ou=People," + world.Suffix
	if _, there := within[people]; err != nil || !there || within[people] != "" {
		t.Fatalf("%v %v", within, err)
	}
	unit := `ou=Crew\, on board,` + people
	if err := d.Load("dn: " + unit + "\nobjectClass: organizationalUnit\nou: Crew, on board\n"); err != nil {
		t.Fatal(err)
	}
	none := func(connect.Gone) error { return nil }
	if _, err := connect.Since(context.Background(), s, mark, found, none); !errors.Is(err, connect.ErrVoid) {
		t.Errorf("a new unit is not noticed: %v", err)
	}
	if mark, err = connect.Survey(context.Background(), s, found); err != nil || within[`ou=Crew\2C on board,`+people] != people && within[unit] != people {
		t.Errorf("%v %v", within, err)
	}
	if _, err := connect.Since(context.Background(), s, mark, found, none); err != nil {
		t.Errorf("nothing changed: %v", err)
	}
}

// Names with all that RFC 4514 and RFC 4515 escape go there and come back.
func TestOddNames(t *testing.T) {
	d, a := start(t, "")
	s := connecttest.Open(t, ldap.Connector{}, a)
	odd := []string{`Durand, "Amélie"`, ` leading`, `a*b(c)\d`, `x=1+y=2;<z>`, `#hash`, `o'neil; reboot`, `نور`}
	acts := []connect.Act{{Stage: 0, Act: model.Act{Verb: model.Create, Object: model.GroupKind, Name: `odd, "crew"`}}}
	for i, name := range odd {
		acts = append(acts, connect.Act{Stage: 1, Act: model.Act{Verb: model.Create, Object: model.Account, Name: name,
			Changes: []model.Change{
				{Attribute: model.Number, After: []string{fmt.Sprint(2000 + i)}}, {Attribute: "home", After: []string{"/home/odd"}}}}})
	}
	for _, name := range odd {
		acts = append(acts, connect.Act{Stage: 2, Act: model.Act{Verb: model.JoinIt, Object: model.GroupKind, Name: `odd, "crew"`,
			Member: name, MemberKind: model.Account}})
	}
	for i, got := range connecttest.Apply(s, acts) {
		if got.Outcome != connect.Done {
			t.Errorf("%s %q: %s %s", acts[i].Verb, acts[i].Name+acts[i].Member, got.Outcome, got.Words)
		}
	}
	g := connecttest.Find(t, s, model.GroupKind, `odd, "crew"`)
	if n := len(g.Attributes.Get(model.Members)); n != len(odd) {
		out, _ := d.Search("(objectClass=groupOfNames)")
		t.Errorf("the group has %d members of %d: %q\n%s", n, len(odd), g.Attributes.Get(model.Members), out)
	}
}

// The locked attribute is the one the password policy's overlay obeys.
func TestDisabledIsLocked(t *testing.T) {
	d, a := start(t, "dn: uid=wilma.toft,ou=People,"+world.Suffix+
		"\nobjectClass: inetOrgPerson\nuid: wilma.toft\ncn: Wilma Toft\nsn: Toft\n")
	s := connecttest.Open(t, ldap.Connector{}, a)
	act := model.Act{Verb: model.Disable, Object: model.Account, Name: "wilma.toft",
		Changes: []model.Change{{Attribute: model.Disabled, Before: []string{"no"}, After: []string{"yes"}}}}
	if got := connecttest.Apply(s, []connect.Act{{Act: act}})[0]; got.Outcome != connect.Done {
		t.Fatal(got)
	}
	if out, err := d.Search("(uid=wilma.toft)", "pwdAccountLockedTime"); err != nil || !strings.Contains(out, "000001010000Z") {
		t.Errorf("%v %s", err, out)
	}
}

func everybody(t *testing.T, s connect.Session) map[string]model.Object {
	t.Helper()
	all := map[string]model.Object{}
	if err := s.Survey(context.Background(), func(o model.Object) error { all[o.Name] = o; return nil }); err != nil {
		t.Fatal(err)
	}
	return all
}

// Two entries with one login are nobody's to change; who has no login is seen all the same.
func TestOddEntries(t *testing.T) {
	sub := "ou=Crew,ou=People," + world.Suffix
	d, a := start(t, "dn: "+sub+"\nobjectClass: organizationalUnit\nou: Crew\n\n"+
		"dn: uid=wilma.toft,ou=People,"+world.Suffix+"\nobjectClass: inetOrgPerson\nuid: wilma.toft\ncn: Wilma Toft\nsn: Toft\n\n"+
		"dn: uid=wilma.toft,"+sub+"\nobjectClass: inetOrgPerson\nuid: wilma.toft\ncn: Wilma of the crew\nsn: Toft\n\n"+
		"dn: cn=Purser,ou=People,"+world.Suffix+"\nobjectClass: person\ncn: Purser\nsn: P\nuserPassword: secret\n\n"+
		"dn: uid=jarle,ou=People,"+world.Suffix+"\nobjectClass: inetOrgPerson\nuid: jarle\ncn: J\nsn: J\n")
	s := connecttest.Open(t, ldap.Connector{}, a)
	all := everybody(t, s)
	if o := all["wilma.toft"]; !o.Marked || !strings.Contains(o.Attributes.One(model.Odd),
		"2 entries have the login wilma.toft: uid=wilma.toft,ou=Crew") || o.Attributes.Has(model.FullName) {
		t.Errorf("%+v", o)
	}
	for _, dn := range []string{"uid=wilma.toft,ou=People," + world.Suffix, "uid=wilma.toft," + sub, "cn=Purser,ou=People," +
		world.Suffix} {
		if o, ok := all[dn]; !ok || !o.Marked || o.Attributes.One(model.Odd) == "" {
			t.Errorf("%s is not seen as odd: %+v", dn, o)
		}
	}
	if all["jarle"].Marked {
		t.Error("an entry like any other is odd")
	}
	change := func(verb model.Verb, attribute, before, after string) connect.Act {
		c := model.Change{Attribute: attribute, After: []string{after}}
		if before != "" {
			c.Before = []string{before}
		}
		return connect.Act{Act: model.Act{Verb: verb, Object: model.Account, Name: "wilma.toft", Changes: []model.Change{c}}}
	}
	crew := connect.Act{Act: model.Act{Verb: model.Create, Object: model.GroupKind, Name: "crew"}}
	join := connect.Act{Stage: 1, Act: model.Act{Verb: model.JoinIt, Object: model.GroupKind, Name: "crew", Member: "wilma.toft",
		MemberKind: model.Account}}
	for i, got := range connecttest.Apply(s, []connect.Act{crew, change(model.Disable, model.Disabled, "no", "yes"),
		change(model.Modify, model.Mail, "", "w@x"), join}) {
		if i > 0 && (got.Outcome != connect.Moved || !strings.Contains(got.Words, "2 entries have the login wilma.toft")) {
			t.Errorf("step %d: %+v", i, got)
		}
	}
	if out, _ := d.Search("(uid=wilma.toft)", "mail", "pwdAccountLockedTime"); strings.Contains(out, "w@x") ||
		strings.Contains(out, "0000") {
		t.Errorf("one of the two was changed:\n%s", out)
	}
	// No second entry of a login is made beside one that stands elsewhere in the tree.
	if err := d.Load("dn: uid=deep," + sub + "\nobjectClass: inetOrgPerson\nuid: deep\ncn: Deep\nsn: D\n"); err != nil {
		t.Fatal(err)
	}
	create := change(model.Create, model.FullName, "", "Somebody Else")
	create.Name = "deep"
	if got := connecttest.Apply(s, []connect.Act{create})[0]; got.Outcome != connect.Moved ||
		!strings.Contains(got.Words, "is there already and differs") {
		t.Errorf("%+v", got)
	}
}

// Our own entry is known as ours, however the login is written.
func TestOurEntry(t *testing.T) {
	d, a := start(t, "dn: uid=hen+cn=Roost,ou=People,"+world.Suffix+
		"\nobjectClass: inetOrgPerson\nuid: hen\ncn: Roost\nsn: R\nuserPassword: a-password-of-ours\n")
	_ = d
	a.As, a.Secret = "UID=Hen + CN=roost,  OU=people,"+strings.ToUpper(world.Suffix), []byte("a-password-of-ours")
	if !everybody(t, connecttest.Open(t, ldap.Connector{}, a))["hen"].Ours {
		t.Error("the entry that we sign in with is not seen as ours")
	}
}

// relay stands between us and the directory and can hang up after so many bytes of ours.
type relay struct {
	net.Listener
	after atomic.Int64
}

func newRelay(t *testing.T, to string) *relay {
	l, err := net.Listen("tcp", "127.0.4.11:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	r := &relay{Listener: l}
	r.after.Store(1 << 40)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go r.pass(c, to)
		}
	}()
	return r
}

func (r *relay) pass(c net.Conn, to string) {
	defer c.Close()
	up, err := net.Dial("tcp", to)
	if err != nil {
		return
	}
	defer up.Close()
	go io.Copy(c, up)
	b := make([]byte, 512)
	for {
		n, err := c.Read(b)
		if err != nil || r.after.Add(-int64(n)) < 0 {
			return
		}
		if _, err := up.Write(b[:n]); err != nil {
			return
		}
	}
}

// A directory that drops the connection in the middle of a batch: what was done
// is told done, the rest is unsure, and applying again brings it to an end.
func TestConnectionDropped(t *testing.T) {
	d, a := start(t, "")
	r := newRelay(t, d.Address)
	a.Address = r.Addr().String()
	var acts []connect.Act
	for i := range 200 {
		acts = append(acts, connect.Act{Stage: 1, Act: model.Act{Verb: model.Create, Object: model.Account,
			Name: fmt.Sprintf("hand.%03d", i), Changes: []model.Change{{Attribute: model.Number, After: []string{fmt.Sprint(4000 + i)}}}}})
	}
	s := connecttest.Open(t, ldap.Connector{}, a)
	r.after.Store(40_000)
	answers := connecttest.Apply(s, acts)
	r.after.Store(1 << 40)
	unsure := 0
	for i, got := range answers {
		switch got.Outcome {
		case connect.Unsure:
			unsure++
			acts[i].Again = true
		case connect.Done:
		default:
			t.Fatalf("step %d: %s %s", i, got.Outcome, got.Words)
		}
	}
	if unsure == 0 {
		t.Fatal("the connection did not drop")
	}
	for i, got := range connecttest.Apply(connecttest.Open(t, ldap.Connector{}, a), acts) {
		if got.Outcome != connect.Done && got.Outcome != connect.AlreadySo {
			t.Errorf("step %d after the drop: %s %s", i, got.Outcome, got.Words)
		}
	}
}

func TestPagesAndNesting(t *testing.T) {
	var b strings.Builder
	for i := range 2500 {
		fmt.Fprintf(&b, "dn: uid=p%04d,ou=People,%s\nobjectClass: inetOrgPerson\nuid: p%04d\ncn: P %d\nsn: P\n\n", i, world.Suffix, i, i)
	}
	fmt.Fprintf(&b, "dn: cn=inner,ou=Groups,%[1]s\nobjectClass: groupOfNames\ncn: inner\nmember: uid=p0001,ou=People,%[1]s\n\ndn: "+
		"cn=outer,ou=Groups,%[1]s\nobjectClass: groupOfNames\ncn: outer\nmember: cn=inner,ou=Groups,%[1]s\n", world.Suffix)
	_, a := start(t, b.String())
	s := connecttest.Open(t, ldap.Connector{}, a)
	n := 0
	if err := s.Survey(context.Background(), func(o model.Object) error {
		if o.Kind == model.Account {
			n++
		}
		return nil
	}); err != nil || n != 2500 {
		t.Errorf("%d accounts, %v", n, err)
	}
	if g := connecttest.Find(t, s, model.GroupKind, "outer"); g.Attributes.One(model.MemberGroups) != "inner" ||
		len(g.Attributes.Get(model.Members)) != 0 {
		t.Errorf("nested group: %v", g.Attributes)
	}
}

// Where a directory lets the password before the last one in for a time, a new one is
// set twice: then that is one that nobody has. Our own password is renewed as well.
func TestSetTwice(t *testing.T) {
	d, a := start(t, "")
	if err := d.Load("dn: cn=everybody,ou=Policies," + world.Suffix + "\nchangetype: modify\nadd: pwdInHistory\npwdInHistory: " +
		"9\n"); err != nil {
		t.Fatal(err)
	}
	history := func() int {
		out, err := d.Search("(uid=zoe)", "pwdHistory")
		if err != nil {
			t.Fatal(err)
		}
		return strings.Count(out, "pwdHistory:")
	}
	set := func(s connect.Session, verb model.Verb, word string) {
		t.Helper()
		act := connect.Act{Act: model.Act{Verb: verb, Object: model.Account, Name: "zoe",
			Changes: []model.Change{{Attribute: model.Password,
				Sealed: "x"}}}, Secrets: map[string]connect.Secret{model.Password: connect.Seal([]byte(word))}}
		if got := connecttest.Apply(s, []connect.Act{act})[0]; got.Outcome != connect.Done {
			t.Fatalf("%+v", got)
		}
	}
	set(connecttest.Open(t, ldap.Connector{}, a), model.Create, "Rope-91-knots")
	set(connecttest.Open(t, ldap.Connector{}, a), model.Modify, "Rope-92-knots")
	once := history()
	twice := a
	twice.Settings = map[string]string{"people": a.Settings["people"], "groups": a.Settings["groups"], "honours-previous": "yes"}
	set(connecttest.Open(t, ldap.Connector{}, twice), model.Modify, "Rope-93-knots")
	if got := history(); got != once+2 {
		t.Errorf("%d passwords before, and then %d", once, got)
	}
	fresh := connect.Seal([]byte("a-fresh-one-for-us-91"))
	if err := connect.Renew(context.Background(), connecttest.Open(t, ldap.Connector{}, a), fresh); err != nil {
		t.Fatal(err)
	}
	if _, err := (ldap.Connector{}).Open(context.Background(), a); err == nil {
		t.Error("our old password is let in")
	}
	a.Next = fresh.Reveal() // while it is rotated, both are tried
	s, err := connect.Open(context.Background(), ldap.Connector{}, a)
	if err != nil {
		t.Fatal(err)
	}
	set(s, model.Modify, "Rope-94-knots")
	s.Close()
}

// A group is renamed as an entry: its number and who is in it stay.
func TestRenameGroup(t *testing.T) {
	_, a := start(t, "dn: cn=bil\\,ge,ou=Groups,"+world.Suffix+"\nobjectClass: groupOfNames\nobjectClass: posixGroup\ncn: bil,ge\n"+
		"gidNumber: 7001\nmember: cn=nobody,"+world.Suffix+"\nmember: uid=ulla,ou=People,"+world.Suffix+"\n\n"+
		"dn: uid=ulla,ou=People,"+world.Suffix+"\nobjectClass: inetOrgPerson\nuid: ulla\ncn: Ulla\nsn: Niemi\n\n"+
		"dn: cn=crew,ou=Groups,"+world.Suffix+"\nobjectClass: groupOfNames\ncn: crew\nmember: cn=bil\\,ge,ou=Groups,"+world.Suffix+"\n")
	s := connecttest.Open(t, ldap.Connector{}, a)
	inside := func(verb model.Verb, group string) connect.Act { // of crew
		a := connecttest.Move(verb, model.GroupKind, "crew", group)
		a.MemberKind = model.GroupKind
		return a
	}
	rename := func(from, to string) connect.Act {
		return connecttest.Act(model.Create, model.GroupKind, to, model.Change{Attribute: model.Formerly, Before: []string{from}},
			model.Change{Attribute: model.Number, Before: []string{"7001"}, After: []string{"7001"}})
	}
	got := connecttest.Apply(s, []connect.Act{rename("bil,ge", "deck"), rename("none", "nothing"),
		inside(model.JoinIt, "deck"), inside(model.LeaveIt, "bil,ge")})
	connecttest.Outcomes(t, got, "done ", "moved group none is not there", "already-so ", "already-so ")
	if len(got[0].Gone) != 1 || got[0].Gone[0].Name != "bil,ge" {
		t.Errorf("%+v", got[0])
	}
	all := connecttest.Surveyed(t, s)
	deck, old := all[model.Named{Kind: model.GroupKind, Name: "deck"}], all[model.Named{Kind: model.GroupKind, Name: "bil,ge"}]
	if deck.Attributes.One(model.Number) != "7001" ||
		!strings.HasSuffix(strings.Join(deck.Attributes.Get(model.Members), " "), " ulla") || old.Name != "" {
		t.Errorf("%v %v", deck.Attributes.Map(), old)
	}
	crew := all[model.Named{Kind: model.GroupKind, Name: "crew"}]
	if got := crew.Attributes.Get(model.MemberGroups); len(got) != 1 || got[0] != "deck" {
		t.Errorf("in crew are the groups %v: %v", got, crew.Attributes.Map())
	}
	connecttest.Outcomes(t, connecttest.Apply(s, []connect.Act{rename("deck", "bil,ge")}), "done ")
}

// Who changed an entry last is told as long as it was not us.
func TestChangedBy(t *testing.T) {
	d, a := start(t, "")
	s := connecttest.Open(t, ldap.Connector{}, a)
	by := func() string { return connecttest.Find(t, s, model.Account, "zoe").Attributes.One(model.ChangedBy) }
	act := connecttest.Act(model.Create, model.Account, "zoe", model.Change{Attribute: model.FullName, After: []string{"Zoe"}})
	if got := connecttest.Apply(s, []connect.Act{act})[0]; got.Outcome != connect.Done || by() != "" {
		t.Errorf("%+v, changed by %q", got, by())
	}
	if err := d.Load("dn: uid=zoe,ou=People," + world.Suffix + "\nchangetype: modify\nreplace: sn\nsn: Toft\n"); err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(by(), "gidNumber=0") {
		t.Errorf("changed by %q", by())
	}
}
