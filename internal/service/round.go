package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/round"
	"hen-roost/internal/store"
)

// States of a round.
const (
	Drafted    = "draft"
	Approved   = "approved"
	Running    = "running"
	Complete   = "complete"
	Incomplete = "incomplete"
)

const (
	waiting = "waiting"
	running = "running"
)

// maxSteps bounds one round: more is asked for in parts.
const maxSteps = 500_000

// Round is a round with its counts.
type Round struct {
	ID         int64          `json:"id"`
	State      string         `json:"state" enum:"draft,approved,running,complete,incomplete"`
	Because    string         `json:"because"`
	Revision   int            `json:"revision"`
	DraftedBy  string         `json:"drafted-by"`
	DraftedAt  time.Time      `json:"drafted-at"`
	ApprovedBy string         `json:"approved-by,omitempty"`
	ApprovedAt *time.Time     `json:"approved-at,omitempty"`
	RunBy      string         `json:"run-by,omitempty"`
	StartedAt  *time.Time     `json:"started-at,omitempty"`
	EndedAt    *time.Time     `json:"ended-at,omitempty"`
	Steps      int            `json:"steps"`
	People     int            `json:"people"`
	Targets    []TargetSteps  `json:"targets"`
	Outcomes   map[string]int `json:"outcomes"`
	Undecided  int            `json:"undecided" doc:"findings left out when it was drafted, because a person must decide"`
}

// TargetSteps is how far a round is on one target.
type TargetSteps struct {
	Target   string         `json:"target"`
	Steps    int            `json:"steps"`
	Ended    int            `json:"ended"`
	Outcomes map[string]int `json:"outcomes"`
}

// Step is one step with its words.
type Step struct {
	Seq      int            `json:"seq"`
	Target   string         `json:"target"`
	What     string         `json:"what"`
	Subject  string         `json:"subject"`
	User     string         `json:"user,omitempty"`
	UserName string         `json:"user-name,omitempty"`
	Before   string         `json:"before"`
	After    string         `json:"after"`
	Because  string         `json:"because"`
	Outcome  string         `json:"outcome" enum:"waiting,running,done,already-so,moved,failed,out-of-reach,not-tried"`
	Words    string         `json:"words,omitempty"`
	EndedAt  *time.Time     `json:"ended-at,omitempty"`
	Changes  []model.Change `json:"changes,omitempty"`
}

// Steps is one page of steps.
type Steps struct {
	Items []Step `json:"items"`
	Total int    `json:"total"`
	From  int    `json:"from"`
}

// Draft makes a round of the chosen findings. A round with no steps is not
// stored: it comes back with ID 0.
func (s *Service) Draft(ctx context.Context, who Operator, choice Choice, because string) (Round, error) {
	if err := who.may(Run); err != nil {
		return Round{}, err
	}
	because, err := reason(because)
	if err != nil {
		return Round{}, err
	}
	c, err := s.current(ctx)
	if err != nil {
		return Round{}, err
	}
	if err := c.check(choice); err != nil {
		return Round{}, err
	}
	rows, total, err := s.Store.Findings(ctx, store.FindingFilter{Targets: choice.Targets}, store.Page{Size: maxSteps})
	if err != nil {
		return Round{}, err
	}
	if total > maxSteps {
		return Round{}, invalid("targets", "%d findings are more than one round takes (%d); choose fewer targets", total, maxSteps)
	}
	findings := make([]model.Finding, len(rows))
	for i, r := range rows {
		findings[i] = r.Finding
	}
	steps, undecided := round.Draft(findings, round.Filter(choice))
	if len(steps) == 0 {
		return Round{State: Drafted, Because: because, Revision: c.revision, Targets: []TargetSteps{}, Outcomes: map[string]int{}, Undecided: len(undecided)}, nil
	}
	drafted := make([]store.Step, len(steps))
	for i, st := range steps {
		drafted[i] = store.Step{Stage: int(st.Stage), Act: st.Act, Outcome: waiting}
	}
	r := store.Round{State: Drafted, Because: because, Revision: c.revision, DraftedBy: who.Name, DraftedAt: s.now()}
	err = s.write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		r.ID, err = tx.AddRound(ctx, r, drafted)
		return []*store.Entry{{At: r.DraftedAt, Kind: "round", Operator: who.Name, Round: r.ID, Because: because,
			Words: fmt.Sprintf("drafted round %d with %s", r.ID, count(len(steps), "step", "steps"))}}, err
	})
	if err != nil {
		return Round{}, err
	}
	out, err := s.round(ctx, r)
	out.Undecided = len(undecided)
	return out, err
}

// Rounds returns one page of rounds, newest first, and how many there are.
func (s *Service) Rounds(ctx context.Context, who Operator, states []string, p Page) ([]Round, int, error) {
	if err := who.may(Look); err != nil {
		return nil, 0, err
	}
	rows, total, err := s.Store.Rounds(ctx, states, p.bounded())
	if err != nil {
		return nil, 0, err
	}
	out := make([]Round, 0, len(rows))
	for _, r := range rows {
		one, err := s.round(ctx, r)
		if err != nil {
			return nil, 0, err
		}
		out = append(out, one)
	}
	return out, total, nil
}

// Round returns one round.
func (s *Service) Round(ctx context.Context, who Operator, id int64) (Round, error) {
	if err := who.may(Look); err != nil {
		return Round{}, err
	}
	r, err := s.roundRow(ctx, id)
	if err != nil {
		return Round{}, err
	}
	return s.round(ctx, r)
}

func (s *Service) roundRow(ctx context.Context, id int64) (store.Round, error) {
	r, err := s.Store.Round(ctx, id)
	if err == store.ErrNone {
		return r, &Problem{Kind: Unknown, Words: fmt.Sprintf("there is no round %d; roost round list shows them", id)}
	}
	return r, err
}

func (s *Service) round(ctx context.Context, r store.Round) (Round, error) {
	counts, err := s.Store.CountSteps(ctx, r.ID)
	if err != nil {
		return Round{}, err
	}
	people, err := s.Store.CountPeople(ctx, r.ID)
	if err != nil {
		return Round{}, err
	}
	out := Round{ID: r.ID, State: r.State, Because: r.Because, Revision: r.Revision, DraftedBy: r.DraftedBy, DraftedAt: r.DraftedAt,
		ApprovedBy: r.ApprovedBy, ApprovedAt: r.ApprovedAt, RunBy: r.RunBy, StartedAt: r.StartedAt, EndedAt: r.EndedAt,
		People: people, Targets: []TargetSteps{}, Outcomes: map[string]int{}}
	for _, c := range counts {
		i := slices.IndexFunc(out.Targets, func(t TargetSteps) bool { return t.Target == c.Target })
		if i < 0 {
			i = len(out.Targets)
			out.Targets = append(out.Targets, TargetSteps{Target: c.Target, Outcomes: map[string]int{}})
		}
		t := &out.Targets[i]
		t.Steps += c.N
		t.Outcomes[c.Outcome] += c.N
		if c.Outcome != waiting && c.Outcome != running {
			t.Ended += c.N
		}
		out.Steps += c.N
		out.Outcomes[c.Outcome] += c.N
	}
	return out, nil
}

// RoundSteps returns one page of a round's steps, of all outcomes or of some.
func (s *Service) RoundSteps(ctx context.Context, who Operator, id int64, outcomes []string, p Page) (Steps, error) {
	if err := who.may(Look); err != nil {
		return Steps{}, err
	}
	if _, err := s.roundRow(ctx, id); err != nil {
		return Steps{}, err
	}
	c, err := s.current(ctx)
	if err != nil {
		return Steps{}, err
	}
	page := p.bounded()
	rows, total, err := s.Store.Steps(ctx, id, outcomes, page)
	out := Steps{Items: []Step{}, Total: total, From: page.From}
	for _, r := range rows {
		a := r.Act
		out.Items = append(out.Items, Step{Seq: r.Seq, Target: a.Target, What: round.What(a), Subject: round.Subject(a), User: a.User, UserName: c.fullName(a.User),
			Before: round.Before(a), After: round.After(a), Because: round.Because(a), Outcome: r.Outcome, Words: r.Words, EndedAt: r.EndedAt, Changes: a.Changes})
	}
	return out, err
}

// move changes a round's state or says why it cannot.
func (s *Service) move(ctx context.Context, who Operator, id int64, from []string, to, words string) (Round, error) {
	if err := who.may(Run); err != nil {
		return Round{}, err
	}
	r, err := s.roundRow(ctx, id)
	if err != nil {
		return Round{}, err
	}
	err = s.write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		moved, err := tx.MoveRound(ctx, id, from, to, who.Name, s.now())
		if err != nil {
			return nil, err
		}
		if !moved {
			return nil, &store.Refusal{Err: errMoved}
		}
		return []*store.Entry{{At: s.now(), Kind: "round", Operator: who.Name, Round: id, Because: r.Because, Words: words + " round " + strconv.FormatInt(id, 10)}}, nil
	})
	if errors.Is(err, errMoved) {
		return Round{}, s.whyNot(ctx, id, to)
	}
	if err != nil {
		return Round{}, err
	}
	return s.Round(ctx, who, id)
}

var errMoved = errors.New("not in that state")

// whyNot explains a refused change of state by the state the round is in now.
func (s *Service) whyNot(ctx context.Context, id int64, to string) error {
	r, err := s.roundRow(ctx, id)
	if err != nil {
		return err
	}
	switch {
	case r.State == Drafted && to == Running:
		return conflict("round %d is a draft; look at it and approve it first: roost approve %d", id, id)
	case r.State == Running:
		return conflict("round %d is running already, started by %s", id, r.RunBy)
	case r.State == Approved:
		return conflict("round %d is approved already, by %s", id, r.ApprovedBy)
	default:
		return conflict("round %d is %s; what is still to do goes into a new one: roost draft", id, r.State)
	}
}

// Approve lets a drafted round run.
func (s *Service) Approve(ctx context.Context, who Operator, id int64) (Round, error) {
	return s.move(ctx, who, id, []string{Drafted}, Approved, "approved")
}

// RunRound starts an approved round and returns at once; it goes on by itself.
func (s *Service) RunRound(ctx context.Context, who Operator, id int64) (Round, error) {
	r, err := s.move(ctx, who, id, []string{Approved}, Running, "started")
	if err == nil {
		s.carrying.Go(func() { s.carry(id) })
	}
	return r, err
}

// Reconciled is what one reconciliation did.
type Reconciled struct {
	Surveys []SurveyResult `json:"surveys"`
	Round   Round          `json:"round" doc:"the round it started; its id is 0 when there was nothing to do"`
}

// Reconcile surveys, drafts, approves in the operator's name and starts the
// round. Nothing in this version of a round needs a second person's approval.
func (s *Service) Reconcile(ctx context.Context, who Operator, choice Choice, because string) (Reconciled, error) {
	if err := who.may(Run); err != nil {
		return Reconciled{}, err
	}
	if _, err := reason(because); err != nil {
		return Reconciled{}, err
	}
	var out Reconciled
	var err error
	if out.Surveys, err = s.Survey(ctx, who, choice.Targets, nil); err != nil {
		return out, err
	}
	if out.Round, err = s.Draft(ctx, who, choice, because); err != nil || out.Round.ID == 0 {
		return out, err
	}
	undecided := out.Round.Undecided
	if _, err = s.Approve(ctx, who, out.Round.ID); err != nil {
		return out, err
	}
	out.Round, err = s.RunRound(ctx, who, out.Round.ID)
	out.Round.Undecided = undecided
	return out, err
}
