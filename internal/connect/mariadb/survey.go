package mariadb

import (
	"context"
	"database/sql"
	"fmt"
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
	st, err := s.read(ctx, nil)
	if err != nil {
		return s.fail("survey", err)
	}
	owned, err := s.owned(ctx, nil)
	if err != nil {
		return s.fail("see what belongs to whom", err)
	}
	itself, err := s.itself(ctx)
	if err != nil {
		return s.fail("see what the server is", err)
	}
	if err := found(itself); err != nil {
		return err
	}
	power := st.power()
	told := st.alike()
	for n, e := range st.accounts {
		o := st.object(n, e)
		more := told[n]
		for _, how := range power.how[n] {
			more = add(more, model.Elevation, how)
		}
		if e.origin == "" || strings.Trim(e.origin, "%_") == "" {
			more = add(more, model.OpenWide, "it can be signed in to from any address")
		}
		if what := owned[n]; len(what) > 0 {
			more = append(more, model.Attribute{Name: model.Owns, Values: what})
		}
		if len(more) > 0 && e.priv.Locked { // what is shut opens nothing
			more = slices.DeleteFunc(more, func(a model.Attribute) bool {
				return a.Name == model.OpenWide || a.Name == model.ShadowedBy || a.Name == model.UnevenWith
			})
		}
		for _, a := range more {
			o.Attributes = o.Attributes.With(a.Name, a.Values...)
			o.Marked = o.Marked || a.Name != model.Elevation && a.Name != model.Owns
		}
		if err := hand(*o, found); err != nil {
			return err
		}
	}
	for n := range st.roles {
		if err := hand(*st.role(n, true), found); err != nil {
			return err
		}
	}
	for permission, who := range st.rights {
		o := model.Object{Kind: model.RightKind, Name: permission, Attributes: model.Pack(
			model.Attribute{Name: model.Members, Values: who.accounts}, model.Attribute{Name: model.MemberGroups, Values: who.roles})}
		if err := hand(o, found); err != nil {
			return err
		}
	}
	return found(power.right)
}

func add(list []model.Attribute, name, value string) []model.Attribute {
	for i := range list {
		if list[i].Name == name {
			list[i].Values = append(list[i].Values, value)
			return list
		}
	}
	return append(list, model.Attribute{Name: name, Values: []string{value}})
}

// hand hands an object on, cleaned of what could do harm where it is shown: what has such a name is odd.
func hand(o model.Object, found func(model.Object) error) error {
	if words := model.Unfit(o.Name, false); words != "" {
		o.Attributes = o.Attributes.With(model.Odd, "its name cannot be looked after: "+words)
		o.Name, o.Marked = connect.Printable(o.Name), true
	}
	return found(o)
}

// power is what makes somebody superuser.
type power struct {
	right model.Object
	how   map[string][]string // by account: through what
}

// power finds who can become superuser, themselves or through roles that are in roles.
func (st *state) power() power {
	p := power{right: model.Object{Kind: model.RightKind, Name: model.Superuser}, how: map[string][]string{}}
	strong := map[string]bool{}
	var spread func(role string)
	spread = func(role string) {
		if strong[role] {
			return
		}
		strong[role] = true
		if m := st.members[role]; m != nil {
			for _, inner := range m.roles {
				spread(inner)
			}
		}
	}
	direct := map[string]bool{}
	allows := slices.Clone(powers)
	for permission, who := range st.rights {
		if !mighty(permission) {
			continue
		}
		allows = append(allows, permission)
		for _, a := range who.accounts {
			p.how[a] = append(p.how[a], "right "+permission)
			direct[a] = true
		}
		for _, role := range who.roles {
			spread(role)
		}
	}
	for role := range strong {
		if m := st.members[role]; m != nil {
			for _, a := range m.accounts {
				p.how[a] = append(p.how[a], "group "+role)
			}
		}
	}
	for _, how := range p.how {
		slices.Sort(how)
	}
	p.right.Attributes = model.Pack(model.Attribute{Name: model.Members, Values: slices.Sorted(maps.Keys(direct))},
		model.Attribute{Name: model.MemberGroups, Values: slices.Sorted(maps.Keys(strong))},
		model.Attribute{Name: model.Allows, Values: slices.Compact(slices.Sorted(slices.Values(allows)))})
	return p
}

// alike tells of accounts what their namesakes, and those of nobody, have to do with them.
func (st *state) alike() map[string][]model.Attribute {
	out := map[string][]model.Attribute{}
	by := map[string][]string{}
	for n, e := range st.accounts {
		by[e.login] = append(by[e.login], n)
	}
	nobody := by[""]
	slices.SortFunc(nobody, closer)
	for login, names := range by {
		slices.SortFunc(names, closer)
		for i, n := range names {
			origin := st.accounts[n].origin
			for _, other := range nobody {
				if where := st.accounts[other].origin; login != "" && closer(other, n) < 0 && meet(origin, where) {
					out[n] = add(out[n], model.ShadowedBy, fmt.Sprintf("from %s the account %s, which is nobody's, answers in its place",
						where, other))
				}
			}
			for k, other := range names {
				if k == i || st.accounts[other].priv.Locked || slices.Equal(st.what(n), st.what(other)) {
					continue
				}
				words := fmt.Sprintf("it may do other things than %s", other)
				if k < i && meet(origin, st.accounts[other].origin) {
					words += ", which answers from " + st.accounts[other].origin
				}
				out[n] = add(out[n], model.UnevenWith, words)
			}
		}
	}
	return out
}

// what an account has, sorted, without what comes with it.
func (st *state) what(n string) []string {
	list := (&model.Spelling{Covers: dialect.Covers}).Least(st.has[n])
	slices.Sort(list)
	return list
}

// meet says whether somebody could come from within two origins, as far as is plain from what they are called.
func meet(a, b string) bool { return fits(a, b) || fits(b, a) }

// owned tells what runs as accounts, of all or of some; the server lets them go and then refuses whoever uses it.
func (s *session) owned(ctx context.Context, names []string) (map[string][]string, error) {
	in := ""
	if names != nil {
		in = " AND BINARY definer IN (" + texts(names) + ")"
	}
	rows, err := s.conn.QueryContext(ctx, strings.Join([]string{
		`SELECT definer, LOWER(type), db, name FROM mysql.proc WHERE db <> 'sys' AND db <> 'mysql'` + in,
		`SELECT definer, 'event', db, name FROM mysql.event WHERE 1 = 1` + in,
		`SELECT definer, 'view', TABLE_SCHEMA, TABLE_NAME FROM information_schema.VIEWS WHERE TABLE_SCHEMA <> 'sys'
			AND TABLE_SCHEMA <> 'mysql'` + in,
		`SELECT definer, 'trigger', TRIGGER_SCHEMA, TRIGGER_NAME FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA <> 'sys'` + in,
	}, "; "))
	if err != nil {
		return nil, said(err)
	}
	defer rows.Close()
	out := map[string][]string{}
	for more := true; more; more = rows.NextResultSet() {
		for rows.Next() {
			var definer, sort, db, n string
			if err := rows.Scan(&definer, &sort, &db, &n); err != nil {
				return nil, err
			}
			if len(out[definer]) < ownedMost {
				out[definer] = append(out[definer], connect.Printable(sort+" "+db+"."+n))
			}
		}
	}
	for _, list := range out {
		slices.Sort(list)
	}
	return out, said(rows.Err())
}

// ownedMost is how many things that belong to one account are told.
const ownedMost = 50

// itself is what the server tells of itself.
func (s *session) itself(ctx context.Context) (model.Object, error) {
	o := model.Object{Kind: model.SystemKind, Name: model.Itself, System: true}
	rows, err := s.conn.QueryContext(ctx, `SELECT @@version, @@version_comment, @@hostname, @@global.read_only, UNIX_TIMESTAMP(NOW(3));
		SHOW GLOBAL STATUS WHERE Variable_name IN ('Uptime', 'wsrep_cluster_size', 'wsrep_cluster_status', 'wsrep_local_state_comment')`)
	if err != nil {
		return o, said(err)
	}
	defer rows.Close()
	put := func(name, value string) {
		if value = connect.Printable(value); value != "" {
			o.Attributes = o.Attributes.With(name, value)
		}
	}
	var version, comment, host string
	var readOnly int
	var clock float64
	for rows.Next() {
		if err := rows.Scan(&version, &comment, &host, &readOnly, &clock); err != nil {
			return o, err
		}
	}
	put(model.Version, version)
	put(model.System, strings.TrimSpace("MariaDB "+comment))
	put(model.HostName, host)
	put("read-only", yes(readOnly != 0))
	now := time.UnixMilli(int64(clock * 1000))
	off := int(time.Until(now).Round(time.Second) / time.Second)
	if off >= -clockSlack && off <= clockSlack {
		off = 0
	}
	put(model.ClockOff, strconv.Itoa(off))
	status := map[string]string{}
	for rows.NextResultSet() {
		for rows.Next() {
			var name, value string
			if err := rows.Scan(&name, &value); err != nil {
				return o, err
			}
			status[name] = value
		}
	}
	if up, err := strconv.ParseInt(status["Uptime"], 10, 64); err == nil {
		put(model.UpSince, now.Add(-time.Duration(up)*time.Second).UTC().Truncate(time.Second).Format(time.RFC3339))
	}
	if n := status["wsrep_cluster_size"]; n != "" && n != "0" {
		put("cluster", fmt.Sprintf("%s of %s, %s", status["wsrep_cluster_status"], n, status["wsrep_local_state_comment"]))
	}
	if err := rows.Err(); err != nil {
		return o, said(err)
	}
	if of := s.follows(ctx); of != "" {
		put("follows", of)
	}
	return o, nil
}

// follows is the server of which this one is a replica; "" for none, or where our login may not know.
func (s *session) follows(ctx context.Context) string {
	rows, err := s.conn.QueryContext(ctx, "SHOW ALL SLAVES STATUS")
	if err != nil {
		return ""
	}
	defer rows.Close()
	columns, err := rows.Columns()
	at := slices.Index(columns, "Master_Host")
	if err != nil || at < 0 || !rows.Next() {
		return ""
	}
	row, into := make([]sql.NullString, len(columns)), make([]any, len(columns))
	for i := range row {
		into[i] = &row[i]
	}
	if rows.Scan(into...) != nil {
		return ""
	}
	return row[at].String
}

// clockSlack is how many seconds a clock may differ before it is told.
const clockSlack = 5
