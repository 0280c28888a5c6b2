package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"hash/maphash"
	"strconv"
	"strings"
	"time"

	"hen-roost/internal/core/model"
)

// What is noted of an object beside its attributes, in the column belongs.
const (
	systemFlag = 1 << iota // the target has it for itself
	oursFlag               // Hen Roost signs in with it
	markFlag               // it is odd, or has no password
	powerFlag              // it can become superuser
	shutFlag               // nobody can come in by it
)

// withPower are the values of belongs with that flag, for an index to find.
const withPower = `(8, 9, 10, 11, 12, 13, 14, 15, 24, 25, 26, 27, 28, 29, 30, 31)`

// withSystem are those of what is the target's own.
const withSystem = `(1, 3, 5, 7, 9, 11, 13, 15, 17, 19, 21, 23, 25, 27, 29, 31)`

// withShut are those with that other one.
const withShut = `(16, 17, 18, 19, 20, 21, 22, 23, 24, 25, 26, 27, 28, 29, 30, 31)`

func flagsOf(o *model.Object) int {
	n := 0
	if o.System {
		n |= systemFlag
	}
	if o.Ours {
		n |= oursFlag
	}
	if o.Marked {
		n |= markFlag
	}
	if o.Kind == model.Account && o.Attributes.Has(model.Elevation) {
		n |= powerFlag
	}
	if o.Kind == model.Account && o.Attributes.One(model.Disabled) == "yes" {
		n |= shutFlag
	}
	return n
}

func setFlags(o *model.Object, flags int) {
	o.System, o.Ours, o.Marked = flags&systemFlag != 0, flags&oursFlag != 0, flags&markFlag != 0
}

type observedRow struct {
	Target, Kind, Name, Unique string
	Flags                      int
	Body                       []byte
	Since                      time.Time
}

const observedGroup = 500 // rows in one statement

type objectKey struct{ kind, name string }

// glimpse tells whether an object is as it was: 64 bits of a hash are enough to notice a change.
type glimpse struct {
	sum    uint64
	seen   bool
	people bool // an account that is not the target's own
}

func people(kind string, flags int) bool {
	return kind == model.Account.String() && flags&systemFlag == 0
}

var sumSeed = maphash.MakeSeed()

func sumOf(unique []byte, flags int, body []byte) uint64 {
	var h maphash.Hash
	h.SetSeed(sumSeed)
	h.Write(unique)
	h.WriteByte(0)
	h.WriteByte(byte(flags))
	h.Write(body)
	return h.Sum64()
}

// byKind hands keys on kind by kind, in portions: the database finds a kind and
// a list of names through the index, but not a list of pairs.
func byKind(keys []objectKey, do func(kind string, names []any) error) error {
	by := map[string][]any{}
	for _, k := range keys {
		by[k.kind] = append(by[k.kind], k.name)
	}
	for kind, names := range by {
		for from, to := range groups(len(names), observedGroup) {
			if err := do(kind, names[from:to]); err != nil {
				return err
			}
		}
	}
	return nil
}

// clear removes objects.
func (tx *Tx) clear(ctx context.Context, target string, keys []objectKey) error {
	return byKind(keys, func(kind string, names []any) error {
		_, err := tx.ExecContext(ctx, `DELETE FROM observed WHERE target = ? AND kind = ? AND name IN `+oneOf(len(names)),
			append([]any{target, kind}, names...)...)
		return err
	})
}

// bury copies objects as they are into the past, ending at a moment.
func (tx *Tx) bury(ctx context.Context, target string, keys []objectKey, at time.Time) error {
	return byKind(keys, func(kind string, names []any) error {
		_, err := tx.ExecContext(ctx, `INSERT IGNORE INTO observed_past (target, kind, name, until, since, uniq, belongs, body)
			SELECT target, kind, name, ?, since, uniq, belongs, body FROM observed WHERE target = ? AND kind = ?
				AND name IN `+oneOf(len(names)), append([]any{at, target, kind}, names...)...)
		return err
	})
}

// insertObserved writes rows of one target, all seen at one moment.
func (tx *Tx) insertObserved(ctx context.Context, list []observedRow) error {
	for from, to := range portions(len(list), 5*rowsAtOnce, func(i int) int { return len(list[i].Body) + len(list[i].Name) }) {
		part := list[from:to]
		done, err := tx.load(ctx, len(part), "observed", "kind, name, uniq, belongs, body", func(t *tsv) {
			for _, r := range part {
				t.line(r.Kind, r.Name, r.Unique, strconv.Itoa(r.Flags), string(r.Body))
			}
		}, "target = ?, since = ?", part[0].Target, part[0].Since)
		if err != nil {
			return err
		}
		if done {
			continue
		}
		args := make([]any, 0, 7*len(part))
		for _, r := range part {
			args = append(args, r.Target, r.Kind, r.Name, r.Unique, r.Flags, r.Body, r.Since)
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO observed (target, kind, name, uniq, belongs, body, since) VALUES `+rows(len(part), 7)+`
			ON DUPLICATE KEY UPDATE uniq = VALUES(uniq), belongs = VALUES(belongs), body = VALUES(body), since = VALUES(since)`,
			args...); err != nil {
			return err
		}
	}
	return nil
}

// PutObjects stores objects as read back after steps, those that were there before and those that were not, and removes those
// that are gone, with their members. Who is in a set is told by PutMoves.
func (tx *Tx) PutObjects(ctx context.Context, target string, objects []model.Object, removed []model.Named, at time.Time) error {
	asked := make([]objectKey, 0, len(objects)+len(removed))
	for _, o := range objects {
		asked = append(asked, objectKey{o.Kind.String(), o.Name})
	}
	for _, n := range removed {
		asked = append(asked, objectKey{n.Kind.String(), n.Name})
	}
	was, err := tx.before(ctx, target, asked)
	if err != nil {
		return err
	}
	var changed []objectKey
	more := map[string]int{}
	list := make([]observedRow, 0, len(objects))
	for i, o := range objects {
		o, _, _ = unset(o)
		before, there := was[asked[i]]
		if there {
			o = before.carried(o)
		}
		row := observedRow{target, o.Kind.String(), o.Name, o.Unique, flagsOf(&o), []byte(o.Attributes), at}
		switch {
		case !there:
			more[row.Kind]++
		case string(before.Unique) == row.Unique && before.Flags == row.Flags && string(before.Body) == string(row.Body):
			continue // read back as it was: an account that was adopted, a set that somebody came into
		default:
			changed = append(changed, asked[i])
		}
		list = append(list, row)
	}
	gone := asked[len(objects):]
	for _, key := range gone {
		if _, there := was[key]; there {
			more[key.kind]--
		}
	}
	if err := tx.bury(ctx, target, append(changed, gone...), at); err != nil {
		return err
	}
	if err := tx.insertObserved(ctx, list); err != nil {
		return err
	}
	if err := tx.clear(ctx, target, gone); err != nil {
		return err
	}
	if err := tx.addHeld(ctx, target, more); err != nil {
		return err
	}
	if err := tx.emptied(ctx, target, gone, at); err != nil {
		return err
	}
	return tx.leaveAll(ctx, target, gone, at)
}

// beforeRow is an object as it was stored before.
type beforeRow struct {
	Name   string `db:"name"`
	Unique []byte `db:"uniq"`
	Flags  int    `db:"belongs"`
	Body   []byte `db:"body"`
}

// carried is an object that was read back, with what surveys alone tell of it as the last one did.
func (b beforeRow) carried(o model.Object) model.Object {
	var was model.Object
	if fill(&was, nil, nil, b.Body) != nil {
		return o
	}
	return model.Carried(was, o)
}

// before tells how some objects are that are there.
func (tx *Tx) before(ctx context.Context, target string, keys []objectKey) (map[objectKey]beforeRow, error) {
	out := make(map[objectKey]beforeRow, len(keys))
	return out, byKind(keys, func(kind string, names []any) error {
		var rows []beforeRow
		err := tx.SelectContext(ctx, &rows, `SELECT name, uniq, belongs, body FROM observed WHERE target = ? AND kind = ? AND name IN `+
			oneOf(len(names)), append([]any{target, kind}, names...)...)
		for _, r := range rows {
			out[objectKey{kind, r.Name}] = r
		}
		return err
	})
}

// emptied takes away the members of sets that are gone.
func (tx *Tx) emptied(ctx context.Context, target string, sets []objectKey, at time.Time) error {
	return byKind(sets, func(kind string, names []any) error {
		var rows []pieceRow
		err := tx.SelectContext(ctx, &rows, `SELECT kind, name, mkind, first, '' AS body FROM member WHERE target = ? AND kind = ?
				AND name IN `+oneOf(len(names)),
			append([]any{target, kind}, names...)...)
		if err != nil {
			return err
		}
		keys := make([]pieceKey, len(rows))
		for i, r := range rows {
			keys[i] = r.key()
		}
		if err := tx.buryPieces(ctx, target, keys, at); err != nil {
			return err
		}
		return tx.clearPieces(ctx, target, keys)
	})
}

// Holding returns what a target was last seen to hold: accounts and all else,
// each by name. Accounts that are linked to the user who has their name say so;
// all other links are returned beside. It takes little more memory than the texts do.
func (s *Store) Holding(ctx context.Context, target string) (accounts, others []model.Object, links []model.Link, err error) {
	var room int
	if err := s.db.GetContext(ctx, &room, `SELECT COALESCE(MAX(accounts), 0) FROM target WHERE name = ?`, target); err != nil {
		return nil, nil, nil, err
	}
	linked, err := s.db.QueryxContext(ctx, `SELECT `+linkColumns+` FROM link WHERE target = ? ORDER BY name`, target)
	if err != nil {
		return nil, nil, nil, err
	}
	defer linked.Close()
	var next *model.Link // the next in order of name
	advance := func() error {
		next = nil
		if !linked.Next() {
			return linked.Err()
		}
		var l model.Link
		next = &l
		return linked.Scan(&l.Target, &l.User, &l.Name, &l.Rest, &l.Unique)
	}
	if err := advance(); err != nil {
		return nil, nil, nil, err
	}
	accounts = make([]model.Object, 0, room+room/50+16)
	accounts, others, err = s.objects(ctx, accounts, func(o *model.Object) error {
		for o.Kind == model.Account && next != nil && next.Name <= o.Name {
			if next.Name == o.Name && next.User == o.Name && (next.Unique == "" || next.Unique == o.Unique) {
				o.Linked = true
			} else {
				links = append(links, *next)
			}
			if err := advance(); err != nil {
				return err
			}
		}
		return nil
	}, `SELECT kind, name, uniq, belongs, body FROM observed WHERE target = ? ORDER BY kind, name`, target)
	for err == nil && next != nil {
		links = append(links, *next)
		err = advance()
	}
	if err == nil {
		err = s.members(ctx, others, `SELECT kind, name, mkind, body FROM member WHERE target = ? ORDER BY kind, name, mkind, first`,
			target)
	}
	return accounts, others, links, err
}

// ShutSince returns since when the accounts of a target that may be shut are as they are, by name.
func (s *Store) ShutSince(ctx context.Context, target string) (map[string]time.Time, error) {
	var rows []struct {
		Name  string    `db:"name"`
		Since time.Time `db:"since"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT name, since FROM observed WHERE target = ? AND kind = 'account'
		AND belongs IN `+withShut, target)
	out := make(map[string]time.Time, len(rows))
	for _, r := range rows {
		out[r.Name] = r.Since
	}
	return out, err
}

// ObservedAt returns what a target was seen to hold at a moment in the past.
func (s *Store) ObservedAt(ctx context.Context, target string, at time.Time) (accounts, others []model.Object, err error) {
	accounts, others, err = s.objects(ctx, nil, nil, `SELECT kind, name, uniq, belongs, body FROM observed WHERE target = ? AND since <= ?
		UNION ALL SELECT kind, name, uniq, belongs, body FROM observed_past FORCE INDEX (PRIMARY) WHERE target = ? AND since <= ? AND until > ?
				ORDER BY kind, name`, target, at, target, at, at)
	if err == nil {
		err = s.members(ctx, others, `SELECT kind, name, mkind, body FROM (
			SELECT kind, name, mkind, first, body FROM member WHERE target = ? AND since <= ?
			UNION ALL SELECT kind, name, mkind, first, body FROM member_past FORCE INDEX (by_until) WHERE target = ? AND since <= ? AND until > ?) m
			ORDER BY kind, name, mkind, first`, target, at, target, at, at)
	}
	return accounts, others, err
}

// objects reads rows, and lets each be looked at once it is read; accounts go behind those that are there.
func (s *Store) objects(ctx context.Context, accounts []model.Object, look func(*model.Object) error, query string,
	args ...any) (_, others []model.Object, err error) {
	rows, err := s.db.QueryxContext(ctx, query, args...)
	if err != nil {
		return nil, nil, err
	}
	defer rows.Close()
	var kind, name, unique, body sql.RawBytes
	var t texture
	var flags int
	for rows.Next() {
		var o model.Object
		if err := rows.Scan(&kind, &name, &unique, &flags, &body); err != nil {
			return nil, nil, err
		}
		setFlags(&o, flags)
		o.Kind = model.KindNamed(string(kind))
		if err := t.unpack(&o, name, unique, body); err != nil {
			return nil, nil, fmt.Errorf("observed: %s %s: %w", kind, name, err)
		}
		if look != nil {
			if err := look(&o); err != nil {
				return nil, nil, err
			}
		}
		if o.Kind == model.Account {
			accounts = append(accounts, o)
		} else {
			others = append(others, o)
		}
	}
	return accounts, others, rows.Err()
}

// texture lays the texts of many objects side by side in large pieces of
// memory, in the order in which they are read, and later compared.
type texture struct{ b strings.Builder }

func (t *texture) unpack(o *model.Object, name, unique, body []byte) error {
	if early(body) {
		return fill(o, name, unique, body)
	}
	n, u := len(name), len(unique)
	if size := n + u + len(body); t.b.Cap()-t.b.Len() < size {
		t.b = strings.Builder{} // what is in the full one stays where it is
		t.b.Grow(max(size, 64<<10))
	}
	from := t.b.Len()
	t.b.Write(name)
	t.b.Write(unique)
	t.b.Write(body)
	all := t.b.String()[from:]
	o.Name, o.Unique, o.Attributes = all[:n], all[n:n+u], model.Attributes(all[n+u:])
	return o.Attributes.Check()
}

func scanObject(scan func(...any) error) (model.Object, error) {
	var o model.Object
	var kind string
	var name, unique, body []byte
	var flags int
	if err := scan(&kind, &name, &unique, &flags, &body); err != nil {
		return o, err
	}
	setFlags(&o, flags)
	o.Kind = model.KindNamed(kind)
	return o, fill(&o, name, unique, body)
}

// early says whether a row holds JSON, as rows of early versions do: a packed name has no 123 bytes.
func early(body []byte) bool { return len(body) > 0 && body[0] == '{' }

func fill(o *model.Object, name, unique, body []byte) error {
	o.Name, o.Unique = string(name), string(unique)
	if early(body) {
		return json.Unmarshal(body, &o.Attributes)
	}
	o.Attributes = model.Attributes(body)
	return o.Attributes.Check()
}

// Object returns one observed object, or ErrNone.
func (s *Store) Object(ctx context.Context, target string, kind model.ObjectKind, name string) (model.Object, error) {
	return scanObject(s.db.QueryRowxContext(ctx, `SELECT kind, name, uniq, belongs, body FROM observed WHERE target = ? AND kind = ?
			AND name = ?`, target, kind.String(), name).Scan)
}

func escapeLike(s string) string {
	out := make([]byte, 0, len(s))
	for i := range len(s) {
		if s[i] == '%' || s[i] == '_' || s[i] == '\\' {
			out = append(out, '\\')
		}
		out = append(out, s[i])
	}
	return string(out)
}

// Administrators returns the open accounts of users on a target that can
// become superuser, by name, without the one named and without ours. An
// account that is nobody's does not count: nobody would be there to use it.
func (s *Store) Administrators(ctx context.Context, target, without string) (map[string]*model.Object, error) {
	out := map[string]*model.Object{}
	err := s.eachObject(ctx, `SELECT ?, o.kind, o.name, o.uniq, o.belongs, o.body FROM observed o
			JOIN link l ON l.target = o.target AND l.name = o.name
		WHERE o.target = ? AND o.kind = 'account' AND o.belongs IN `+withPower+` AND o.name <> ?`, []any{target, target, without},
		func(_ string, o model.Object) {
			if o.Administers() {
				out[o.Name] = &o
			}
		})
	return out, err
}

// askedByName is how many names are looked for one by one, rather than all that a target holds looked through.
const askedByName = 20_000

// Flagged returns those of the named accounts of a target of which more is to be
// known than their name: the target's own, ours, odd ones, and those that can
// become superuser.
func (s *Store) Flagged(ctx context.Context, target string, names []string) (map[string]*model.Object, error) {
	out := map[string]*model.Object{}
	const flagged = `SELECT ?, kind, name, uniq, belongs, body FROM observed WHERE target = ? AND kind = 'account' AND belongs NOT IN (0, 16)`
	if len(names) > askedByName { // then most of what the target holds is meant, and few of it are such
		meant := make(map[string]bool, len(names))
		for _, n := range names {
			meant[n] = true
		}
		err := s.eachObject(ctx, flagged, []any{target, target}, func(_ string, o model.Object) {
			if meant[o.Name] {
				out[o.Name] = &o
			}
		})
		return out, err
	}
	for from, to := range groups(len(names), observedGroup) {
		err := s.eachObject(ctx, flagged+` AND name IN `+oneOf(to-from), append([]any{target, target}, texts(names[from:to])...),
			func(_ string, o model.Object) { out[o.Name] = &o })
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// LinkedNames returns whose some accounts of a target are, by name.
func (s *Store) LinkedNames(ctx context.Context, target string, names []string) (map[string]string, error) {
	links, err := s.LinksNamed(ctx, target, names)
	out := make(map[string]string, len(links))
	for _, l := range links {
		out[l.Name] = l.User
	}
	return out, err
}

// LinksNamed returns the links of some accounts of a target, by their names.
func (s *Store) LinksNamed(ctx context.Context, target string, names []string) (out []model.Link, err error) {
	for from, to := range groups(len(names), observedGroup) {
		var rows []linkRow
		if err := s.db.SelectContext(ctx, &rows, `SELECT `+linkColumns+` FROM link WHERE target = ? AND name IN `+oneOf(to-from),
			append([]any{target}, texts(names[from:to])...)...); err != nil {
			return nil, err
		}
		for _, r := range rows {
			out = append(out, model.Link(r))
		}
	}
	return out, nil
}
