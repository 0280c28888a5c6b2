package seen

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"hen-roost/internal/core/round"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// finding returns the finding of a key, or of its beginning where that is enough.
func (s *Seen) FindingRow(ctx context.Context, key string) (store.Finding, error) {
	f, err := s.Store.FindingOf(ctx, key)
	if errors.Is(err, store.ErrNone) {
		return f, &door.Problem{Kind: door.Unknown,
			Words: fmt.Sprintf("there is no finding %q now; roost drift --output json shows their keys", key)}
	}
	return f, err
}

// Accept lets findings be as they are up to and with a day, for a reason. They
// are left out of drafts and counts until then. until nil ends it.
func (s *Seen) Accept(ctx context.Context, who door.Operator, keys []string, until *time.Time, because string) (int, error) {
	if err := who.May(door.Draft); err != nil {
		return 0, err
	}
	because, err := door.Reason(because)
	if err != nil {
		return 0, err
	}
	today := s.Now().Truncate(24 * time.Hour)
	if until != nil && until.Before(today) {
		return 0, door.Wrong("until", "%s is over already", until.Format(time.DateOnly))
	}
	if until != nil && until.After(today.AddDate(2, 0, 0)) {
		return 0, door.Wrong("until", "%s is more than two years away; what may stay for good belongs in the declaration",
			until.Format(time.DateOnly))
	}
	return s.care(ctx, who, keys, because, func(tx *store.Tx, f store.Finding) (string, error) {
		words := "accepted until " + dayOf(until)
		if until == nil {
			words = "no longer accepted"
		}
		return words, tx.Accept(ctx, f.Target, f.Key, until, who.Name, because, s.Now())
	})
}

func dayOf(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.Format(time.DateOnly)
}

// Assign gives findings to an operator to look after; "" to nobody in particular.
func (s *Seen) Assign(ctx context.Context, who door.Operator, keys []string, operator string) (int, error) {
	if err := who.May(door.Draft); err != nil {
		return 0, err
	}
	if err := s.KnownOperator(ctx, operator); err != nil {
		return 0, err
	}
	return s.care(ctx, who, keys, "", func(tx *store.Tx, f store.Finding) (string, error) {
		words := "assigned to " + operator
		if operator == "" {
			words = "assigned to nobody"
		}
		return words, tx.Assign(ctx, f.Target, f.Key, operator, s.Now())
	})
}

// CommentFinding adds a remark to a finding.
func (s *Seen) CommentFinding(ctx context.Context, who door.Operator, key, words string) error {
	if err := who.May(door.Look); err != nil {
		return err
	}
	if words = strings.TrimSpace(words); words == "" || len(words) > 2000 {
		return door.Wrong("words", "a comment has between 1 and 2000 bytes")
	}
	_, err := s.care(ctx, who, []string{key}, "", func(tx *store.Tx, f store.Finding) (string, error) {
		return "commented: " + words, tx.CommentFinding(ctx, f.Target, f.Key, who.Name, words, s.Now())
	})
	return err
}

// care does something with findings, all or none, and records each.
func (s *Seen) care(ctx context.Context, who door.Operator, keys []string, because string,
	do func(*store.Tx, store.Finding) (string, error)) (int, error) {
	if len(keys) == 0 || len(keys) > door.PageMost {
		return 0, door.Wrong("keys", "name between 1 and %d findings", door.PageMost)
	}
	list := make([]store.Finding, len(keys))
	for i, key := range keys {
		var err error
		if list[i], err = s.FindingRow(ctx, key); err != nil {
			return 0, err
		}
	}
	return len(list), s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		var entries []*store.Entry
		for _, f := range list {
			words, err := do(tx, f)
			if err != nil {
				return nil, err
			}
			entries = append(entries, &store.Entry{At: s.Now(), Kind: "finding", Operator: who.Name, Target: f.Target, User: f.User,
				Because: because,
				Words:   fmt.Sprintf("%s finding on %s, %s %s: %s", f.Kind, f.Target, round.What(f.Act), round.Subject(f.Act), words)})
		}
		return entries, nil
	})
}

// Remark is what somebody said of a finding.
type Remark struct {
	Operator string    `json:"operator"`
	Words    string    `json:"words"`
	At       time.Time `json:"at"`
}

// FindingDetail is a finding with what was said of it.
type FindingDetail struct {
	Finding
	Remarks []Remark `json:"remarks"`
}

// Finding returns one finding.
func (s *Seen) Finding(ctx context.Context, who door.Operator, key string) (FindingDetail, error) {
	if err := who.May(door.Look); err != nil {
		return FindingDetail{}, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return FindingDetail{}, err
	}
	f, err := s.FindingRow(ctx, key)
	if err != nil {
		return FindingDetail{}, err
	}
	out := FindingDetail{Finding: FindingOf(c, f), Remarks: []Remark{}}
	said, err := s.Store.FindingComments(ctx, f.Target, key)
	for _, x := range said {
		out.Remarks = append(out.Remarks, Remark(x))
	}
	return out, err
}

// TrendDay is how many findings there were at the end of a day, or are so far today.
type TrendDay struct {
	Day   string         `json:"day"`
	Total int            `json:"total"`
	Kinds map[string]int `json:"kinds"`
}

const trendMost = 366

// Trend returns the findings per day, of some targets or all. A day on which a
// target was not compared counts as the one before.
func (s *Seen) Trend(ctx context.Context, who door.Operator, targets []string, days int) ([]TrendDay, error) {
	if err := who.May(door.Look); err != nil {
		return nil, err
	}
	if days <= 0 {
		days = 30
	}
	days = min(days, trendMost)
	first := s.Now().Truncate(24*time.Hour).AddDate(0, 0, 1-days)
	rows, err := s.Store.Trend(ctx, first, targets)
	if err != nil {
		return nil, err
	}
	last := map[string]map[string]int{} // by target
	out := []TrendDay{}
	for i := range days {
		day := first.AddDate(0, 0, i)
		fresh := map[string]bool{}
		for len(rows) > 0 && !rows[0].Day.After(day) {
			r := rows[0]
			rows = rows[1:]
			if key := r.Target + r.Day.Format(time.DateOnly); !fresh[key] {
				fresh[key], last[r.Target] = true, map[string]int{}
			}
			if r.Kind != "" {
				last[r.Target][r.Kind] = r.N
			}
		}
		if len(last) == 0 {
			continue // nobody had looked yet
		}
		d := TrendDay{Day: day.Format(time.DateOnly), Kinds: map[string]int{}}
		for _, kinds := range last {
			for k, n := range kinds {
				d.Kinds[k] += n
				d.Total += n
			}
		}
		out = append(out, d)
	}
	return out, nil
}
