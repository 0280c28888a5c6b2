package seen

import (
	"context"
	"fmt"
	"slices"
	"time"

	"hen-roost/internal/core/model"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// Past is a moment at which an object was seen to be otherwise than before.
type Past struct {
	At     time.Time     `json:"at"`
	State  string        `json:"state" enum:"first seen,there again,changed,gone"`
	Values []ValueChange `json:"values" doc:"what was otherwise"`
	Came   []string      `json:"came" doc:"into a set; of many the first hundred"`
	CameN  int           `json:"came-n"`
	Left   []string      `json:"left" doc:"of many the first hundred"`
	LeftN  int           `json:"left-n"`
}

// ValueChange is how one attribute became otherwise.
type ValueChange struct {
	Attribute string   `json:"attribute"`
	Before    []string `json:"before"`
	After     []string `json:"after"`
}

// History is one page of what became of an object, the newest first.
type History struct {
	Items []Past `json:"items"`
	More  bool   `json:"more" doc:"earlier ones are told with before, the moment of the last"`
}

const namesMost = 100 // of those who came or left at one moment

// ObjectHistory tells what surveys and steps saw become of an object of a target
// before a moment; the zero time is now.
func (s *Seen) ObjectHistory(ctx context.Context, who door.Operator, target, kind, name string, before time.Time,
	size int) (History, error) {
	_, k, err := s.kindOn(ctx, who, target, kind)
	if err != nil {
		return History{}, err
	}
	first := before.IsZero()
	if first {
		before = s.Now().Add(time.Second) // what was seen at this moment counts
	}
	page := door.Page{Size: size}.Bounded()
	list, more, err := s.Store.History(ctx, target, model.Named{Kind: k.Kind, Name: name}, before.UTC(), page.Size)
	if err != nil {
		return History{}, err
	}
	if first && len(list) == 0 {
		return History{}, &door.Problem{Kind: door.Unknown, Words: fmt.Sprintf("%s was never seen to hold the %s %q", target, kind, name)}
	}
	out := History{Items: make([]Past, len(list)), More: more}
	for i, m := range list {
		out.Items[i] = pastOf(m)
	}
	if last := len(list) - 1; last >= 0 && !more && out.Items[last].State == "there again" {
		out.Items[last].State = "first seen"
	}
	return out, nil
}

func pastOf(m store.Moment) Past {
	p := Past{At: m.At, State: "changed", Values: []ValueChange{}, CameN: len(m.Came), LeftN: len(m.Left), Came: called(m.Came),
		Left: called(m.Left)}
	switch {
	case m.Before == nil && m.After != nil:
		p.State = "there again"
	case m.Before != nil && m.After == nil:
		p.State = "gone"
		return p
	}
	var before, after model.Attributes
	if m.Before != nil {
		before = m.Before.Attributes
	}
	if m.After != nil {
		after = m.After.Attributes
	}
	was, is := before.Map(), after.Map()
	for _, name := range door.KeysOf(merged(was, is)) {
		if !slices.Equal(was[name], is[name]) {
			p.Values = append(p.Values, ValueChange{name, orNone(was[name]), orNone(is[name])})
		}
	}
	return p
}

func merged(a, b map[string][]string) map[string]bool {
	out := make(map[string]bool, len(a)+len(b))
	for k := range a {
		out[k] = true
	}
	for k := range b {
		out[k] = true
	}
	return out
}

func orNone(v []string) []string {
	if v == nil {
		return []string{}
	}
	return v
}

// called are the first names of those.
func called(list []model.Named) []string {
	out := []string{}
	for _, n := range list[:min(len(list), namesMost)] {
		out = append(out, n.Name)
	}
	return out
}
