package store

import (
	"context"
	"database/sql"
	"fmt"
	"hash/crc32"
	"maps"
	"slices"
	"strings"
	"time"

	"hen-roost/internal/core/model"
)

// Who is in a set is kept in pieces, each from a member whose hash ends in six
// zero bits up to the next such: so what pieces a set has depends on its members
// alone, a join or leave touches one of them, and pieces one after the other are
// the packed members of the whole set. See docs/performance.md for how this was
// chosen: rows of one member each take six times the room and the time.

const pieceBits = 6

// begins says whether a piece begins with a member.
func begins(member string) bool {
	return crc32.ChecksumIEEE([]byte(member))&(1<<pieceBits-1) == 0
}

// setKey is the members of one kind in one set.
type setKey struct{ kind, name, mkind string }

type pieceKey struct {
	setKey
	first string
}

// stretch is the members of one piece, in order.
type stretch struct {
	pieceKey
	members []string
}

// cut lays members, sorted, into pieces.
func (k setKey) cut(first string, members []string) (out []stretch) {
	p := stretch{pieceKey: pieceKey{k, first}}
	for _, m := range members {
		if begins(m) && m != p.first {
			if len(p.members) > 0 {
				out = append(out, p)
			}
			p = stretch{pieceKey: pieceKey{k, m}}
		}
		p.members = append(p.members, m)
	}
	if len(p.members) > 0 {
		out = append(out, p)
	}
	return out
}

// memberKinds are the kinds that sets have as members.
var memberKinds = []model.ObjectKind{model.Account, model.GroupKind}

// unset takes an object and its members apart; has is false when it tells of none.
func unset(o model.Object) (rest model.Object, pieces []stretch, has bool) {
	for _, kind := range memberKinds {
		attribute := model.MembersOf(kind)
		if !o.Attributes.Has(attribute) {
			continue
		}
		list := o.Attributes.Get(attribute)
		slices.Sort(list)
		key := setKey{o.Kind.String(), o.Name, kind.String()}
		pieces, has = append(pieces, key.cut("", slices.Compact(list))...), true
	}
	if has {
		o.Attributes = o.Attributes.Without(model.Members, model.MemberGroups)
	}
	return o, pieces, has
}

// pieceRow is a piece as it is stored.
type pieceRow struct {
	Kind  string `db:"kind"`
	Name  string `db:"name"`
	MKind string `db:"mkind"`
	First string `db:"first"`
	Body  []byte `db:"body"`
}

func (r pieceRow) key() pieceKey { return pieceKey{setKey{r.Kind, r.Name, r.MKind}, r.First} }

const pieceColumns = `kind, name, mkind, first, body`

// byPiece hands keys on in portions that share a set.
func byPiece(keys []pieceKey, do func(set setKey, firsts []any) error) error {
	by := map[setKey][]any{}
	for _, k := range keys {
		by[k.setKey] = append(by[k.setKey], k.first)
	}
	for set, firsts := range by {
		for from, to := range groups(len(firsts), observedGroup) {
			if err := do(set, firsts[from:to]); err != nil {
				return err
			}
		}
	}
	return nil
}

const ofPieces = ` WHERE target = ? AND kind = ? AND name = ? AND mkind = ? AND first IN `

// buryPieces copies pieces as they are into the past, ending at a moment.
func (tx *Tx) buryPieces(ctx context.Context, target string, keys []pieceKey, at time.Time) error {
	return byPiece(keys, func(k setKey, firsts []any) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO member_past (target, kind, name, mkind, first, until, since, body)
			SELECT target, kind, name, mkind, LEFT(first, 100), ?, since, body FROM member`+ofPieces+oneOf(len(firsts)),
			append([]any{at, target, k.kind, k.name, k.mkind}, firsts...)...)
		return err
	})
}

func (tx *Tx) clearPieces(ctx context.Context, target string, keys []pieceKey) error {
	return byPiece(keys, func(k setKey, firsts []any) error {
		_, err := tx.ExecContext(ctx, `DELETE FROM member`+ofPieces+oneOf(len(firsts)),
			append([]any{target, k.kind, k.name, k.mkind}, firsts...)...)
		return err
	})
}

func (tx *Tx) insertPieces(ctx context.Context, target string, list []stretch, at time.Time) error {
	bodies := make([]model.Values, len(list))
	for i, p := range list {
		bodies[i] = model.PackValues(p.members)
	}
	for from, to := range portions(len(list), rowsAtOnce, func(i int) int { return len(bodies[i]) + len(list[i].first) }) {
		part := list[from:to]
		done, err := tx.load(ctx, len(part), "member", "kind, name, mkind, first, last, body", func(t *tsv) {
			for i, p := range part {
				t.line(p.kind, p.name, p.mkind, p.first, p.members[len(p.members)-1], string(bodies[from+i]))
			}
		}, "target = ?, since = ?", target, at)
		if err != nil {
			return err
		}
		if done {
			continue
		}
		args := make([]any, 0, 8*len(part))
		for i, p := range part {
			args = append(args, target, p.kind, p.name, p.mkind, p.first, p.members[len(p.members)-1], []byte(bodies[from+i]), at)
		}
		_, err = tx.ExecContext(ctx, `INSERT INTO member (target, kind, name, mkind, first, last, body, since) VALUES `+rows(len(part), 8)+`
			ON DUPLICATE KEY UPDATE last = VALUES(last), body = VALUES(body), since = VALUES(since)`, args...)
		if err != nil {
			return err
		}
	}
	return nil
}

// Move is somebody who is in a set now, or no longer.
type Move struct {
	Set, Member model.Named
	In          bool
}

// PutMoves stores who came into sets of a target and who left them. Only the
// pieces that they stand in are read and written.
func (tx *Tx) PutMoves(ctx context.Context, target string, moves []Move, at time.Time) error {
	by := map[setKey]map[string]bool{}
	for _, m := range moves {
		k := setKey{m.Set.Kind.String(), m.Set.Name, m.Member.Kind.String()}
		if by[k] == nil {
			by[k] = map[string]bool{}
		}
		by[k][m.Member.Name] = m.In
	}
	for k, in := range by {
		if err := tx.moveIn(ctx, target, k, in, at); err != nil {
			return err
		}
	}
	return nil
}

// moveIn is PutMoves for one set.
func (tx *Tx) moveIn(ctx context.Context, target string, k setKey, in map[string]bool, at time.Time) error {
	pieces, err := tx.piecesAround(ctx, target, k, slices.Collect(maps.Keys(in)))
	if err != nil {
		return err
	}
	before := map[pieceKey][]string{}
	for _, p := range pieces {
		before[p.key()] = model.Values(p.Body).List()
	}
	after := k.moved(before, in)
	var stale, gone []pieceKey
	var list []stretch
	for key, was := range before {
		if now, there := after[key]; !there {
			gone, stale = append(gone, key), append(stale, key)
		} else if !slices.Equal(was, now) {
			stale = append(stale, key)
		}
	}
	for key, now := range after {
		if !slices.Equal(before[key], now) {
			list = append(list, stretch{key, now})
		}
	}
	if err := tx.buryPieces(ctx, target, stale, at); err != nil {
		return err
	}
	if err := tx.clearPieces(ctx, target, gone); err != nil {
		return err
	}
	return tx.insertPieces(ctx, target, list, at)
}

// moved is what becomes of some pieces of a set when members come and go.
func (k setKey) moved(before map[pieceKey][]string, in map[string]bool) map[pieceKey][]string {
	firsts := []string{}
	for key := range before {
		firsts = append(firsts, key.first)
	}
	if !slices.Contains(firsts, "") {
		firsts = append(firsts, "")
	}
	slices.Sort(firsts)
	members := map[string][]string{} // by piece as they were cut
	for _, f := range firsts {
		members[f] = slices.Clone(before[pieceKey{k, f}])
	}
	for m, comes := range in {
		i, exact := slices.BinarySearch(firsts, m)
		if !exact {
			i--
		}
		f := firsts[i]
		at, has := slices.BinarySearch(members[f], m)
		switch {
		case comes && !has:
			members[f] = slices.Insert(members[f], at, m)
		case !comes && has:
			members[f] = slices.Delete(members[f], at, at+1)
		}
	}
	after := map[pieceKey][]string{}
	carry := "" // the piece that goes on
	for _, f := range firsts {
		list := members[f]
		if f == "" || len(list) > 0 && list[0] == f {
			carry = f
		} // else its beginning has left, and the rest belongs to the piece before
		for _, p := range k.cut(carry, list) {
			after[p.pieceKey] = append(after[p.pieceKey], p.members...)
			carry = p.first
		}
	}
	return after
}

// piecesAround reads the pieces in which members stand, or would. Where a piece
// may come to an end with who leaves, the one before it is read too.
func (tx *Tx) piecesAround(ctx context.Context, target string, k setKey, members []string) (out []pieceRow, err error) {
	const one = `(SELECT ` + pieceColumns + ` FROM member WHERE target = ? AND kind = ? AND name = ? AND mkind = ? AND first %s ?
			ORDER BY first DESC LIMIT 1 FOR UPDATE)`
	have := map[string]bool{}
	for from, to := range groups(len(members), 200) {
		var queries []string
		var args []any
		for _, m := range members[from:to] {
			queries = append(queries, fmt.Sprintf(one, "<="))
			args = append(args, target, k.kind, k.name, k.mkind, m)
			if begins(m) {
				queries = append(queries, fmt.Sprintf(one, "<"))
				args = append(args, target, k.kind, k.name, k.mkind, m)
			}
		}
		var rows []pieceRow
		if err := tx.SelectContext(ctx, &rows, strings.Join(queries, " UNION ALL "), args...); err != nil {
			return nil, err
		}
		for _, r := range rows {
			if !have[r.First] {
				have[r.First] = true
				out = append(out, r)
			}
		}
	}
	return out, nil
}

// leaveAll takes objects that are gone out of all sets of a target.
func (tx *Tx) leaveAll(ctx context.Context, target string, gone []objectKey, at time.Time) error {
	moves, err := tx.leavings(ctx, target, gone)
	if err != nil {
		return err
	}
	return tx.PutMoves(ctx, target, moves, at)
}

// leavings are the moves of objects out of all sets of a target that they are in.
func (tx *Tx) leavings(ctx context.Context, target string, gone []objectKey) (moves []Move, err error) {
	return moves, byKind(gone, func(kind string, names []any) error {
		if kind != model.Account.String() && kind != model.GroupKind.String() {
			return nil
		}
		for from, to := range groups(len(names), 100) {
			part, args := names[from:to], []any{target, kind}
			for _, n := range part {
				args = append(args, n, n, []byte(n.(string)))
			}
			var rows []pieceRow
			if err := tx.SelectContext(ctx, &rows, `SELECT `+pieceColumns+` FROM member WHERE target = ? AND mkind = ? AND (`+
				strings.Repeat(" OR first <= ? AND last >= ? AND INSTR(body, ?) > 0", len(part))[len(" OR "):]+`)`, args...); err != nil {
				return err
			}
			for _, r := range rows {
				for _, n := range part {
					if r.holds(n.(string)) {
						moves = append(moves, Move{Set: model.Named{Kind: model.KindNamed(r.Kind), Name: r.Name},
							Member: model.Named{Kind: model.KindNamed(kind), Name: n.(string)}})
					}
				}
			}
		}
		return nil
	})
}

// members gives sets, in order of kind and name, the members that were read of
// them, in the order of pieces.
func (s *Store) members(ctx context.Context, sets []model.Object, query string, args ...any) error {
	rows, err := s.db.QueryxContext(ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	at := map[model.Named]int{}
	for i, o := range sets {
		at[model.Named{Kind: o.Kind, Name: o.Name}] = i
	}
	var of setKey
	var body strings.Builder
	flush := func() {
		i, ok := at[model.Named{Kind: model.KindNamed(of.kind), Name: of.name}]
		if ok && body.Len() > 0 {
			o := &sets[i]
			o.Attributes = o.Attributes.WithPacked(model.MembersOf(model.KindNamed(of.mkind)), model.Values(body.String()))
		}
		body = strings.Builder{}
	}
	var kind, name, mkind, piece sql.RawBytes
	for rows.Next() {
		if err := rows.Scan(&kind, &name, &mkind, &piece); err != nil {
			return err
		}
		if of.kind != string(kind) || of.name != string(name) || of.mkind != string(mkind) {
			flush()
			of = setKey{string(kind), string(name), string(mkind)}
		}
		body.Write(piece)
	}
	flush()
	return rows.Err()
}

// Set returns a set with all its members, or ErrNone.
func (s *Store) Set(ctx context.Context, target string, set model.Named) (model.Object, error) {
	o, err := s.Object(ctx, target, set.Kind, set.Name)
	if err != nil {
		return o, err
	}
	one := []model.Object{o}
	err = s.members(ctx, one, `SELECT kind, name, mkind, body FROM member WHERE target = ? AND kind = ? AND name = ? ORDER BY mkind, first`,
		target, set.Kind.String(), set.Name)
	return one[0], err
}

// SetsNamed returns who is in some sets of a target; those in which nobody is are left out.
func (s *Store) SetsNamed(ctx context.Context, target string, sets []model.Named) (out []model.Object, err error) {
	for _, kind := range kindsAmong(sets) {
		names := namesOf(sets, kind)
		for from, to := range groups(len(names), observedGroup) {
			part := make([]model.Object, 0, to-from)
			for _, n := range names[from:to] {
				part = append(part, model.Object{Kind: kind, Name: n})
			}
			if err := s.members(ctx, part, `SELECT kind, name, mkind, body FROM member WHERE target = ? AND kind = ? AND name IN `+
				oneOf(to-from)+` ORDER BY kind, name, mkind, first`,
				append([]any{target, kind.String()}, texts(names[from:to])...)...); err != nil {
				return nil, err
			}
			for _, o := range part {
				if o.Attributes != "" {
					out = append(out, o)
				}
			}
		}
	}
	return out, nil
}

// SetsOfKind returns the names of all sets of a kind on a target.
func (s *Store) SetsOfKind(ctx context.Context, target string, kind model.ObjectKind) (out []model.Named, err error) {
	var names []string
	err = s.db.SelectContext(ctx, &names, `SELECT name FROM observed WHERE target = ? AND kind = ?`, target, kind.String())
	for _, n := range names {
		out = append(out, model.Named{Kind: kind, Name: n})
	}
	return out, err
}

// SetsOf returns the sets on a target that somebody is a direct member of.
func (s *Store) SetsOf(ctx context.Context, target string, member model.Named) ([]model.Named, error) {
	var rows []pieceRow
	// The database finds the pieces that could hold the name; which of them do is seen here.
	err := s.db.SelectContext(ctx, &rows, `SELECT `+pieceColumns+` FROM member
		WHERE target = ? AND mkind = ? AND first <= ? AND last >= ? AND INSTR(body, ?) > 0 ORDER BY kind, name`,
		target, member.Kind.String(), member.Name, member.Name, []byte(member.Name))
	out := []model.Named{}
	for _, r := range rows {
		if r.holds(member.Name) {
			out = append(out, model.Named{Kind: model.KindNamed(r.Kind), Name: r.Name})
		}
	}
	return out, err
}

func (r pieceRow) holds(name string) bool {
	for m := range model.Values(r.Body).All() {
		if m == name {
			return true
		}
	}
	return false
}

// InSet says whether somebody was seen in a set.
func (s *Store) InSet(ctx context.Context, target string, set, member model.Named) (bool, error) {
	var r pieceRow
	err := s.db.GetContext(ctx, &r, `SELECT `+pieceColumns+` FROM member
		WHERE target = ? AND kind = ? AND name = ? AND mkind = ? AND first <= ? ORDER BY first DESC LIMIT 1`,
		target, set.Kind.String(), set.Name, member.Kind.String(), member.Name)
	if err == ErrNone {
		return false, nil
	}
	return err == nil && r.holds(member.Name), err
}

// InSets returns some sets by target, of their members only those of the given
// names, so that large sets stay where they are.
func (s *Store) InSets(ctx context.Context, targets []string, sets []model.Named, members []string) (map[string][]model.Object, error) {
	out := map[string][]model.Object{}
	if len(sets) == 0 || len(members) == 0 {
		return out, nil
	}
	slices.Sort(members)
	in := map[string]map[model.Named][]string{}
	for _, kind := range kindsAmong(sets) {
		names := namesOf(sets, kind)
		for from, to := range groups(len(targets), manyTargets) {
			args := append(append(texts(targets[from:to]), kind.String()), texts(names)...)
			err := s.eachObject(ctx, `SELECT target, kind, name, uniq, belongs, body FROM observed
				WHERE target IN `+oneOf(to-from)+` AND kind = ? AND name IN `+oneOf(len(names))+` ORDER BY target, name`, args,
				func(target string, o model.Object) {
					o.Attributes = ""
					out[target] = append(out[target], o)
				})
			if err != nil {
				return nil, err
			}
			if err := s.within(ctx, in, args, to-from, len(names), members); err != nil {
				return nil, err
			}
		}
	}
	for target, list := range out {
		for i := range list {
			if m := in[target][model.Named{Kind: list[i].Kind, Name: list[i].Name}]; m != nil {
				list[i].Attributes = model.Pack(model.Attribute{Name: model.Members, Values: m})
			}
		}
	}
	return out, nil
}

// within finds members among the pieces of the sets that args choose.
func (s *Store) within(ctx context.Context, in map[string]map[model.Named][]string, args []any, targets, names int,
	members []string) error {
	some := strings.Repeat(" OR first <= ? AND last >= ? AND INSTR(body, ?) > 0", len(members))[len(" OR "):]
	args = append(slices.Clone(args), model.Account.String())
	for _, m := range members {
		args = append(args, m, m, []byte(m))
	}
	var rows []struct {
		Target string `db:"target"`
		pieceRow
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT target, `+pieceColumns+` FROM member
		WHERE target IN `+oneOf(targets)+` AND kind = ? AND name IN `+oneOf(names)+` AND mkind = ? AND (`+some+`)
				ORDER BY target, kind, name, mkind, first`, args...)
	for _, r := range rows {
		if in[r.Target] == nil {
			in[r.Target] = map[model.Named][]string{}
		}
		n := model.Named{Kind: model.KindNamed(r.Kind), Name: r.Name}
		for m := range model.Values(r.Body).All() {
			if _, ok := slices.BinarySearch(members, m); ok {
				in[r.Target][n] = append(in[r.Target][n], m)
			}
		}
	}
	return err
}

func kindsAmong(sets []model.Named) (out []model.ObjectKind) {
	for _, s := range sets {
		if !slices.Contains(out, s.Kind) {
			out = append(out, s.Kind)
		}
	}
	return out
}

func namesOf(sets []model.Named, kind model.ObjectKind) (out []string) {
	for _, s := range sets {
		if s.Kind == kind {
			out = append(out, s.Name)
		}
	}
	return out
}

// CountMembers counts the members of some sets of a kind, by name and by their kind.
func (s *Store) CountMembers(ctx context.Context, target string, kind model.ObjectKind,
	names []string) (map[string]map[model.ObjectKind]int, error) {
	out := map[string]map[model.ObjectKind]int{}
	for from, to := range groups(len(names), observedGroup) {
		rows, err := s.db.QueryxContext(ctx, `SELECT name, mkind, body FROM member WHERE target = ? AND kind = ?
			AND name IN `+oneOf(to-from),
			append([]any{target, kind.String()}, texts(names[from:to])...)...)
		if err != nil {
			return nil, err
		}
		var name, mkind, body sql.RawBytes
		for rows.Next() {
			if err := rows.Scan(&name, &mkind, &body); err != nil {
				rows.Close()
				return nil, err
			}
			n := 0
			for range model.Values(body).All() {
				n++
			}
			if out[string(name)] == nil {
				out[string(name)] = map[model.ObjectKind]int{}
			}
			out[string(name)][model.KindNamed(string(mkind))] += n
		}
		if err := rows.Err(); err != nil {
			return nil, err
		}
		rows.Close()
	}
	return out, nil
}

// MembersPage returns one page of the members of a kind in a set, and how many there are.
func (s *Store) MembersPage(ctx context.Context, target string, set model.Named, kind model.ObjectKind,
	p Page) (out []string, total int, err error) {
	rows, err := s.db.QueryxContext(ctx, `SELECT body FROM member WHERE target = ? AND kind = ? AND name = ? AND mkind = ? ORDER BY first`,
		target, set.Kind.String(), set.Name, kind.String())
	if err != nil {
		return nil, 0, err
	}
	defer rows.Close()
	var body sql.RawBytes
	for rows.Next() {
		if err := rows.Scan(&body); err != nil {
			return nil, 0, err
		}
		for m := range model.Values(body).All() {
			if total >= p.From && len(out) < p.Size {
				out = append(out, strings.Clone(m))
			}
			total++
		}
	}
	return out, total, rows.Err()
}
