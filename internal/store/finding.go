package store

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
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
	Seq    int       `db:"seq"`
	SeenAt time.Time `db:"seen_at"`
}

// PutFindings replaces a target's findings. Those seen before keep the day
// they were first seen. It returns how many are new.
func (tx *Tx) PutFindings(ctx context.Context, target string, findings []model.Finding, at time.Time) (fresh int, err error) {
	var old []findingRow
	if err := tx.SelectContext(ctx, &old, `SELECT id, seen_at FROM finding WHERE target = ? FOR UPDATE`, target); err != nil {
		return 0, err
	}
	seen := make(map[string]time.Time, len(old))
	for _, o := range old {
		seen[string(o.ID)] = o.SeenAt
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM finding WHERE target = ?`, target); err != nil {
		return 0, err
	}
	for from, to := range groups(len(findings), 500) {
		rows := make([]findingRow, 0, to-from)
		for i, f := range findings[from:to] {
			id, err := hex.DecodeString(f.Key())
			if err != nil {
				return 0, err
			}
			body, err := json.Marshal(f)
			if err != nil {
				return 0, err
			}
			first, known := seen[string(id)]
			if !known {
				first = at
				fresh++
			}
			rows = append(rows, findingRow{target, id, string(f.Kind), string(f.Verb), f.User, body, from + i, first})
		}
		if _, err := tx.NamedExecContext(ctx, `INSERT INTO finding (target, id, kind, verb, user, body, seq, seen_at)
			VALUES (:target, :id, :kind, :verb, :user, :body, :seq, :seen_at)
			ON DUPLICATE KEY UPDATE body = VALUES(body)`, rows); err != nil {
			return 0, err
		}
	}
	return fresh, nil
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
	if err := s.db.SelectContext(ctx, &rows, `SELECT target, id, kind, verb, user, body, seq, seen_at FROM finding`+where+` ORDER BY target, seq LIMIT ? OFFSET ?`, append(args, p.Size, p.From)...); err != nil {
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
