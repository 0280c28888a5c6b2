package mariadb

import (
	"context"
	"database/sql"
	"fmt"
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
	how, right, err := st.power(ctx)
	if err != nil {
		return s.fail("see who may act as another", err)
	}
	told := st.alike()
	for n, e := range st.accounts {
		o := st.object(n, e)
		more := told[n]
		if h := how[n]; h != nil {
			more = append(more, model.Attribute{Name: model.Elevation, Values: h})
		}
		if e.origin == "" || strings.Trim(e.origin, "%_") == "" {
			more = append(more, model.Attribute{Name: model.OpenWide, Values: []string{"it can be signed in to from any address"}})
		}
		if what := owned[n]; len(what) > 0 {
			more = append(more, model.Attribute{Name: model.Owns, Values: what})
		}
		if e.priv.Locked { // what is shut opens nothing
			more = slices.DeleteFunc(more, func(a model.Attribute) bool {
				return a.Name == model.OpenWide || a.Name == model.ShadowedBy || a.Name == model.UnevenWith
			})
		}
		for _, a := range more {
			o.Attributes = o.Attributes.With(a.Name, a.Values...)
			o.Marked = o.Marked || a.Name != model.Elevation && a.Name != model.Owns
		}
		if err := found(*o); err != nil {
			return err
		}
	}
	for n := range st.roles {
		if err := found(*st.role(n, true)); err != nil {
			return err
		}
	}
	for permission, who := range st.rights {
		if err := found(who.right(permission)); err != nil {
			return err
		}
	}
	return found(right)
}

// right is a permission as an object.
func (s *set) right(permission string) model.Object {
	name, odd := connect.Fit(permission)
	o := model.Object{Kind: model.RightKind, Name: name, Marked: odd != "", Attributes: model.Pack(
		model.Attribute{Name: model.Members, Values: s.accounts}, model.Attribute{Name: model.MemberGroups, Values: s.roles})}
	if odd != "" {
		o.Attributes = o.Attributes.With(model.Odd, odd)
	}
	return o
}

// power finds who can become superuser: by permissions, through roles, and by acting as another.
func (st *state) power(ctx context.Context) (how map[string][]string, right model.Object, err error) {
	mighty, members := map[model.Named][]string{}, map[model.Named][]model.Named{}
	allows := slices.Clone(powers)
	for permission, who := range st.rights {
		if !isMighty(permission) {
			continue
		}
		allows = append(allows, permission)
		right := model.Named{Kind: model.RightKind, Name: permission}
		mighty[right] = nil
		for _, a := range who.accounts {
			members[right] = append(members[right], model.Named{Kind: model.Account, Name: a})
		}
		for _, role := range who.roles {
			members[right] = append(members[right], model.Named{Kind: model.GroupKind, Name: role})
		}
	}
	for n, h := range st.has {
		for _, in := range h.has {
			if in.Kind == model.GroupKind {
				members[in] = append(members[in], n)
			}
		}
	}
	if err := st.proxies(ctx, mighty, members); err != nil {
		return nil, right, err
	}
	how, right = connect.Power(mighty, members, everybody)
	slices.Sort(allows)
	right.Attributes = right.Attributes.With(model.Allows, slices.Compact(allows)...)
	return how, right, nil
}

// proxies adds who may act as whom: as a named account, or as any.
func (st *state) proxies(ctx context.Context, mighty map[model.Named][]string, members map[model.Named][]model.Named) error {
	rows, err := st.conn.QueryContext(ctx, "SELECT User, Host, Proxied_user, Proxied_host FROM mysql.proxies_priv")
	if err != nil {
		return said(err)
	}
	defer rows.Close()
	for rows.Next() {
		var user, host, other, at string
		if err := rows.Scan(&user, &host, &other, &at); err != nil {
			return err
		}
		who, _ := granteeOf(user, host)
		if other == "" {
			mighty[who] = append(mighty[who], "PROXY of anybody")
			continue
		}
		as, _ := granteeOf(other, at)
		members[as] = append(members[as], who)
	}
	return said(rows.Err())
}

// toldMost is how many accounts of nobody's are looked at beside each other account.
const toldMost = 50

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
		for _, n := range names {
			for _, other := range nobody[:min(len(nobody), toldMost)] {
				if where := st.accounts[other].origin; login != "" && closer(other, n) < 0 && meet(st.accounts[n].origin, where) {
					out[n] = append(out[n], model.Attribute{Name: model.ShadowedBy, Values: []string{fmt.Sprintf(
						"from %s the account %s, which is nobody's, answers in its place", where, other)}})
					break
				}
			}
		}
		if len(names) > 1 {
			st.uneven(names, out)
		}
	}
	return out
}

// uneven tells of accounts of one login, the closest first, another that is open and may do other things.
func (st *state) uneven(names []string, out map[string][]model.Attribute) {
	type one struct {
		place      int
		name, what string
	}
	var first []one // of those that may do the same the closest that is open
	what := make([]string, len(names))
	for i, n := range names {
		what[i] = st.what(n)
		if !st.accounts[n].priv.Locked && !slices.ContainsFunc(first, func(o one) bool { return o.what == what[i] }) && len(first) < 2 {
			first = append(first, one{i, n, what[i]})
		}
	}
	for i, n := range names {
		at := slices.IndexFunc(first, func(o one) bool { return o.what != what[i] })
		if at < 0 {
			continue
		}
		other := first[at]
		words := "it may do other things than " + other.name
		if where := st.accounts[other.name].origin; other.place < i && meet(st.accounts[n].origin, where) {
			words += ", which answers from " + where
		}
		out[n] = append(out[n], model.Attribute{Name: model.UnevenWith, Values: []string{words}})
	}
}

// what an account has, in one text, without what comes with it.
func (st *state) what(n string) string {
	var list []string
	for _, x := range st.held(model.Named{Kind: model.Account, Name: n}) {
		list = append(list, x.Kind.String()+" "+x.Name)
	}
	list = (&model.Spelling{Covers: func(wide, narrow string) bool {
		return wide == narrow || dialect.Covers(strings.TrimPrefix(wide, "right "), strings.TrimPrefix(narrow, "right "))
	}}).Least(list)
	slices.Sort(list)
	return strings.Join(list, "\n")
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
	put("read-only", connect.Yes(readOnly != 0))
	now := time.UnixMilli(int64(clock * 1000))
	put(model.ClockOff, connect.ClockOff(now))
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
