package store

import (
	"cmp"
	"context"
	"database/sql"
	"maps"
	"slices"
	"time"

	"hen-roost/internal/core/model"
)

// Moment is when an object of a target was seen to be otherwise than before.
type Moment struct {
	At            time.Time
	Before, After *model.Object // without members; nil: it was not there, or is as it was
	Came, Left    []model.Named // members of a set, in order
}

// pastPieces are how many pieces of a set's past are looked at for one page, and
// as many more as ended at the same moment.
const pastPieces = 500

// History returns moments before another at which an object became otherwise, the
// newest first, at most so many; more says that there are earlier ones.
func (s *Store) History(ctx context.Context, target string, n model.Named, before time.Time,
	most int) (out []Moment, more bool, err error) {
	by := map[time.Time]*Moment{}
	at := func(t time.Time) *Moment {
		if by[t] == nil {
			by[t] = &Moment{At: t}
		}
		return by[t]
	}
	states, from, err := s.spans(ctx, "observed", `'' AS mkind, uniq, belongs, body`, target, n, before, most)
	if err == nil {
		err = tellStates(states, n, at)
	}
	if err != nil {
		return nil, false, err
	}
	if n.Kind.IsSet() {
		pieces, all, err := s.spans(ctx, "member", `mkind, '' AS uniq, 0 AS belongs, body`, target, n, before, pastPieces)
		if err != nil {
			return nil, false, err
		}
		tellMembers(pieces, at)
		if all.After(from) {
			from = all
		}
	}
	for _, m := range by {
		if m.At.Before(before) && !m.At.Before(from) {
			out = append(out, *m)
		}
	}
	slices.SortFunc(out, func(a, b Moment) int { return b.At.Compare(a.At) })
	if len(out) > most {
		return out[:most], true, nil
	}
	return out, !from.IsZero(), nil
}

// span is from when until when something was as it was.
type span struct {
	Since  time.Time    `db:"since"`
	Until  sql.NullTime `db:"until"` // nothing: until the moment that was asked for, or longer
	MKind  string       `db:"mkind"`
	Unique string       `db:"uniq"`
	Flags  int          `db:"belongs"`
	Body   []byte       `db:"body"`
}

// spans returns how an object was before a moment, as far back as so many of
// them reach: to the time from, or to the beginning when that is the zero time.
func (s *Store) spans(ctx context.Context, table, columns, target string, n model.Named, before time.Time,
	most int) (out []span, from time.Time, err error) {
	const of = ` WHERE target = ? AND kind = ? AND name = ? AND `
	key := []any{target, n.Kind.String(), n.Name}
	err = s.db.GetContext(ctx, &from, `SELECT until FROM `+table+`_past`+of+`until < ? ORDER BY until DESC LIMIT 1 OFFSET ?`,
		append(slices.Clone(key), before, most-1)...)
	if err != nil && err != ErrNone {
		return nil, from, err
	}
	args := append(slices.Clone(key), from, before) // the zero time is before all others in the database too
	args = append(append(args, key...), from, before)
	args = append(append(args, key...), before, from, before)
	err = s.db.SelectContext(ctx, &out, `SELECT since, until, `+columns+` FROM `+table+`_past`+of+`until >= ? AND until < ?
		UNION ALL SELECT since, NULL, `+columns+` FROM `+table+of+`since >= ? AND since < ?
		UNION ALL SELECT since, NULL, `+columns+` FROM `+table+`_past`+of+`until >= ? AND since >= ? AND since < ?`, args...)
	return out, from, err
}

// tellStates notes when an object came, changed and went.
func tellStates(states []span, n model.Named, at func(time.Time) *Moment) error {
	for _, r := range states {
		o := model.Object{Kind: n.Kind}
		if err := fill(&o, []byte(n.Name), []byte(r.Unique), r.Body); err != nil {
			return err
		}
		setFlags(&o, r.Flags)
		o.Attributes = o.Attributes.Without(model.Members, model.MemberGroups)
		at(r.Since).After = &o
		if r.Until.Valid {
			at(r.Until.Time).Before = &o
		}
	}
	return nil
}

// tellMembers notes who came into a set and who left it: who stands in a piece
// from a moment on, and in none that ended then, or the other way round.
func tellMembers(pieces []span, at func(time.Time) *Moment) {
	in := map[time.Time]map[model.Named]int{}
	note := func(t time.Time, r span, by int) {
		if in[t] == nil {
			in[t] = map[model.Named]int{}
		}
		for m := range model.Values(r.Body).All() {
			in[t][model.Named{Kind: model.KindNamed(r.MKind), Name: m}] += by
		}
	}
	for _, r := range pieces {
		note(r.Since, r, 1)
		if r.Until.Valid {
			note(r.Until.Time, r, -1)
		}
	}
	for t, who := range in {
		for _, m := range slices.SortedFunc(maps.Keys(who), model.Named.Compare) {
			switch cmp.Compare(who[m], 0) {
			case 1:
				at(t).Came = append(at(t).Came, m)
			case -1:
				at(t).Left = append(at(t).Left, m)
			}
		}
	}
}
