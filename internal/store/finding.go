package store

import (
	"context"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"maps"
	"slices"
	"strings"
	"time"

	"hen-roost/internal/core/model"
)

// Finding is a finding, the day it was first seen, and who looks after it.
type Finding struct {
	model.Finding
	Key      string
	SeenAt   time.Time
	Until    *time.Time // accepted up to and with this day
	Accepted string
	Because  string
	Assigned string
}

type findingRow struct {
	careColumns
	Target string    `db:"target"`
	ID     []byte    `db:"id"`
	Kind   string    `db:"kind"`
	Verb   string    `db:"verb"`
	User   string    `db:"user"`
	Body   []byte    `db:"body"`
	Place  string    `db:"place"`
	SeenAt time.Time `db:"seen_at"`
}

type careColumns struct {
	Until    *time.Time     `db:"accepted_until"`
	Accepted sql.NullString `db:"accepted_by"`
	Because  sql.NullString `db:"because"`
	Assigned sql.NullString `db:"assigned"`
}

// place puts a target's findings in order: sets and the like, accounts, who
// joins and leaves, each by name. It depends on the finding alone, so that one
// more moves no other.
func place(f model.Finding) string {
	rank := "0" + f.Object.String() + " "
	switch {
	case f.Moves():
		rank = "2" + f.Object.String() + " "
	case f.Object == model.Account:
		rank = "1"
	}
	return clip(rank+f.Name+"\x1f"+f.Member+"\x1f"+string(f.Verb), 450)
}

// PutFindings brings a target's stored findings to what was found now, writing
// only what is new or changed. Those seen before keep the day they were first
// seen. It returns how many are new.
func (tx *Tx) PutFindings(ctx context.Context, target string, findings []model.Finding, at time.Time) (fresh int, err error) {
	var old []struct {
		ID  []byte `db:"id"`
		Sum uint32 `db:"sum"`
	}
	if err := tx.SelectContext(ctx, &old, `SELECT id, CRC32(body) AS sum FROM finding WHERE target = ? FOR UPDATE`, target); err != nil {
		return 0, err
	}
	sums := make(map[string]uint32, len(old))
	for _, o := range old {
		sums[string(o.ID)] = o.Sum
	}
	return tx.swapFindings(ctx, target, sums, findings, at)
}

// SwapFindings is PutFindings for some of a target's findings: was are those
// that count no more unless they are found again.
func (tx *Tx) SwapFindings(ctx context.Context, target string, was, findings []model.Finding, at time.Time) (fresh int, err error) {
	sums := make(map[string]uint32, len(was))
	for _, f := range was {
		id, err := hex.DecodeString(f.Key())
		if err != nil {
			return 0, err
		}
		body, err := json.Marshal(f)
		if err != nil {
			return 0, err
		}
		sums[string(id)] = crc32.ChecksumIEEE(body)
	}
	return tx.swapFindings(ctx, target, sums, findings, at)
}

func (tx *Tx) swapFindings(ctx context.Context, target string, sums map[string]uint32, findings []model.Finding,
	at time.Time) (fresh int, err error) {
	var list []findingRow
	for _, f := range findings {
		id, err := hex.DecodeString(f.Key())
		if err != nil {
			return 0, err
		}
		body, err := json.Marshal(f)
		if err != nil {
			return 0, err
		}
		sum, known := sums[string(id)]
		delete(sums, string(id))
		if known && sum == crc32.ChecksumIEEE(body) {
			continue
		}
		if !known {
			fresh++
		}
		list = append(list, findingRow{Target: target, ID: id, Kind: string(f.Kind), Verb: string(f.Verb), User: f.User, Body: body,
			Place: place(f), SeenAt: at})
	}
	for from, to := range portions(len(list), 500, func(i int) int { return len(list[i].Body) + len(list[i].Place) }) {
		args := make([]any, 0, 8*(to-from))
		for _, r := range list[from:to] {
			args = append(args, r.Target, r.ID, r.Kind, r.Verb, r.User, r.Body, r.Place, r.SeenAt)
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO finding (target, id, kind, verb, user, body, place, seen_at) VALUES `+rows(to-from,
			8)+` ON DUPLICATE KEY UPDATE body = VALUES(body)`, args...); err != nil {
			return 0, err
		}
	}
	return fresh, tx.dropFindings(ctx, target, slices.Collect(maps.Keys(sums)))
}

func (tx *Tx) dropFindings(ctx context.Context, target string, ids []string) error {
	for from, to := range groups(len(ids), 500) {
		args := []any{target}
		for _, id := range ids[from:to] {
			args = append(args, []byte(id))
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM finding WHERE target = ? AND id IN `+oneOf(to-from), args...); err != nil {
			return err
		}
	}
	return nil
}

// FindingFilter chooses findings; empty fields choose all.
type FindingFilter struct {
	Targets, Users, Kinds []string
	Assigned              string   // to this operator only
	Open                  string   // only those not accepted on this day, 2006-01-02
	Accepted              string   // only those accepted on this day
	Groups                bool     // only those of groups themselves
	Keys                  []string // only these
}

func (f FindingFilter) where() (string, []any) {
	var parts []string
	var args []any
	for _, c := range []struct {
		column string
		values []string
	}{{"f.target", f.Targets}, {"f.user", f.Users}, {"f.kind", f.Kinds}} {
		if len(c.values) == 0 {
			continue
		}
		parts = append(parts, c.column+" IN "+oneOf(len(c.values)))
		for _, v := range c.values {
			args = append(args, v)
		}
	}
	if f.Assigned != "" {
		parts, args = append(parts, "c.assigned = ?"), append(args, f.Assigned)
	}
	if f.Open != "" {
		parts, args = append(parts, "(c.accepted_until IS NULL OR c.accepted_until < ?)"), append(args, f.Open)
	}
	if f.Accepted != "" {
		parts, args = append(parts, "c.accepted_until >= ?"), append(args, f.Accepted)
	}
	if f.Groups {
		parts = append(parts, "f.place LIKE '0%'")
	}
	if len(f.Keys) > 0 {
		parts = append(parts, "f.id IN "+oneOf(len(f.Keys)))
		for _, k := range f.Keys {
			id, _ := findingID(k) // what is no key finds nothing
			args = append(args, id)
		}
	}
	if parts == nil {
		return "", nil
	}
	return " WHERE " + strings.Join(parts, " AND "), args
}

const (
	findingTable = ` FROM finding f`
	withCare     = ` LEFT JOIN care c ON c.target = f.target AND c.id = f.id`
)

// from is the table to choose from: who looks after findings is only joined where it is asked for.
func (f FindingFilter) from() string {
	if f.Assigned+f.Open+f.Accepted != "" {
		return findingTable + withCare
	}
	return findingTable
}

// Findings returns one page of the chosen findings in order of target and place, and how many there are.
func (s *Store) Findings(ctx context.Context, f FindingFilter, p Page) (out []Finding, total int, err error) {
	where, args := f.where()
	if err := s.db.GetContext(ctx, &total, `SELECT COUNT(*)`+f.from()+where, args...); err != nil {
		return nil, 0, err
	}
	// The page is found in the index alone; only its rows are read whole.
	var rows []findingRow
	if err := s.db.SelectContext(ctx, &rows,
		`SELECT f.target, f.id, f.kind, f.verb, f.user, f.body, f.place, f.seen_at, c.accepted_until, c.accepted_by, c.because, c.assigned
		FROM (SELECT f.target, f.id, f.place`+f.from()+where+` ORDER BY f.target, f.place LIMIT ? OFFSET ?) page
		JOIN finding f ON f.target = page.target AND f.id = page.id`+withCare+` ORDER BY f.target, f.place`,
		append(args, p.Size, p.From)...); err != nil {
		return nil, 0, err
	}
	for _, r := range rows {
		f := Finding{Key: hex.EncodeToString(r.ID), SeenAt: r.SeenAt, Until: r.Until, Accepted: r.Accepted.String,
			Because: r.Because.String, Assigned: r.Assigned.String}
		if err := json.Unmarshal(r.Body, &f.Finding); err != nil {
			return nil, 0, fmt.Errorf("finding %x on %s: %w", r.ID, r.Target, err)
		}
		out = append(out, f)
	}
	return out, total, nil
}

// FindingOf returns one finding by its key, or ErrNone.
func (s *Store) FindingOf(ctx context.Context, key string) (Finding, error) {
	id, err := findingID(key)
	if err != nil {
		return Finding{}, ErrNone
	}
	var target string
	if err := s.db.GetContext(ctx, &target, `SELECT target FROM finding WHERE id = ?`, id); err != nil {
		return Finding{}, err
	}
	var r findingRow
	if err := s.db.GetContext(ctx, &r, `SELECT f.target, f.id, f.kind, f.verb, f.user, f.body, f.place, f.seen_at, c.accepted_until, c.accepted_by, c.because, c.assigned`+findingTable+withCare+` WHERE f.target = ? AND f.id = ?`, target, id); err != nil {
		return Finding{}, err
	}
	f := Finding{Key: key, SeenAt: r.SeenAt, Until: r.Until, Accepted: r.Accepted.String, Because: r.Because.String,
		Assigned: r.Assigned.String}
	return f, json.Unmarshal(r.Body, &f.Finding)
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
}

// CountFindings counts by target and kind, as of a day, 2006-01-02.
func (s *Store) CountFindings(ctx context.Context, day string) ([]FindingCount, error) {
	var out []FindingCount
	err := s.db.SelectContext(ctx, &out, `SELECT f.target, f.kind, COUNT(*) AS n, CAST(SUM(f.verb <> '') AS SIGNED) AS decided,
		CAST(COALESCE(SUM(c.accepted_until >= ?), 0) AS SIGNED) AS accepted`+findingTable+withCare+` GROUP BY f.target, f.kind`, day)
	return out, err
}

// KeepFindingsOf forgets the findings of targets that are no longer declared.
func (tx *Tx) KeepFindingsOf(ctx context.Context, targets []string) error {
	query, args := `DELETE FROM finding`, []any{}
	if len(targets) > 0 {
		query += ` WHERE target NOT IN ` + oneOf(len(targets))
		for _, t := range targets {
			args = append(args, t)
		}
	}
	_, err := tx.ExecContext(ctx, query, args...)
	return err
}

// AllFindings counts the findings there are.
func (s *Store) AllFindings(ctx context.Context) (n int, err error) {
	err = s.db.GetContext(ctx, &n, `SELECT COUNT(*) FROM finding`)
	return n, err
}

// FindingsOn counts the findings of some targets.
func (s *Store) FindingsOn(ctx context.Context, targets []string) (total int, err error) {
	for from, to := range groups(len(targets), manyTargets) {
		var n int
		if err := s.db.GetContext(ctx, &n, `SELECT COUNT(*) FROM finding WHERE target IN `+oneOf(to-from),
			texts(targets[from:to])...); err != nil {
			return 0, err
		}
		total += n
	}
	return total, nil
}

// CountFindingsOf counts the findings of some users.
func (s *Store) CountFindingsOf(ctx context.Context, users []string) (map[string]int, error) {
	out := map[string]int{}
	if len(users) == 0 {
		return out, nil
	}
	where, args := FindingFilter{Users: users}.where()
	rows := []struct {
		User string `db:"user"`
		N    int    `db:"n"`
	}{}
	err := s.db.SelectContext(ctx, &rows, `SELECT f.user, COUNT(*) AS n`+findingTable+where+` GROUP BY f.user`, args...)
	for _, r := range rows {
		out[r.User] = r.N
	}
	return out, err
}
