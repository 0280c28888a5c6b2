package store

import (
	"context"
	"maps"
	"slices"
	"strings"

	"hen-roost/internal/core/model"
)

// SetsWith returns one page of the names of sets of a kind that have members of
// one, and how many there are.
func (s *Store) SetsWith(ctx context.Context, target string, kind, of model.ObjectKind, prefix string,
	p Page) (names []string, total int, err error) {
	const from = ` FROM member WHERE target = ? AND kind = ? AND mkind = ? AND name LIKE ?`
	args := []any{target, kind.String(), of.String(), escapeLike(prefix) + "%"}
	if err := s.db.GetContext(ctx, &total, `SELECT COUNT(DISTINCT name)`+from, args...); err != nil {
		return nil, 0, err
	}
	err = s.db.SelectContext(ctx, &names, `SELECT DISTINCT name`+from+` ORDER BY name LIMIT ? OFFSET ?`, append(args, p.Size, p.From)...)
	return names, total, err
}

// Standing is a member of some sets.
type Standing struct {
	Name string
	In   []int // places of the sets in the list that was asked for
}

// Across returns who is in some sets of a kind, by name: those that begin with
// prefix and come behind a name, at most so many; more says that others follow.
// What is read follows what is returned, however large the sets are.
func (s *Store) Across(ctx context.Context, target string, kind model.ObjectKind, sets []string, of model.ObjectKind,
	prefix, after string, most int) (out []Standing, more bool, err error) {
	in := map[string][]int{}
	next := map[string]string{} // by set that has not told enough: where its next piece begins
	told := make(map[string]int, len(sets))
	place := make(map[string]int, len(sets))
	for i, name := range sets {
		next[name], place[name] = "", i
	}
	portion := most/(1<<pieceBits)*2 + 4
	for len(next) > 0 {
		rows, err := s.nextPieces(ctx, target, kind, of, next, max(prefix, after), portion)
		if err != nil {
			return nil, false, err
		}
		read := map[string]int{}
		for _, r := range rows {
			read[r.Name]++
			if _, open := next[r.Name]; !open {
				continue
			}
			next[r.Name] = r.First + "\x00"
			for m := range model.Values(r.Body).All() {
				if m <= after || m < prefix {
					continue
				}
				if !strings.HasPrefix(m, prefix) || told[r.Name] > most {
					delete(next, r.Name)
					break
				}
				told[r.Name]++
				in[m] = append(in[m], place[r.Name])
			}
		}
		for name := range next {
			if read[name] < portion {
				delete(next, name)
			}
		}
	}
	names := slices.Sorted(maps.Keys(in))
	if more = len(names) > most; more {
		names = names[:most]
	}
	for _, n := range names {
		out = append(out, Standing{n, in[n]})
	}
	return out, more, nil
}

// nextPieces reads a portion of each set, from where its next piece begins, but
// nothing that ends before a name.
func (s *Store) nextPieces(ctx context.Context, target string, kind, of model.ObjectKind, next map[string]string, start string,
	portion int) (rows []pieceRow, err error) {
	const one = `(SELECT ` + pieceColumns + ` FROM member WHERE target = ? AND kind = ? AND name = ? AND mkind = ? AND first >= ?
		AND last >= ? ORDER BY first LIMIT ?)`
	var queries []string
	var args []any
	for name, first := range next {
		queries = append(queries, one)
		args = append(args, target, kind.String(), name, of.String(), first, start, portion)
	}
	err = s.db.SelectContext(ctx, &rows, strings.Join(queries, " UNION ALL "), args...)
	return rows, err
}
