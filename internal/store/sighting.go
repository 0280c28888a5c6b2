package store

import (
	"context"
	"database/sql"
	"time"

	"hen-roost/internal/core/model"
)

// Sighting is a survey under way: it knows what was there before, so that only
// what has changed is written, and what it did not see is known at the end.
type Sighting struct {
	s      *Store
	target string
	at     time.Time
	whole  bool
	before map[objectKey]glimpse
	pieces map[pieceKey]glimpse
	other  map[objectKey]bool // objects that are otherwise than before
	More   int                // accounts of people that it told of and that were not there before, less those that are gone
}

// Sight begins a survey of everything on a target at a moment.
func (s *Store) Sight(ctx context.Context, target string, at time.Time) (*Sighting, error) {
	g := s.SightSome(target, at)
	g.whole = true
	if err := g.know(ctx, `SELECT kind, name, uniq, belongs, body FROM observed WHERE target = ?`, target); err != nil {
		return nil, err
	}
	return g, g.knowPieces(ctx, `SELECT `+pieceColumns+` FROM member WHERE target = ?`, target)
}

// SightSome begins a survey of what changed on a target: of what it does not
// tell nothing is read, and everything stays.
func (s *Store) SightSome(target string, at time.Time) *Sighting {
	return &Sighting{s: s, target: target, at: at, before: map[objectKey]glimpse{}, pieces: map[pieceKey]glimpse{},
		other: map[objectKey]bool{}}
}

// know reads how objects were.
func (g *Sighting) know(ctx context.Context, query string, args ...any) error {
	rows, err := g.s.db.QueryxContext(ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	var kind, name, unique, body sql.RawBytes
	var belongs int
	for rows.Next() {
		if err := rows.Scan(&kind, &name, &unique, &belongs, &body); err != nil {
			return err
		}
		key := objectKey{string(kind), string(name)}
		g.before[key] = glimpse{sum: sumOf(unique, belongs, body), people: people(key.kind, belongs)}
	}
	return rows.Err()
}

func (g *Sighting) knowPieces(ctx context.Context, query string, args ...any) error {
	rows, err := g.s.db.QueryxContext(ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	var kind, name, mkind, first, body sql.RawBytes
	for rows.Next() {
		if err := rows.Scan(&kind, &name, &mkind, &first, &body); err != nil {
			return err
		}
		g.pieces[pieceKey{setKey{string(kind), string(name), string(mkind)}, string(first)}] = glimpse{sum: sumOf(nil, 0, body)}
	}
	return rows.Err()
}

// knowSome reads how some objects were that a survey of what changed tells of:
// by name, or by the target's own id, under whatever name they were known.
func (g *Sighting) knowSome(ctx context.Context, names []model.Named, ids map[model.ObjectKind][]string) error {
	keys := make([]objectKey, len(names))
	for i, n := range names {
		keys[i] = objectKey{n.Kind.String(), n.Name}
	}
	for kind, list := range ids {
		for from, to := range groups(len(list), observedGroup) {
			var found []string
			if err := g.s.db.SelectContext(ctx, &found,
				`SELECT name FROM observed WHERE target = ? AND kind = ? AND uniq IN `+oneOf(to-from),
				append([]any{g.target, kind.String()}, texts(list[from:to])...)...); err != nil {
				return err
			}
			for _, name := range found {
				keys = append(keys, objectKey{kind.String(), name})
			}
		}
	}
	return byKind(keys, func(kind string, names []any) error {
		args := append([]any{g.target, kind}, names...)
		of := ` WHERE target = ? AND kind = ? AND name IN ` + oneOf(len(names))
		if err := g.know(ctx, `SELECT kind, name, uniq, belongs, body FROM observed`+of, args...); err != nil {
			return err
		}
		return g.knowPieces(ctx, `SELECT `+pieceColumns+` FROM member`+of, args...)
	})
}

// Gone notes, in a survey of what changed, what is no longer there: by name, or
// by the target's own id.
func (g *Sighting) Gone(ctx context.Context, names []model.Named, ids map[model.ObjectKind][]string) error {
	return g.knowSome(ctx, names, ids)
}

// Put stores objects as seen. What is as it was is not written; what was
// otherwise before goes into the past.
func (g *Sighting) Put(ctx context.Context, objects []model.Object) error {
	if !g.whole {
		names, ids := make([]model.Named, len(objects)), map[model.ObjectKind][]string{}
		for i, o := range objects {
			if names[i] = (model.Named{Kind: o.Kind, Name: o.Name}); o.Unique != "" {
				ids[o.Kind] = append(ids[o.Kind], o.Unique)
			}
		}
		if err := g.knowSome(ctx, names, ids); err != nil {
			return err
		}
	}
	var fresh, changed []observedRow
	var stale []pieceKey
	var list []stretch
	for _, o := range objects {
		o, pieces, _ := unset(o)
		differs := false
		for _, p := range pieces {
			was, known := g.pieces[p.pieceKey]
			now := glimpse{sum: sumOf(nil, 0, []byte(model.PackValues(p.members))), seen: true}
			g.pieces[p.pieceKey] = now
			if known && was.sum == now.sum {
				continue
			}
			if list, differs = append(list, p), true; known {
				stale = append(stale, p.pieceKey)
			}
		}
		key, body := objectKey{o.Kind.String(), o.Name}, []byte(o.Attributes)
		was, known := g.before[key]
		now := glimpse{sumOf([]byte(o.Unique), flagsOf(&o), body), true, people(key.kind, flagsOf(&o))}
		g.before[key] = now
		g.count(now, 1)
		if known && !was.seen {
			g.count(was, -1)
		}
		row := observedRow{g.target, key.kind, key.name, o.Unique, flagsOf(&o), body, g.at}
		switch {
		case !known:
			fresh = append(fresh, row)
		case was.sum != now.sum:
			changed = append(changed, row)
		case !differs:
			continue
		}
		g.other[key] = true
	}
	if len(fresh)+len(changed)+len(list) == 0 {
		return nil
	}
	return g.s.Tx(ctx, func(tx *Tx) error {
		keys := make([]objectKey, len(changed))
		for i, r := range changed {
			keys[i] = objectKey{r.Kind, r.Name}
		}
		if err := tx.bury(ctx, g.target, keys, g.at); err != nil {
			return err
		}
		if err := tx.insertObserved(ctx, append(fresh, changed...)); err != nil {
			return err
		}
		more := map[string]int{}
		for _, r := range fresh {
			more[r.Kind]++
		}
		if err := tx.addHeld(ctx, g.target, more); err != nil {
			return err
		}
		if err := tx.buryPieces(ctx, g.target, stale, g.at); err != nil {
			return err
		}
		return tx.insertPieces(ctx, g.target, list, g.at)
	})
}

func (g *Sighting) count(x glimpse, n int) {
	if x.people {
		g.More += n
	}
}

// Done ends a survey: of one of everything, what it did not see is gone, and so
// are, of the sets that it told of, the members that it did not see. It returns
// the objects that are otherwise than before.
func (g *Sighting) Done(ctx context.Context) (changed []model.Named, err error) {
	var gone []objectKey
	all, less := map[string]int{}, map[string]int{}
	for key, x := range g.before {
		if x.seen {
			all[key.kind]++
			continue
		}
		gone = append(gone, key)
		g.other[key] = true
		g.count(x, -1)
		less[key.kind]--
	}
	var pieces []pieceKey
	for key, x := range g.pieces {
		if !x.seen {
			pieces = append(pieces, key)
			g.other[objectKey{key.kind, key.name}] = true
		}
	}
	for key := range g.other {
		changed = append(changed, model.Named{Kind: model.KindNamed(key.kind), Name: key.name})
	}
	return changed, g.s.Tx(ctx, func(tx *Tx) error {
		if err := tx.bury(ctx, g.target, gone, g.at); err != nil {
			return err
		}
		if err := tx.clear(ctx, g.target, gone); err != nil {
			return err
		}
		if err := tx.buryPieces(ctx, g.target, pieces, g.at); err != nil {
			return err
		}
		if err := tx.clearPieces(ctx, g.target, pieces); err != nil {
			return err
		}
		if g.whole {
			return tx.setHeld(ctx, g.target, all)
		}
		return tx.addHeld(ctx, g.target, less)
	})
}
