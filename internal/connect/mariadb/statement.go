package mariadb

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/sqlright"
	"hen-roost/internal/core/model"
)

// atOnce is how many accounts one statement names: with each that speaks of a role the server works out anew who may what.
const atOnce = 250

// statement does the same to some accounts or roles.
type statement struct {
	head, tail string
	of         []part
}

// part is what stands in a statement for one act.
type part struct {
	act  int
	text string
}

func (st statement) text(of []part) string {
	var b strings.Builder
	b.WriteString(st.head)
	for i, o := range of {
		if i > 0 {
			b.WriteByte(',')
		}
		b.WriteString(o.text)
	}
	b.WriteString(st.tail)
	return b.String()
}

// script is the statements that carry out acts of one stage, in the order in which they are met.
type script struct {
	list []statement
	open map[[2]string]int // the statement that takes more of its kind
}

// put has the same done to one more account or role.
func (s *script) put(i int, head, text, tail string) {
	key := [2]string{head, tail}
	at, there := s.open[key]
	if !there || len(s.list[at].of) == atOnce {
		at = len(s.list)
		s.open[key] = at
		s.list = append(s.list, statement{head: head, tail: tail})
	}
	s.list[at].of = append(s.list[at].of, part{i, text})
}

// alone puts a statement that is for one of them.
func (s *script) alone(i int, text string) {
	s.list = append(s.list, statement{head: text, of: []part{{i, ""}}})
}

// statements are what carries out acts of one stage. What cannot be said to the server is in trouble.
func (b *batch) statements(ready []int) []statement {
	s := &script{open: map[[2]string]int{}}
	for _, i := range ready {
		a := b.Acts[i]
		if b.Trouble[i] != nil || a.Verb == model.AdoptIt {
			continue
		}
		var err error
		switch {
		case a.Object == model.Account:
			err = b.ofAccount(i, s)
		case a.Moves():
			err = b.move(i, s)
		case a.Object == model.GroupKind && a.Verb == model.Create:
			s.alone(i, "CREATE ROLE "+name(a.Name)+" WITH ADMIN CURRENT_USER")
		case a.Object == model.GroupKind && a.Verb == model.Remove:
			s.put(i, "DROP ROLE ", name(a.Name), "")
		case a.Object == model.GroupKind:
			b.keepers(i, s)
		default:
			err = fmt.Errorf("a %s cannot be changed by %s", a.Object, a.Verb)
		}
		if err != nil {
			b.Trouble[i] = err
		}
	}
	return s.list
}

// move brings a member into a role or a right, or out of it.
func (b *batch) move(i int, s *script) error {
	a := b.Acts[i]
	who := account(a.Member)
	if a.MemberKind == model.GroupKind {
		who = text(a.Member)
	}
	verb, to := "GRANT ", " TO "
	if a.Verb == model.LeaveIt {
		verb, to = "REVOKE ", " FROM "
	}
	if a.Object == model.GroupKind {
		s.put(i, verb+name(a.Name)+to, who, "")
		return nil
	}
	r, err := dialect.One(a.Name)
	if err != nil {
		return err
	}
	s.put(i, verb+privilege(r)+" ON "+thing(r)+to, who, "")
	return nil
}

// privilege is what stands before ON.
func privilege(r sqlright.Right) string {
	switch {
	case r.Privilege == sqlright.All:
		return "ALL PRIVILEGES"
	case r.Column != "":
		return r.Privilege + " (" + name(r.Column) + ")"
	}
	return r.Privilege
}

// keepers changes who may give a role on.
func (b *batch) keepers(i int, s *script) {
	a := b.Acts[i]
	before, after := a.Before().Get(model.Administrators), a.After().Get(model.Administrators)
	for _, n := range after {
		if !slices.Contains(before, n) {
			s.put(i, "GRANT "+name(a.Name)+" TO ", b.grantee(n), " WITH ADMIN OPTION")
		}
	}
	for _, n := range before {
		if !slices.Contains(after, n) {
			s.put(i, "REVOKE ADMIN OPTION FOR "+name(a.Name)+" FROM ", b.grantee(n), "")
		}
	}
}

// grantee is a role, or else an account.
func (b *batch) grantee(n string) string {
	if b.before.roles[n] != nil {
		return text(n)
	}
	return account(n)
}

// ofAccount makes, changes or removes one. ALTER USER leaves what it does not name as it is.
func (b *batch) ofAccount(i int, s *script) error {
	a := b.Acts[i]
	who := account(a.Name)
	if a.Verb == model.Remove {
		s.put(i, "DROP USER ", who, "")
		return nil
	}
	head := "ALTER USER "
	e := b.before.accounts[a.Name]
	if a.Verb == model.Create && e == nil { // else it is what is left of the same act, which was cut off
		head = "CREATE USER "
	}
	ways, err := b.waysAfter(a, e)
	if err != nil {
		return err
	}
	role := a.After().Get(defaultRole)
	tail, err := tailOf(a)
	if err != nil {
		return err
	}
	if ways != nil || tail != "" {
		s.put(i, head, who+identified(ways), tail)
	}
	if sets(a, defaultRole) {
		b.standard(i, who, role, s)
	}
	return nil
}

// sets says whether an act changes an attribute, be it to nothing.
func sets(a connect.Act, attribute string) bool {
	return slices.ContainsFunc(a.Changes, func(c model.Change) bool { return c.Attribute == attribute })
}

// standard sets the role that is in force from the beginning, which is one that the account is in.
func (b *batch) standard(i int, who string, role []string, s *script) {
	if len(role) == 0 {
		s.alone(i, "SET DEFAULT ROLE NONE FOR "+who)
		return
	}
	a := b.Acts[i]
	if !b.before.Member(model.Named{Kind: model.GroupKind, Name: role[0]}, model.Named{Kind: model.Account, Name: a.Name}) {
		s.put(i, "GRANT "+name(role[0])+" TO ", who, "")
	}
	s.alone(i, "SET DEFAULT ROLE "+name(role[0])+" FOR "+who)
}

// limits are what accounts can be held to, in the words of the server.
var limits = []struct{ attribute, word string }{{queriesMost, "MAX_QUERIES_PER_HOUR"}, {updatesMost, "MAX_UPDATES_PER_HOUR"},
	{signInsMost, "MAX_CONNECTIONS_PER_HOUR"}, {sessionsMost, "MAX_USER_CONNECTIONS"}}

// tailOf is what stands behind the accounts that are made or changed.
func tailOf(a connect.Act) (string, error) {
	want := a.After()
	var tail string
	if want.Has(demandsTLS) || want.Has(subject) || want.Has(issuer) {
		var list []string
		for _, x := range []struct{ attribute, word string }{{issuer, "ISSUER"}, {subject, "SUBJECT"}} {
			if v := want.One(x.attribute); v != "" {
				list = append(list, x.word+" "+text(v))
			}
		}
		switch word := want.One(demandsTLS); {
		case len(list) > 0:
			tail += " REQUIRE " + strings.Join(list, " AND ")
		case word == "" || word == tlsWords[0]:
			tail += " REQUIRE NONE"
		case word == tlsWords[1]:
			tail += " REQUIRE SSL"
		case word == tlsWords[2]:
			tail += " REQUIRE X509"
		default:
			return "", fmt.Errorf("%s is %q; it is no, yes or certificate", demandsTLS, word)
		}
	}
	with := ""
	for _, l := range limits {
		if !want.Has(l.attribute) {
			continue
		}
		n, err := strconv.ParseUint(want.One(l.attribute), 10, 31)
		if err != nil {
			return "", fmt.Errorf("%s is %q; it is a number", l.attribute, want.One(l.attribute))
		}
		with += fmt.Sprintf(" %s %d", l.word, n)
	}
	if with != "" {
		tail += " WITH" + with
	}
	switch days := want.One(passwordMost); {
	case days == "":
	case days == "never":
		tail += " PASSWORD EXPIRE NEVER"
	default:
		n, err := strconv.ParseUint(days, 10, 16)
		if err != nil || n == 0 {
			return "", fmt.Errorf("%s is %q; it is a number of days, or never", passwordMost, days)
		}
		tail += fmt.Sprintf(" PASSWORD EXPIRE INTERVAL %d DAY", n)
	}
	if want.One(model.MustChange) == "yes" {
		tail += " PASSWORD EXPIRE"
	}
	switch want.One(model.Disabled) {
	case "yes":
		tail += " ACCOUNT LOCK"
	case "no":
		tail += " ACCOUNT UNLOCK"
	}
	return tail, nil
}
