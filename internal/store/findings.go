package store

import (
	"context"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"
)

// FindingFilter chooses findings; empty fields choose all.
type FindingFilter struct {
	Targets, Users, Kinds []string
	Assigned              string   // to this operator only
	Open                  string   // only those not accepted on this day, 2006-01-02
	Accepted              string   // only those accepted on this day
	Groups                bool     // only those of groups themselves
	Keys                  []string // only these
}

// clause is a condition of a WHERE with its arguments.
type clause struct {
	parts []string
	args  []any
}

func (c *clause) and(part string, args ...any) {
	c.parts = append(c.parts, part)
	c.args = append(c.args, args...)
}

func (c *clause) among(column string, values []string) {
	if len(values) > 0 {
		c.and(column+" IN "+oneOf(len(values)), texts(values)...)
	}
}

func (c *clause) where() string {
	if len(c.parts) == 0 {
		return ""
	}
	return " WHERE " + strings.Join(c.parts, " AND ")
}

// from is the table to choose from, and the condition less the kinds. Who looks
// after findings are few: where that is asked for, it is where the search begins.
func (f FindingFilter) from() (table string, c clause) {
	table = ` FROM finding f` + withCare
	if f.Assigned+f.Accepted != "" {
		table = ` FROM care c JOIN finding f ON f.id = c.id AND f.target = c.target`
	}
	c.among("f.target", f.Targets)
	c.among("f.user", f.Users)
	if f.Assigned != "" {
		c.and("c.assigned = ?", f.Assigned)
	}
	if f.Open != "" {
		c.and("(c.accepted_until IS NULL OR c.accepted_until < ?)", f.Open)
	}
	if f.Accepted != "" {
		c.and("c.accepted_until >= ?", f.Accepted)
	}
	if f.Groups {
		c.and("f.place >= '0' AND f.place < '1'")
	}
	if len(f.Keys) > 0 {
		ids := make([]any, len(f.Keys))
		for i, k := range f.Keys {
			ids[i], _ = findingID(k) // what is no key finds nothing
		}
		c.and("f.id IN "+oneOf(len(ids)), ids...)
	}
	return table, c
}

// few says whether what is chosen is found by something else than its kind.
func (f FindingFilter) few() bool { return len(f.Users)+len(f.Keys) > 0 || f.Assigned+f.Accepted != "" }

const (
	withCare       = ` LEFT JOIN care c ON c.target = f.target AND c.id = f.id`
	findingColumns = `SELECT f.target, f.place, f.id, f.kind, f.verb, f.user, f.body, f.seen_at, c.accepted_until, c.accepted_by, c.because,
		c.assigned`
)

// spot is where a finding stands among all.
type spot struct {
	target, place string
	id            []byte
}

func (r *findingRow) spot() string {
	return base64.RawURLEncoding.EncodeToString([]byte(r.Target + "\x00" + r.Place + "\x00" + string(r.ID)))
}

// ErrNoSpot says that a text does not tell where a page begins.
var ErrNoSpot = errors.New("it does not say where a page begins")

func spotOf(text string) (spot, error) {
	b, err := base64.RawURLEncoding.DecodeString(text)
	parts := strings.SplitN(string(b), "\x00", 3)
	if err != nil || len(parts) != 3 {
		return spot{}, ErrNoSpot
	}
	return spot{parts[0], parts[1], []byte(parts[2])}, nil
}

// Findings returns the chosen findings in order of target and place, at most so
// many: from the beginning, or behind the page that named after as the next
// one's. next is "" when there are no more.
func (s *Store) Findings(ctx context.Context, f FindingFilter, after string, most int) (out []Finding, next string, err error) {
	query, args, err := f.page(after, most+1)
	if err != nil {
		return nil, "", err
	}
	rows, err := s.db.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, "", err
	}
	defer rows.Close()
	var group errgroup.Group // very many are unpacked on all processors, while others are read
	var parts [][]Finding
	var list []findingRow
	unpack := func(list []findingRow) {
		part := make([]Finding, len(list))
		parts = append(parts, part)
		group.Go(func() (err error) {
			for i := range list {
				if part[i], err = list[i].finding(); err != nil {
					return err
				}
			}
			return nil
		})
	}
	for n := 0; rows.Next(); n++ {
		if n == most {
			next = list[len(list)-1].spot()
			break
		}
		if len(list) == 2*unpackedAtOnce {
			unpack(list)
			list = nil
		}
		var r findingRow
		if err := rows.Scan(&r.Target, &r.Place, &r.ID, &r.Kind, &r.Verb, &r.User, &r.Body, &r.SeenAt, &r.Until, &r.Accepted, &r.Because,
			&r.Assigned); err != nil {
			return nil, "", errors.Join(err, group.Wait())
		}
		list = append(list, r)
	}
	unpack(list)
	err = errors.Join(rows.Err(), group.Wait())
	return slices.Concat(parts...), next, err
}

// page is the statement that reads one page. Each kind is read from its own
// index, where it stands in order, first on the target where the page before
// ended and then on those behind it: several short lists, put together. The index
// is named, since by its own estimate the server would rather read all of a kind.
func (f FindingFilter) page(after string, most int) (string, []any, error) {
	kinds, few := f.Kinds, f.few()
	if len(kinds) == 0 || few {
		kinds = []string{""}
	}
	var at spot
	var err error
	if after != "" {
		if at, err = spotOf(after); err != nil {
			return "", nil, err
		}
	}
	var branches []string
	var args []any
	for _, kind := range slices.Compact(slices.Sorted(slices.Values(kinds))) {
		for _, part := range behind(at, after != "") {
			table, c := f.from()
			switch {
			case kind != "":
				table = strings.Replace(table, " f ", " f FORCE INDEX (by_kind) ", 1)
				c.and("f.kind = ?", kind)
			case few:
				c.among("f.kind", f.Kinds)
			default:
				table = strings.Replace(table, " f ", " f FORCE INDEX (PRIMARY) ", 1)
			}
			c.parts, c.args = append(c.parts, part.parts...), append(c.args, part.args...)
			branches = append(branches, "("+findingColumns+table+c.where()+" ORDER BY f.target, f.place, f.id LIMIT ?)")
			args = append(append(args, c.args...), most)
		}
	}
	if len(branches) == 1 {
		return branches[0], args, nil
	}
	return strings.Join(branches, " UNION ALL ") + " ORDER BY target, place, id LIMIT ?", append(args, most), nil
}

// behind are the conditions of what stands behind a spot, of which none overlaps another.
func behind(at spot, some bool) []clause {
	if !some {
		return []clause{{}}
	}
	return []clause{
		{[]string{"f.target = ? AND f.place >= ? AND (f.place > ? OR f.id > ?)"}, []any{at.target, at.place, at.place, at.id}},
		{[]string{"f.target > ?"}, []any{at.target}},
	}
}

// FindingOf returns one finding by its key, or ErrNone.
func (s *Store) FindingOf(ctx context.Context, key string) (Finding, error) {
	id, err := findingID(key)
	if err != nil {
		return Finding{}, ErrNone
	}
	var r findingRow
	if err := s.db.GetContext(ctx, &r, findingColumns+` FROM finding f`+withCare+` WHERE f.id = ?`, id); err != nil {
		return Finding{}, err
	}
	return r.finding()
}

// SeenFindings returns the keys of a target's stored findings.
func (s *Store) SeenFindings(ctx context.Context, target string) (map[string]bool, error) {
	var ids [][]byte
	if err := s.db.SelectContext(ctx, &ids, `SELECT id FROM finding WHERE target = ?`, target); err != nil {
		return nil, err
	}
	out := make(map[string]bool, len(ids))
	for _, id := range ids {
		out[hex.EncodeToString(id)] = true
	}
	return out, nil
}

// FindingCount is how many findings of a kind a target has.
type FindingCount struct {
	Target   string `db:"target"`
	Kind     string `db:"kind"`
	N        int    `db:"n"`
	Decided  int    `db:"decided"`  // of those, how many have a remedy
	Accepted int    `db:"accepted"` // of all, how many are accepted on the day
	Spared   int    `db:"spared"`   // of those accepted, how many have a remedy
}

// CountFindings counts the chosen findings by target and kind; those accepted on
// a day, 2006-01-02, are counted beside. What is chosen by target and kind was
// counted as it came; all else is counted now, and is few.
func (s *Store) CountFindings(ctx context.Context, f FindingFilter, day string) ([]FindingCount, error) {
	table, c := f.from()
	c.among("f.kind", f.Kinds)
	var out []FindingCount
	if f.few() || f.Groups {
		err := s.db.SelectContext(ctx, &out, `SELECT f.target, f.kind, COUNT(*) AS n, CAST(SUM(f.verb <> '') AS SIGNED) AS decided, 0 AS accepted, 0 AS spared`+
			table+c.where()+` GROUP BY f.target, f.kind ORDER BY f.target, f.kind`, c.args...)
		return out, err
	}
	var chosen clause
	chosen.among("target", f.Targets)
	chosen.among("kind", f.Kinds)
	if err := s.db.SelectContext(ctx, &out, `SELECT target, kind, CAST(SUM(n) AS SIGNED) AS n,
		CAST(SUM(IF(decided, n, 0)) AS SIGNED) AS decided, 0 AS accepted, 0 AS spared
		FROM finding_count`+chosen.where()+` GROUP BY target, kind HAVING SUM(n) > 0 ORDER BY target, kind`, chosen.args...); err != nil {
		return nil, err
	}
	f.Open, f.Accepted = "", day
	table, c = f.from()
	c.among("f.kind", f.Kinds)
	var accepted []FindingCount
	err := s.db.SelectContext(ctx, &accepted, `SELECT f.target, f.kind, COUNT(*) AS accepted, CAST(SUM(f.verb <> '') AS SIGNED) AS spared`+
		table+c.where()+` GROUP BY f.target, f.kind ORDER BY f.target, f.kind`, c.args...)
	by := map[[2]string]FindingCount{}
	for _, a := range accepted {
		by[[2]string{a.Target, a.Kind}] = a
	}
	for i := range out {
		a := by[[2]string{out[i].Target, out[i].Kind}]
		out[i].Accepted, out[i].Spared = a.Accepted, a.Spared
	}
	return out, err
}

// AllFindings counts the findings there are.
func (s *Store) AllFindings(ctx context.Context) (n int, err error) {
	err = s.db.GetContext(ctx, &n, `SELECT CAST(COALESCE(SUM(n), 0) AS SIGNED) FROM finding_count`)
	return n, err
}

// FindingsOn counts the findings of some targets.
func (s *Store) FindingsOn(ctx context.Context, targets []string) (total int, err error) {
	for from, to := range groups(len(targets), manyTargets) {
		var n int
		if err := s.db.GetContext(ctx, &n, `SELECT CAST(COALESCE(SUM(n), 0) AS SIGNED) FROM finding_count WHERE target IN `+oneOf(to-from),
			texts(targets[from:to])...); err != nil {
			return 0, err
		}
		total += n
	}
	return total, nil
}

// CountFindingsOf counts the findings of some users, less those that are accepted on a day.
func (s *Store) CountFindingsOf(ctx context.Context, users []string, day string) (map[string]int, error) {
	out := map[string]int{}
	if len(users) == 0 {
		return out, nil
	}
	rows := []struct {
		User string `db:"user"`
		N    int    `db:"n"`
	}{}
	err := s.db.SelectContext(ctx, &rows, `SELECT f.user, COUNT(*) AS n FROM finding f
			LEFT JOIN care c ON c.target = f.target AND c.id = f.id AND c.accepted_until >= ?
			WHERE c.id IS NULL AND f.user IN `+oneOf(len(users))+` GROUP BY f.user`, append([]any{day}, texts(users)...)...)
	for _, r := range rows {
		out[r.User] = r.N
	}
	return out, err
}
