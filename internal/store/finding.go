package store

import (
	"context"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"slices"
	"strconv"
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
	Place  string    `db:"place"`
	ID     []byte    `db:"id"`
	Kind   string    `db:"kind"`
	Verb   string    `db:"verb"`
	User   string    `db:"user"`
	Sum    uint32    `db:"sum"`
	Body   []byte    `db:"body"`
	SeenAt time.Time `db:"seen_at"`
}

type careColumns struct {
	Until    *time.Time     `db:"accepted_until"`
	Accepted sql.NullString `db:"accepted_by"`
	Because  sql.NullString `db:"because"`
	Assigned sql.NullString `db:"assigned"`
}

// packed is what the columns do not say of a finding.
type packed struct {
	Object     model.ObjectKind `json:"o"`
	Name       string           `json:"n"`
	Member     string           `json:"m,omitempty"`
	MemberKind model.ObjectKind `json:"k,omitempty"`
	Changes    []packedChange   `json:"c,omitempty"`
	Note       string           `json:"w,omitempty"`
	Candidates []string         `json:"q,omitempty"`
	Times      int              `json:"t,omitempty"`
}

type packedChange struct {
	Attribute string     `json:"a"`
	Before    []string   `json:"b,omitempty"`
	After     []string   `json:"f,omitempty"`
	Sealed    string     `json:"s,omitempty"`
	Why       *model.Why `json:"y,omitempty"`
}

// rowOf is a finding as it is stored.
func rowOf(f *model.Finding) (findingRow, error) {
	p := packed{Object: f.Object, Name: f.Name, Member: f.Member, MemberKind: f.MemberKind, Note: f.Note, Candidates: f.Candidates,
		Times: f.Times}
	for _, c := range f.Changes {
		one := packedChange{Attribute: c.Attribute, Before: c.Before, After: c.After, Sealed: c.Sealed}
		if c.Why != (model.Why{}) {
			one.Why = &c.Why
		}
		p.Changes = append(p.Changes, one)
	}
	body, err := json.Marshal(p)
	if err != nil {
		return findingRow{}, err
	}
	id, err := findingID(f.Key())
	return findingRow{Target: f.Target, Place: place(f), ID: id, Kind: string(f.Kind), Verb: string(f.Verb), User: f.User,
		Sum: crc32.ChecksumIEEE(body), Body: body}, err
}

// finding unpacks a row.
func (r *findingRow) finding() (Finding, error) {
	out := Finding{Key: hex.EncodeToString(r.ID), SeenAt: r.SeenAt, Until: r.Until, Accepted: r.Accepted.String,
		Because: r.Because.String, Assigned: r.Assigned.String}
	var p packed
	var err error
	if strings.HasPrefix(string(r.Body[:min(len(r.Body), 8)]), `{"kind":`) { // as it was written before
		err = json.Unmarshal(r.Body, &out.Finding)
	} else if err = json.Unmarshal(r.Body, &p); err == nil {
		out.Finding = model.Finding{Kind: model.FindingKind(r.Kind), Note: p.Note, Candidates: p.Candidates, Times: p.Times,
			Act: model.Act{Target: r.Target, Verb: model.Verb(r.Verb), Object: p.Object, Name: p.Name, Member: p.Member,
				MemberKind: p.MemberKind, User: r.User}}
		for _, c := range p.Changes {
			one := model.Change{Attribute: c.Attribute, Before: c.Before, After: c.After, Sealed: c.Sealed}
			if c.Why != nil {
				one.Why = *c.Why
			}
			out.Changes = append(out.Changes, one)
		}
	}
	if err != nil {
		err = fmt.Errorf("finding %x on %s: %w", r.ID, r.Target, err)
	}
	return out, err
}

// place puts a target's findings in order: sets and the like, accounts, who
// joins and leaves, each by name. It depends on the finding's key alone, so that
// one more moves no other.
func place(f *model.Finding) string {
	rank := "0" + f.Object.String() + " "
	switch {
	case f.Moves():
		rank = "2" + f.Object.String() + " "
	case f.Object == model.Account:
		rank = "1"
	}
	return clip(rank+f.Name+"\x1f"+f.Member+"\x1f"+string(f.Verb), 450)
}

// standing is what is stored of a finding, less its body.
type standing struct {
	ID    []byte `db:"id"`
	Kind  string `db:"kind"`
	Verb  string `db:"verb"`
	Sum   uint32 `db:"sum"`
	stays bool
}

// PutFindings brings a target's stored findings to what was found now, writing
// only what is new or changed. Those seen before keep the day they were first
// seen. It returns how many are new.
func (tx *Tx) PutFindings(ctx context.Context, target string, findings []model.Finding, at time.Time) (fresh int, err error) {
	var old []standing
	if err := tx.SelectContext(ctx, &old, `SELECT id, kind, verb, sum FROM finding WHERE target = ? FOR UPDATE`, target); err != nil {
		return 0, err
	}
	b, err := between(old, findings, at)
	if err != nil {
		return 0, err
	}
	// Whoever sees all of them counts them anew.
	if _, err := tx.ExecContext(ctx, `DELETE FROM finding_count WHERE target = ?`, target); err != nil {
		return 0, err
	}
	if gone := len(old) - len(b.stay); gone > rowsAtOnce && len(b.stay) < rowsAtOnce {
		err = tx.dropAllBut(ctx, target, b.stay)
	} else {
		err = tx.dropFindings(ctx, target, b.gone)
	}
	if err != nil {
		return 0, err
	}
	return len(b.fresh), tx.putBetween(ctx, target, b, b.now)
}

// SwapFindings is PutFindings for some of a target's findings: was are those
// that count no more unless they are found again.
func (tx *Tx) SwapFindings(ctx context.Context, target string, was, findings []model.Finding, at time.Time) (fresh int, err error) {
	old := make([]standing, len(was))
	for i := range was {
		r, err := rowOf(&was[i])
		if err != nil {
			return 0, err
		}
		old[i] = standing{ID: r.ID, Kind: r.Kind, Verb: r.Verb, Sum: r.Sum}
	}
	b, err := between(old, findings, at)
	if err != nil {
		return 0, err
	}
	for _, o := range old {
		b.now[countedAs(o.Kind, o.Verb)]--
	}
	if err := tx.dropFindings(ctx, target, b.gone); err != nil {
		return 0, err
	}
	return len(b.fresh), tx.putBetween(ctx, target, b, b.now)
}

// difference is what lies between the findings that are stored and those found now.
type difference struct {
	fresh, reworded []findingRow
	gone, stay      []any // ids
	now             map[counted]int
}

func between(old []standing, findings []model.Finding, at time.Time) (difference, error) {
	out := difference{now: map[counted]int{}}
	known := make(map[string]*standing, len(old))
	for i := range old {
		known[string(old[i].ID)] = &old[i]
	}
	for i := range findings {
		r, err := rowOf(&findings[i])
		if err != nil {
			return out, err
		}
		r.SeenAt = at
		was := known[string(r.ID)]
		switch {
		case was == nil:
			out.fresh = append(out.fresh, r)
			known[string(r.ID)] = &standing{stays: true}
		case was.stays: // found twice
			continue
		case was.Sum != r.Sum:
			out.reworded = append(out.reworded, r)
		}
		if was != nil {
			was.stays = true
		}
		out.now[countedAs(r.Kind, r.Verb)]++
	}
	for i := range old {
		if old[i].stays {
			out.stay = append(out.stay, old[i].ID)
		} else {
			out.gone = append(out.gone, old[i].ID)
		}
	}
	return out, nil
}

// putBetween writes what is new and what is to be said otherwise; what has gone
// went before, so that its room is there again.
func (tx *Tx) putBetween(ctx context.Context, target string, b difference, more map[counted]int) error {
	if err := tx.insertFindings(ctx, b.fresh); err != nil {
		return err
	}
	for from, to := range portions(len(b.reworded), 500, func(i int) int { return len(b.reworded[i].Body) + len(b.reworded[i].Place) }) {
		if err := tx.upsertFindings(ctx, b.reworded[from:to]); err != nil {
			return err
		}
	}
	return tx.addCounts(ctx, target, more)
}

// insertFindings writes new rows of one target, all first seen at one moment.
func (tx *Tx) insertFindings(ctx context.Context, list []findingRow) error {
	slices.SortFunc(list, func(a, b findingRow) int { return strings.Compare(a.Place, b.Place) })
	for from, to := range portions(len(list), 5*rowsAtOnce, func(i int) int { return len(list[i].Body) + len(list[i].Place) }) {
		part := list[from:to]
		done, err := tx.load(ctx, len(part), "finding", "place, id, kind, verb, user, sum, body", func(t *tsv) {
			for i := range part {
				r := &part[i]
				t.line(r.Place, string(r.ID), r.Kind, r.Verb, r.User, strconv.FormatUint(uint64(r.Sum), 10), string(r.Body))
			}
		}, "target = ?, seen_at = ?", part[0].Target, part[0].SeenAt)
		if err != nil {
			return err
		}
		if done {
			continue
		}
		if err := tx.upsertFindings(ctx, part); err != nil {
			return err
		}
	}
	return nil
}

// upsertFindings writes rows; of those that are there only what is said of them.
func (tx *Tx) upsertFindings(ctx context.Context, list []findingRow) error {
	args := make([]any, 0, 9*len(list))
	for _, r := range list {
		args = append(args, r.Target, r.Place, r.ID, r.Kind, r.Verb, r.User, r.Sum, r.Body, r.SeenAt)
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO finding (target, place, id, kind, verb, user, sum, body, seen_at) VALUES `+
		rows(len(list), 9)+` ON DUPLICATE KEY UPDATE body = VALUES(body), sum = VALUES(sum)`, args...)
	return err
}

func (tx *Tx) dropFindings(ctx context.Context, target string, ids []any) error {
	for from, to := range groups(len(ids), 500) {
		if _, err := tx.ExecContext(ctx, `DELETE FROM finding WHERE id IN `+oneOf(to-from)+` AND target = ?`,
			append(slices.Clone(ids[from:to]), target)...); err != nil {
			return err
		}
	}
	return nil
}

// dropAllBut removes all findings of a target but a few.
func (tx *Tx) dropAllBut(ctx context.Context, target string, ids []any) error {
	query := `DELETE FROM finding WHERE target = ?`
	if len(ids) > 0 {
		query += ` AND id NOT IN ` + oneOf(len(ids))
	}
	_, err := tx.ExecContext(ctx, query, append([]any{target}, ids...)...)
	return err
}

// KeepFindingsOf forgets the findings of targets that are no longer declared.
func (tx *Tx) KeepFindingsOf(ctx context.Context, targets []string) error {
	var have []string
	if err := tx.SelectContext(ctx, &have, `SELECT DISTINCT target FROM finding_count`); err != nil {
		return err
	}
	declared := make(map[string]bool, len(targets))
	for _, t := range targets {
		declared[t] = true
	}
	for _, target := range have {
		if declared[target] {
			continue
		}
		for _, table := range []string{"finding", "finding_count"} {
			if _, err := tx.ExecContext(ctx, `DELETE FROM `+table+` WHERE target = ?`, target); err != nil {
				return err
			}
		}
	}
	return nil
}

// counted is what findings are counted by.
type counted struct {
	kind    string
	decided bool // they have a remedy
}

func countedAs(kind, verb string) counted { return counted{kind, verb != string(model.NoRemedy)} }

// addCounts adds to the counts of a target's findings.
func (tx *Tx) addCounts(ctx context.Context, target string, more map[counted]int) error {
	for c, n := range more {
		if n == 0 {
			continue
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO finding_count (target, kind, decided, n) VALUES (?, ?, ?, ?)
			ON DUPLICATE KEY UPDATE n = n + VALUES(n)`, target, c.kind, c.decided, n); err != nil {
			return err
		}
	}
	return nil
}
