package postgres

import (
	"context"
	"iter"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// Survey implements connect.Session.
func (s *session) Survey(ctx context.Context, found func(model.Object) error) error {
	itself, databases, err := s.itself(ctx)
	if err != nil {
		return s.fail("see what the server is", err)
	}
	st, err := s.read(ctx, nil, databases)
	if err == nil {
		err = st.readDoors(ctx)
	}
	if err != nil {
		return s.fail("survey", err)
	}
	if err := found(itself); err != nil {
		return err
	}
	how, right := st.power()
	for n, r := range st.roles {
		o := st.group(n, true)
		if r.account {
			o = st.object(n, r)
			if h := how[n]; h != nil {
				o.Attributes = o.Attributes.With(model.Elevation, h...)
			}
			if r.open && r.login {
				o.Attributes = o.Attributes.With(model.Passwordless, "yes")
				o.Marked = true
			}
		}
		if list := st.owns[n]; list != nil {
			o.Attributes = o.Attributes.With(model.Owns, list...)
		}
		if r.odd != "" {
			o.Attributes, o.Marked = o.Attributes.With(model.Odd, r.odd), true
		}
		if err := found(*o); err != nil {
			return err
		}
	}
	for p, who := range st.rights {
		if err := found(model.Object{Kind: model.RightKind, Name: p, System: st.all[p], Attributes: model.Pack(
			model.Attribute{Name: model.Members, Values: who.accounts},
			model.Attribute{Name: model.MemberGroups, Values: who.groups})}); err != nil {
			return err
		}
	}
	return found(right)
}

// power finds who can become superuser: by what they may do, and through roles, of which an account can be one too.
func (st *state) power() (how map[string][]string, right model.Object) {
	named := func(n string) model.Named {
		if st.isAccount(n) {
			return model.Named{Kind: model.Account, Name: n}
		}
		return model.Named{Kind: model.GroupKind, Name: n}
	}
	mighty, members := map[model.Named][]string{}, map[model.Named][]model.Named{}
	for _, g := range strong {
		mighty[model.Named{Kind: model.GroupKind, Name: g}] = nil
	}
	allows := slices.Clone(powers)
	for p, who := range st.rights {
		if !isMighty(p) {
			continue
		}
		allows = append(allows, p)
		right := model.Named{Kind: model.RightKind, Name: p}
		mighty[right] = nil
		for _, n := range slices.Concat(who.accounts, who.groups) {
			members[right] = append(members[right], named(n))
		}
	}
	for g, m := range st.members {
		in := named(g)
		for _, a := range m.accounts {
			members[in] = append(members[in], model.Named{Kind: model.Account, Name: a})
		}
		for _, g := range m.groups {
			members[in] = append(members[in], model.Named{Kind: model.GroupKind, Name: g})
		}
	}
	how, right = connect.Power(mighty, members, everybody)
	slices.Sort(allows)
	right.Attributes = right.Attributes.With(model.Allows, slices.Compact(allows)...)
	return how, right
}

// readOwned reads what belongs to some.
func (st *state) readOwned(ctx context.Context, databases, names []string) error {
	for _, db := range databases {
		conn, err := st.in(ctx, db)
		if err == nil {
			err = said(st.pose(ctx, conn, []query{st.ownedQuery(db, names)}).read())
		}
		if err != nil {
			return err
		}
	}
	for _, list := range st.owns {
		slices.Sort(list)
	}
	return nil
}

// ownedMost is how many things that belong to one account are told.
const ownedMost = 50

// readDoors reads by which rules the server lets in over the network whoever knows a name: those that ask for nothing,
// unless a rule before them asks the same of everybody.
func (st *state) readDoors(ctx context.Context) error {
	return st.pose(ctx, st.home, []query{{`SELECT array_to_string(database, ','), user_name, COALESCE(address, ''), auth_method
		FROM pg_hba_file_rules WHERE type LIKE 'host%' AND error IS NULL ORDER BY line_number`, func(row [][]byte) {
		everyone := string(row[0]) == "all" && (string(row[2]) == "all" || string(row[2]) == "0.0.0.0")
		trust := string(row[3]) == "trust"
		for r := range st.among(array(row[1])) {
			r.open = r.open || trust && !r.asked
			r.asked = r.asked || everyone
		}
	}}}).read()
}

// among are the roles for which a rule is: all, a name, or + and a group.
func (st *state) among(list []string) iter.Seq[*role] {
	if slices.Contains(list, "all") {
		return maps.Values(st.roles)
	}
	return func(yield func(*role) bool) {
		for _, x := range list {
			who := []string{x}
			if group, of := strings.CutPrefix(x, "+"); of && st.members[group] != nil {
				who = slices.Concat(st.members[group].accounts, st.members[group].groups)
			}
			for _, n := range who {
				if r := st.roles[n]; r != nil && !yield(r) {
					return
				}
			}
		}
	}
}

// itself is what the server tells of itself, and which databases it has.
func (s *session) itself(ctx context.Context) (model.Object, []string, error) {
	o := model.Object{Kind: model.SystemKind, Name: model.Itself, System: true}
	rows, err := s.ask(ctx, s.home, `SELECT current_setting('server_version'), EXTRACT(EPOCH FROM pg_postmaster_start_time()),
		EXTRACT(EPOCH FROM clock_timestamp());
		SELECT datname FROM pg_database WHERE datallowconn AND NOT datistemplate ORDER BY 1`)
	if err != nil || len(rows) != 2 || len(rows[0]) != 1 {
		return o, nil, said(err)
	}
	var databases, shown []string
	for _, row := range rows[1] {
		databases = append(databases, row[0])
		shown = append(shown, connect.Printable(row[0]))
	}
	row := rows[0][0]
	seconds := func(v string) time.Time {
		f, _ := strconv.ParseFloat(v, 64)
		return time.UnixMilli(int64(f * 1000))
	}
	o.Attributes = model.Pack(model.Attribute{Name: model.System, Values: []string{"PostgreSQL"}},
		model.Attribute{Name: model.Version, Values: []string{connect.Printable(row[0])}},
		model.Attribute{Name: model.UpSince, Values: []string{seconds(row[1]).UTC().Truncate(time.Second).Format(time.RFC3339)}},
		model.Attribute{Name: model.ClockOff, Values: []string{connect.ClockOff(seconds(row[2]))}},
		model.Attribute{Name: "read-only", Values: []string{connect.Yes(s.shut != "")}},
		model.Attribute{Name: "databases", Values: shown})
	return o, databases, nil
}
