package postgres

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/sqlright"
	"hen-roost/internal/core/model"
)

// role is a role as the server keeps it.
type role struct {
	account  bool
	login    bool
	inherit  bool
	limit    string // sessions at once; -1: any
	until    string // seconds, infinity, or nothing
	kept     string // how its password is kept: scram, md5, or nothing
	settings []string
	request  []string // groups whose rights it has only once it asks for them
	never    []string // groups as which it may not act
	open     bool     // the server asks it for nothing, from somewhere
	asked    bool     // a rule before the one that is looked at asks it, wherever it comes from
	odd      string   // why it cannot be looked after
}

// state is what has been read of a server. It is a connect.View of what was asked for.
type state struct {
	*session
	roles   map[string]*role
	rights  map[string]*set // by permission
	members map[string]*set // of roles
	admins  map[string][]string
	names   map[string]string    // of roles, by oid
	flags   [][2]string          // what roles may do on the server, and which
	has     map[holding]bool     // nil when everything was read
	by      map[holding][]string // who gave somebody a group, where the server takes it back from each by name
	all     map[string]bool      // permissions on all of a schema that somebody has by having each of them
	owns    map[string][]string
}

// holding says of somebody that they have a permission, or are in a group.
type holding struct {
	kind      model.ObjectKind
	what, who string
}

// set is who has a right, or is in a group.
type set struct {
	accounts, groups []string
	again            bool // told in parts, which may tell somebody twice
}

// everybody is what the server calls all there are.
const everybody = "PUBLIC"

// marker is a setting of a role's own that keeps one which was shut an account: a group may not sign in either.
const marker = "roost.account"

// read reads what is wanted, and of some databases who may what there. While one answer is read the next is worked on.
func (s *session) read(ctx context.Context, w *wanted, databases []string) (*state, error) {
	st := &state{session: s, roles: map[string]*role{}, rights: map[string]*set{}, members: map[string]*set{},
		admins: map[string][]string{}, all: map[string]bool{}, owns: map[string][]string{}, names: map[string]string{"0": everybody}}
	if w != nil {
		st.has, st.by = map[holding]bool{}, map[holding][]string{}
	}
	now := s.pose(ctx, s.home, st.serverQueries(w))
	for _, db := range databases {
		var next *posed
		conn, err := st.in(ctx, db)
		if err == nil && conn != now.conn {
			next = s.pose(ctx, conn, st.databaseQueries(w, db))
		}
		if e := now.read(); e != nil {
			err = e
		}
		if err != nil {
			next.drop()
			return nil, said(err)
		}
		if next == nil {
			next = s.pose(ctx, conn, st.databaseQueries(w, db))
		}
		now = next
	}
	if err := now.read(); err != nil {
		return nil, said(err)
	}
	st.settle()
	return st, nil
}

// wide is a permission on all things of a sort in a schema.
type wide struct {
	sort, schema, privilege string
	passed                  bool
}

func (st *state) roleRow(row [][]byte) {
	is := func(i int) bool { return string(row[i]) == "t" }
	r := &role{login: is(2), inherit: is(3), limit: string(row[4]), until: string(row[5]), kept: string(row[6])}
	r.account = r.login || r.kept != "" || r.until != "" || r.limit != "-1"
	n, odd := connect.Fit(string(row[1]))
	r.odd = odd
	st.roles[n] = r
	st.names[string(row[0])] = n
	for i, p := range []string{"SUPERUSER", "CREATEDB", "CREATEROLE", "REPLICATION", "BYPASSRLS"} {
		if is(7 + i) {
			st.flags = append(st.flags, [2]string{p, n})
		}
	}
}

func (st *state) settingsRow(row [][]byte) {
	r := st.roles[fit(row[0])]
	if r == nil {
		return
	}
	for _, x := range array(row[1]) {
		if strings.HasPrefix(x, marker+"=") {
			r.account = true
		} else {
			r.settings = append(r.settings, connect.Printable(x))
		}
	}
	slices.Sort(r.settings)
}

func (st *state) optionsRow(row [][]byte) {
	r := st.roles[fit(row[0])]
	if r == nil {
		return
	}
	if string(row[2]) == "f" {
		r.request = append(r.request, fit(row[1]))
	}
	if string(row[3]) == "f" {
		r.never = append(r.never, fit(row[1]))
	}
}

// fit is a name as it is kept here.
func fit(b []byte) string {
	n, _ := connect.Fit(string(b))
	return n
}

// array reads an array as the server writes one: {a,"b \" c"}.
func array(b []byte) (out []string) {
	s := string(b) // its parts are parts of it
	s = strings.TrimSuffix(strings.TrimPrefix(s, "{"), "}")
	for s != "" {
		var b strings.Builder
		if s[0] == '"' {
			i := 1
			for ; i < len(s) && s[i] != '"'; i++ {
				if s[i] == '\\' && i+1 < len(s) {
					i++
				}
				b.WriteByte(s[i])
			}
			s = s[min(i+1, len(s)):]
		} else {
			at := strings.IndexByte(s, ',')
			if at < 0 {
				at = len(s)
			}
			b.WriteString(s[:at])
			s = s[at:]
		}
		out = append(out, b.String())
		s = strings.TrimPrefix(s, ",")
	}
	return out
}

// hold notes that some have a permission, or are in a group.
func (st *state) hold(kind model.ObjectKind, name string, who ...string) {
	in := st.rights
	if kind == model.GroupKind {
		in = st.members
	}
	s := in[name]
	if s == nil {
		s = &set{}
		in[name] = s
	} else {
		s.again = true
	}
	for _, w := range who {
		if st.has != nil {
			h := holding{kind, name, w}
			if st.has[h] {
				continue
			}
			st.has[h] = true
		}
		if st.isAccount(w) {
			s.accounts = append(s.accounts, w)
		} else {
			s.groups = append(s.groups, w)
		}
	}
}

// settle ends what was read: nobody is told twice.
func (st *state) settle() {
	for _, f := range st.flags { // by now it is known who is an account
		st.hold(model.RightKind, f[0], f[1])
	}
	for _, in := range []map[string]*set{st.rights, st.members} {
		for _, s := range in {
			if s.again {
				s.accounts, s.groups = sorted(s.accounts), sorted(s.groups)
			}
		}
	}
	for _, list := range st.owns {
		slices.Sort(list)
	}
}

func (st *state) isAccount(who string) bool {
	r := st.roles[who]
	return r != nil && r.account
}

// memberRow takes: group, whether it may be given on, who gave it, to whom.
func (st *state) memberRow(row [][]byte) {
	group, by := fit(row[0]), fit(row[2])
	// Who makes a role may give it on: we are in it for no other reason.
	who := slices.DeleteFunc(st.whom(row[3]), func(n string) bool { return n == st.own })
	if len(who) == 0 {
		return
	}
	st.hold(model.GroupKind, group, who...)
	if string(row[1]) == "t" {
		st.admins[group] = sorted(append(st.admins[group], who...))
	}
	if st.has == nil || st.version < withOptions {
		return
	}
	for _, n := range who {
		if h := (holding{model.GroupKind, group, n}); !slices.Contains(st.by[h], by) {
			st.by[h] = append(st.by[h], by)
		}
	}
}

// whom are the roles of an array: their names, or where all roles are read their oids.
func (st *state) whom(b []byte) []string {
	out := array(b)
	for i, x := range out {
		if n, known := st.names[x]; known && st.has == nil {
			out[i] = n
		} else {
			out[i], _ = connect.Fit(x)
		}
	}
	return out
}

// aclRow takes: sort, database, schema or who makes it, thing, column, privilege, whether it may be passed on, who has it.
// each takes who has it on which of the things of a schema.
func (st *state) aclRow(row [][]byte, each map[wide]map[string][]string) {
	r := sqlright.Right{Privilege: string(row[5]), Column: fit(row[4]), Sort: string(row[0]), Passed: string(row[6]) == "t"}
	for _, part := range row[1:4] {
		if len(part) > 0 {
			r.Path = append(r.Path, fit(part))
		}
	}
	who := st.whom(row[7])
	of := each != nil && len(r.Path) == 3 && r.Column == "" && !strings.HasPrefix(r.Sort, "NEW ")
	for _, passed := range []bool{false, true} {
		if passed && !r.Passed { // whoever may pass it on has it
			continue
		}
		one := r
		one.Passed = passed
		st.hold(model.RightKind, dialect.String(one), who...)
		if of {
			w := wide{r.Sort, r.Path[1], r.Privilege, passed}
			if each[w] == nil {
				each[w] = map[string][]string{}
			}
			each[w][r.Path[2]] = append(each[w][r.Path[2]], who...)
		}
	}
}

// countRow takes how many things of a sort are in a schema: who has a permission on each has it on all.
func (st *state) countRow(row [][]byte, db string, each map[wide]map[string][]string) {
	sort, schema := string(row[0]), fit(row[1])
	for w, things := range each {
		if w.sort != sort || w.schema != schema || strconv.Itoa(len(things)) != string(row[2]) {
			continue
		}
		on := map[string]int{}
		for _, who := range things {
			for _, n := range sorted(who) {
				on[n]++
			}
		}
		p := dialect.String(sqlright.Right{Privilege: w.privilege, Sort: sort, Path: []string{db, schema}, Passed: w.passed})
		for n, count := range on {
			if count == len(things) {
				st.all[p] = true
				st.hold(model.RightKind, p, n)
			}
		}
	}
}

func (st *state) ownedRow(row [][]byte, db string) {
	if n := fit(row[0]); len(st.owns[n]) < ownedMost {
		st.owns[n] = append(st.owns[n], connect.Printable(string(row[1])+" in "+db))
	}
}

// object is an account as an object; what needs the whole server to be known is told by the survey.
func (st *state) object(n string, r *role) *model.Object {
	o := &model.Object{Kind: model.Account, Name: n, Ours: n == st.own, System: strings.HasPrefix(n, "pg_")}
	list := []model.Attribute{{Name: model.Disabled, Values: []string{connect.Yes(!r.login)}}, {Name: inherits,
		Values: []string{connect.Yes(r.inherit)}}}
	put := func(name string, values ...string) { list = append(list, model.Attribute{Name: name, Values: values}) }
	limit := r.limit
	if limit == "-1" {
		limit = "any"
	}
	put(sessionsMost, limit)
	if until := untilWords(r.until); until != "" {
		put(model.PasswordEnds, until)
	}
	for _, x := range []struct {
		name string
		list []string
	}{{settings, r.settings}, {onRequest, r.request}, {neverAs, r.never}} {
		if len(x.list) > 0 {
			put(x.name, x.list...)
		}
	}
	if r.kept == "md5" && r.login {
		put(model.WeakSignIn,
			"its password is kept as MD5, which is guessed fast and is worth as much as the password to whoever reads it; "+
				"a new password is kept as SCRAM-SHA-256")
		o.Marked = true
	}
	o.Attributes = model.Pack(list...)
	return o
}

const never = "never"

// untilWords is a moment as an attribute has it: the day alone where it is the beginning of one.
func untilWords(seconds string) string {
	if seconds == "" {
		return ""
	}
	var f float64
	if _, err := fmt.Sscan(seconds, &f); err != nil || f > 1e12 {
		return never
	}
	return timeWords(time.Unix(int64(f), 0).UTC())
}

func timeWords(at time.Time) string {
	if at.Equal(at.Truncate(24 * time.Hour)) {
		return at.Format(time.DateOnly)
	}
	return at.Format(time.RFC3339)
}

// canonicalTime is a moment that is asked for as it is read back.
func canonicalTime(v string) string {
	if at, err := time.Parse(time.RFC3339, v); err == nil {
		return timeWords(at.UTC().Truncate(time.Second))
	}
	return v
}

// group is a group as an object.
func (st *state) group(n string, members bool) *model.Object {
	o := &model.Object{Kind: model.GroupKind, Name: n, System: strings.HasPrefix(n, "pg_")}
	if m := st.members[n]; m != nil && members {
		o.Attributes = model.Pack(model.Attribute{Name: model.Members, Values: m.accounts},
			model.Attribute{Name: model.MemberGroups, Values: m.groups})
	}
	if admins := st.admins[n]; len(admins) > 0 {
		o.Attributes = o.Attributes.With(model.Administrators, admins...)
	}
	return o
}

// Object implements connect.View. A right is there as soon as somebody has it.
func (st *state) Object(n model.Named) *model.Object {
	r := st.roles[n.Name]
	switch {
	case n.Kind == model.Account && r != nil && r.account:
		return st.object(n.Name, r)
	case n.Kind == model.GroupKind && r != nil && !r.account:
		return st.group(n.Name, false)
	case n.Kind == model.RightKind:
		return &model.Object{Kind: n.Kind, Name: n.Name}
	}
	return nil
}

// Member implements connect.View.
func (st *state) Member(in, member model.Named) bool {
	return st.has[holding{in.Kind, in.Name, member.Name}]
}
