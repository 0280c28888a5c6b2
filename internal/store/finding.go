package store

import (
	"context"
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

// Finding is a finding and the day it was first seen.
type Finding struct {
	model.Finding
	SeenAt time.Time
}

type findingRow struct {
	Target string    `db:"target"`
	ID     []byte    `db:"id"`
	Kind   string    `db:"kind"`
	Verb   string    `db:"verb"`
	User   string    `db:"user"`
	Body   []byte    `db:"body"`
	Place  string    `db:"place"`
	SeenAt time.Time `db:"seen_at"`
}

// place puts a target's findings in order: groups, accounts, memberships, each
// by name. It depends on the finding alone, so that one more moves no other.
func place(f model.Finding) string {
	rank := map[model.ObjectKind]string{model.GroupKind: "0", model.Account: "1", model.Membership: "2"}[f.Object]
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
	var rows []findingRow
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
		rows = append(rows, findingRow{target, id, string(f.Kind), string(f.Verb), f.User, body, place(f), at})
	}
	for from, to := range groups(len(rows), 500) {
		if _, err := tx.NamedExecContext(ctx, `INSERT INTO finding (target, id, kind, verb, user, body, place, seen_at)
			VALUES (:target, :id, :kind, :verb, :user, :body, :place, :seen_at)
			ON DUPLICATE KEY UPDATE body = VALUES(body)`, rows[from:to]); err != nil {
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
}

func (f FindingFilter) where() (string, []any) {
	var parts []string
	var args []any
	for _, c := range []struct {
		column string
		values []string
	}{{"target", f.Targets}, {"user", f.Users}, {"kind", f.Kinds}} {
		if len(c.values) == 0 {
			continue
		}
		parts = append(parts, c.column+" IN "+oneOf(len(c.values)))
		for _, v := range c.values {
			args = append(args, v)
		}
	}
	if parts == nil {
		return "", nil
	}
	return " WHERE " + strings.Join(parts, " AND "), args
}

// Findings returns one page of the chosen findings in order of target and place, and how many there are.
func (s *Store) Findings(ctx context.Context, f FindingFilter, p Page) (out []Finding, total int, err error) {
	where, args := f.where()
	if err := s.db.GetContext(ctx, &total, `SELECT COUNT(*) FROM finding`+where, args...); err != nil {
		return nil, 0, err
	}
	var rows []findingRow
	if err := s.db.SelectContext(ctx, &rows, `SELECT target, id, kind, verb, user, body, place, seen_at FROM finding`+where+` ORDER BY target, place LIMIT ? OFFSET ?`, append(args, p.Size, p.From)...); err != nil {
		return nil, 0, err
	}
	for _, r := range rows {
		f := Finding{SeenAt: r.SeenAt}
		if err := json.Unmarshal(r.Body, &f.Finding); err != nil {
			return nil, 0, fmt.Errorf("finding %x on %s: %w", r.ID, r.Target, err)
		}
		out = append(out, f)
	}
	return out, total, nil
}

// FindingCount is how many findings of a kind a target has.
type FindingCount struct {
	Target  string `db:"target"`
	Kind    string `db:"kind"`
	N       int    `db:"n"`
	Decided int    `db:"decided"` // of those, how many have a remedy
}

// CountFindings counts by target and kind.
func (s *Store) CountFindings(ctx context.Context) ([]FindingCount, error) {
	var out []FindingCount
	err := s.db.SelectContext(ctx, &out, `SELECT target, kind, COUNT(*) AS n, CAST(SUM(verb <> '') AS SIGNED) AS decided FROM finding GROUP BY target, kind`)
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
	err := s.db.SelectContext(ctx, &rows, `SELECT user, COUNT(*) AS n FROM finding`+where+` GROUP BY user`, args...)
	for _, r := range rows {
		out[r.User] = r.N
	}
	return out, err
}
