package door

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"hen-roost/internal/store"
)

// Entry is one line of the team record.
type Entry struct {
	Seq      int64          `json:"seq"`
	At       time.Time      `json:"at"`
	Kind     string         `json:"kind"`
	Operator string         `json:"operator"`
	Target   string         `json:"target,omitempty"`
	User     string         `json:"user,omitempty"`
	Round    int64          `json:"round,omitempty"`
	About    int64          `json:"about,omitempty" doc:"the entry that a comment is about"`
	Because  string         `json:"because,omitempty"`
	Words    string         `json:"words"`
	Detail   map[string]any `json:"detail,omitempty" doc:"before and after"`
	Comments []Entry        `json:"comments,omitempty"`
}

// RecordFilter chooses entries; zero fields choose all.
type RecordFilter struct {
	Kind, Operator, Target, User, Text string
	Round                              int64
	Before                             int64 // only entries with a smaller number: the next page
}

// RecordPage is one page of the record, newest first.
type RecordPage struct {
	Items []Entry `json:"items"`
	Next  int64   `json:"next,omitempty" doc:"ask for entries before this number for the next page; absent at the end; a page of a search for words may be empty"`
}

// EntryKinds are the kinds of entries that the record has.
var EntryKinds = []string{"alone", "archive", "comment", "commission", "decision", "dialect", "drift",
	"finding", "handover", "intake", "intrusion",
	"key", "operator", "revision", "round", "screening", "secret", "session", "shut-out", "sign-in", "sign-out", "step", "survey",
	"suspension"}

// Record returns entries, newest first.
func (s *Door) Record(ctx context.Context, who Operator, f RecordFilter, size int) (RecordPage, error) {
	if err := who.May(Look); err != nil {
		return RecordPage{}, err
	}
	if f.Kind != "" && !slices.Contains(EntryKinds, f.Kind) {
		return RecordPage{}, NotKnown("kind of entry", f.Kind, EntryKinds)
	}
	if size <= 0 || size > PageMost {
		size = pageSize
	}
	var former []string
	if f.User != "" {
		var err error
		if former, err = s.Store.FormerNames(ctx, f.User); err != nil {
			return RecordPage{}, err
		}
	}
	rows, left, err := s.Store.Entries(ctx, store.EntryFilter{Kind: f.Kind, Operator: f.Operator, Target: f.Target, User: f.User,
		Also: former, Text: f.Text, Round: f.Round, Before: f.Before}, size+1)
	out := RecordPage{Items: []Entry{}, Next: left}
	for i, r := range rows {
		if i == size {
			out.Next = rows[size-1].Seq
			break
		}
		out.Items = append(out.Items, EntryOf(r))
	}
	return out, err
}

// EntryOf is a stored entry as it is told.
func EntryOf(r store.Entry) Entry {
	e := Entry{Seq: r.Seq, At: r.At, Kind: r.Kind, Operator: r.Operator, Target: r.Target, User: r.User, Round: r.Round, About: r.About,
		Because: r.Because, Words: r.Words}
	if len(r.Body) > 0 {
		_ = json.Unmarshal(r.Body, &e.Detail) // a body that is not JSON is shown by its words alone
	}
	return e
}

// EntryDetail returns one entry with its comments.
func (s *Door) EntryDetail(ctx context.Context, who Operator, seq int64) (Entry, error) {
	if err := who.May(Look); err != nil {
		return Entry{}, err
	}
	row, err := s.entry(ctx, seq)
	if err != nil {
		return Entry{}, err
	}
	e := EntryOf(row)
	comments, _, err := s.Store.Entries(ctx, store.EntryFilter{About: seq}, PageMost)
	for _, c := range comments {
		e.Comments = append([]Entry{EntryOf(c)}, e.Comments...)
	}
	return e, err
}

func (s *Door) entry(ctx context.Context, seq int64) (store.Entry, error) {
	e, err := s.Store.Entry(ctx, seq)
	if err == store.ErrNone {
		return e, &Problem{Kind: Unknown, Words: fmt.Sprintf("the record has no entry %d", seq)}
	}
	return e, err
}

// Comment adds a comment to an entry, as an entry of its own.
func (s *Door) Comment(ctx context.Context, who Operator, seq int64, text string) (Entry, error) {
	if err := who.May(Look); err != nil {
		return Entry{}, err
	}
	text = strings.TrimSpace(text)
	if text == "" || len(text) > 2000 {
		return Entry{}, Wrong("text", "a comment has between 1 and 2000 bytes, this one has %d", len(text))
	}
	about, err := s.entry(ctx, seq)
	if err != nil {
		return Entry{}, err
	}
	e := &store.Entry{At: s.Now(), Kind: "comment", Operator: who.Name, Target: about.Target, User: about.User, Round: about.Round,
		About: seq, Words: text}
	err = s.Write(ctx, func(*store.Tx) ([]*store.Entry, error) { return []*store.Entry{e}, nil })
	return EntryOf(*e), err
}
