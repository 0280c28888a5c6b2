package seen

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/round"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// DriftRequest chooses findings to look at.
type DriftRequest struct {
	declared.Choice
	Assigned string // to this operator
	Accepted bool   // those accepted for a time, instead of the others
	All      bool   // both
	After    string // the page behind the one that named it as the next; "" the first
}

// Finding is one difference between declared and real, with its words.
type Finding struct {
	Key             string    `json:"key" doc:"names the finding as long as it is the same difference"`
	Target          string    `json:"target"`
	Kind            string    `json:"kind" enum:"missing,unexpected,different,unmatched,contested,beyond,passwordless,shared-login,factory,dormant,short,unused-seat,stale-home,wide-open,weak-sign-in,shadowed,uneven,running-out,clock-off,expiring,odd"`
	What            string    `json:"what" doc:"what would put it right, or who decides"`
	Subject         string    `json:"subject" doc:"the account, group or membership"`
	User            string    `json:"user,omitempty"`
	UserName        string    `json:"user-name,omitempty"`
	Before          string    `json:"before"`
	After           string    `json:"after"`
	Because         string    `json:"because"`
	Note            string    `json:"note,omitempty"`
	Candidates      []string  `json:"candidates,omitempty"`
	Decide          bool      `json:"decide" doc:"true when a person must decide"`
	SeenAt          time.Time `json:"seen-at" doc:"first seen"`
	Accepted        string    `json:"accepted-until,omitempty" doc:"accepted up to and with this day"`
	AcceptedBy      string    `json:"accepted-by,omitempty"`
	AcceptedBecause string    `json:"accepted-because,omitempty"`
	Assigned        string    `json:"assigned,omitempty" doc:"operator who looks after it"`
}

// Findings is one page of findings.
type Findings struct {
	Items    []Finding      `json:"items"`
	Next     string         `json:"next,omitempty" doc:"ask for the page behind this one with after; absent: this is the last"`
	Total    int            `json:"total" doc:"on all pages"`
	Kinds    map[string]int `json:"kinds" doc:"on all pages, by kind"`
	Targets  int            `json:"targets" doc:"on how many targets they are"`
	Decide   int            `json:"decide" doc:"how many a person must decide"`
	Revision int            `json:"revision" doc:"of the declaration, that the findings are of"`
	Sentence string         `json:"sentence" doc:"what was found, and where it was looked for"`
	Unread   []string       `json:"unread,omitempty" doc:"chosen targets that were not surveyed, or not since their address changed: what they hold is not known"`
}

// Drift returns one page of the chosen findings, and how many there are in all.
func (s *Seen) Drift(ctx context.Context, who door.Operator, q DriftRequest, size int) (Findings, error) {
	if err := who.May(door.Look); err != nil {
		return Findings{}, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return Findings{}, err
	}
	if err := errors.Join(s.CheckChosen(ctx, c, q.Choice), s.KnownOperator(ctx, q.Assigned)); err != nil {
		return Findings{}, err
	}
	f := store.FindingFilter{Targets: q.Targets, Users: q.Users, Kinds: q.Kinds, Assigned: q.Assigned}
	today := s.Now().Format(time.DateOnly)
	switch {
	case q.Accepted:
		f.Accepted = today
	case !q.All:
		f.Open = today
	}
	rows, next, err := s.Store.Findings(ctx, f, q.After, door.Page{Size: size}.Bounded().Size)
	if errors.Is(err, store.ErrNoSpot) {
		return Findings{}, NoSpot(q.After)
	}
	if err != nil {
		return Findings{}, err
	}
	out := Findings{Items: []Finding{}, Next: next, Kinds: map[string]int{}, Revision: c.Revision}
	for _, r := range rows {
		out.Items = append(out.Items, FindingOf(c, r))
	}
	if err := s.count(ctx, &out, f, today); err != nil {
		return Findings{}, err
	}
	total := out.Total
	known, err := s.surveyedHere(ctx, c)
	if err != nil {
		return Findings{}, err
	}
	chosen := q.Targets
	if len(chosen) == 0 {
		chosen = door.KeysOf(c.Plan.Targets)
	}
	for _, name := range chosen {
		if !known[name] {
			out.Unread = append(out.Unread, name)
		}
	}
	out.Sentence = q.sentence(total, len(chosen), out.Unread)
	return out, nil
}

// count fills in how many findings there are in all.
func (s *Seen) count(ctx context.Context, out *Findings, f store.FindingFilter, today string) error {
	counts, err := s.Store.CountFindings(ctx, f, today)
	on := ""
	for _, n := range counts { // target by target
		left, decided := n.N, n.Decided
		if f.Open != "" {
			left, decided = n.N-n.Accepted, n.Decided-n.Spared
		}
		if left <= 0 {
			continue
		}
		out.Total += left
		out.Kinds[n.Kind] += left
		out.Decide += left - decided
		if n.Target != on {
			out.Targets++
			on = n.Target
		}
	}
	return err
}

// sentence says what was found, and where it was looked for: nothing found where nobody looked is no all-clear.
func (q DriftRequest) sentence(total, chosen int, unread []string) string {
	of := ""
	for _, part := range []struct {
		words string
		list  []string
	}{{" on ", q.Targets}, {" of ", q.Users}, {" of kind ", q.Kinds}} {
		if len(part.list) > 0 {
			of += part.words + strings.Join(part.list[:min(len(part.list), 5)], ", ")
			if more := len(part.list) - 5; more > 0 {
				of += fmt.Sprintf(" and %d more", more)
			}
		}
	}
	switch {
	case q.Assigned != "":
		of += " that " + q.Assigned + " looks after"
	case q.Accepted:
		of += " that is accepted for a time"
	}
	words := "Nothing differs" + of + "."
	switch {
	case total == 0 && chosen == len(unread):
		words = "Nothing was surveyed yet" + of + ", so nothing is known: roost survey"
		return words
	case total > 0:
		words = door.Count(total, "finding", "findings") + of + "."
	case of == "" && len(unread) == 0:
		words = "Everything is as declared."
	}
	if n := len(unread); n > 0 {
		words += fmt.Sprintf(" %s not surveyed yet at the present address: %s.", door.Count(n, "target was", "targets were"),
			strings.Join(unread[:min(n, 5)], ", "))
	}
	return words
}

// FindingOf is a stored finding as it is told.
func FindingOf(c *declared.Current, r store.Finding) Finding {
	c.Plan.Trace(&r.Act)
	f := Finding{
		Key: r.Key, Target: r.Target, Kind: string(r.Kind), What: round.What(r.Act), Subject: round.Subject(r.Act), User: r.User,
		UserName: c.FullName(r.User),
		Before:   round.Before(r.Act), After: round.After(r.Act), Because: round.Because(r.Act), Note: r.Note, Candidates: r.Candidates,
		Decide: r.Verb == model.NoRemedy, SeenAt: r.SeenAt, Assigned: r.Assigned,
	}
	if r.Until != nil && r.Until.Format(time.DateOnly) >= c.Plan.Day {
		f.Accepted, f.AcceptedBy, f.AcceptedBecause = r.Until.Format(time.DateOnly), r.Accepted, r.Because
	}
	return f
}
