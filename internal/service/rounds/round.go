package rounds

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/round"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/seen"
	"hen-roost/internal/store"
)

// States of a round.
const (
	Drafted    = "draft"
	OnHold     = "held"
	Approved   = "approved"
	Running    = "running"
	Complete   = "complete"
	Incomplete = "incomplete"
	Stopped    = "stopped"
	Undone     = "undone"
)

const (
	waiting = "waiting"
	running = "running"
)

// maxSteps bounds one round: more is asked for in parts.
const maxSteps = 500_000

// Round is a round with its counts.
type Round struct {
	ID         int64             `json:"id"`
	State      string            `json:"state" enum:"draft,held,approved,running,complete,incomplete,stopped,undone"`
	Because    string            `json:"because"`
	Revision   int               `json:"revision"`
	DraftedBy  string            `json:"drafted-by"`
	DraftedAt  time.Time         `json:"drafted-at"`
	ApprovedBy string            `json:"approved-by,omitempty"`
	ApprovedAt *time.Time        `json:"approved-at,omitempty"`
	RunBy      string            `json:"run-by,omitempty"`
	StartedAt  *time.Time        `json:"started-at,omitempty"`
	EndedAt    *time.Time        `json:"ended-at,omitempty"`
	Steps      int               `json:"steps"`
	People     int               `json:"people"`
	Targets    []TargetSteps     `json:"targets"`
	Outcomes   map[string]int    `json:"outcomes"`
	Undecided  int               `json:"undecided" doc:"findings left out when it was drafted, because a person must decide"`
	Decide     []seen.Finding    `json:"decide,omitempty" doc:"the first of those, when it was just drafted"`
	Holds      []Hold            `json:"holds" doc:"why somebody who did not draft it must approve it"`
	Approvers  []string          `json:"approvers,omitempty" doc:"of one that is held: the operators whose approval counts"`
	Later      []string          `json:"approvers-later,omitempty" doc:"those whose approval does not count yet, each with why and from when on"`
	Alone      bool              `json:"approved-alone,omitempty" doc:"no other operator could approve it: its author may, with their password"`
	Declared   int               `json:"newer-revision,omitempty" doc:"of one that has not run: the revision declared now, where it was drafted from an older one"`
	Bare       int               `json:"without-password,omitempty" doc:"of one just drafted: accounts that it makes without a password"`
	LeftOut    int               `json:"left-out,omitempty" doc:"steps that nobody can approve: they are left out when it runs"`
	Undoes     int64             `json:"undoes,omitempty" doc:"the round that this one takes back"`
	Lost       []string          `json:"lost,omitempty" doc:"of an undo: what it cannot bring back"`
	KeptUntil  string            `json:"kept-until,omitempty" doc:"what it changes against the declaration is accepted until this day"`
	First      string            `json:"first,omitempty" doc:"how its first wave was chosen"`
	Params     map[string]string `json:"params,omitempty" doc:"params overridden for this round"`
	NotBefore  *time.Time        `json:"not-before,omitempty"`
	InWindow   bool              `json:"in-window,omitempty" doc:"starts only inside the windows of its targets"`
	Scheduled  bool              `json:"scheduled,omitempty" doc:"starts by itself when its time has come"`
	StoppedBy  string            `json:"stopped-by,omitempty"`
	Guard      string            `json:"guard,omitempty" doc:"why a guard stopped it"`
}

// Hold is why a round may not run until somebody approves it.
type Hold = round.Hold

// TargetSteps is how far a round is on one target.
type TargetSteps struct {
	Target   string         `json:"target"`
	Wave     int            `json:"wave" doc:"from 1; the next begins only if the one before held"`
	Tier     int            `json:"tier" doc:"from 0; targets that feed others come first"`
	Steps    int            `json:"steps"`
	Ended    int            `json:"ended"`
	Outcomes map[string]int `json:"outcomes"`
	Differs  bool           `json:"differs,omitempty" doc:"before it begins, the target can be asked what would change"`
}

// Step is one step with its words.
type Step struct {
	Seq      int            `json:"seq"`
	Wave     int            `json:"wave"`
	Target   string         `json:"target"`
	What     string         `json:"what"`
	Subject  string         `json:"subject"`
	User     string         `json:"user,omitempty"`
	UserName string         `json:"user-name,omitempty"`
	Before   string         `json:"before"`
	After    string         `json:"after"`
	Because  string         `json:"because"`
	Outcome  string         `json:"outcome" enum:"waiting,running,done,already-so,moved,failed,out-of-reach,not-tried,undone"`
	Words    string         `json:"words,omitempty"`
	EndedAt  *time.Time     `json:"ended-at,omitempty"`
	Changes  []model.Change `json:"changes,omitempty"`
}

// Steps is one page of steps.
type Steps struct {
	Items []Step `json:"items"`
	Next  string `json:"next,omitempty" doc:"ask for the page behind this one with after; absent: this is the last"`
	Total int    `json:"total" doc:"on all pages"`
}

// Act is how many steps of one sort a round has on a target.
type Act struct {
	Target string `json:"target"`
	What   string `json:"what"`
	N      int    `json:"n"`
}

// Rounds returns one page of rounds, newest first, and how many there are.
func (s *Carrier) Rounds(ctx context.Context, who door.Operator, states []string, p door.Page) ([]Round, int, error) {
	if err := who.May(door.Look); err != nil {
		return nil, 0, err
	}
	rows, total, err := s.Store.Rounds(ctx, states, p.Bounded())
	if err != nil {
		return nil, 0, err
	}
	out := make([]Round, 0, len(rows))
	for _, r := range rows {
		one, err := s.RoundOf(ctx, r)
		if err != nil {
			return nil, 0, err
		}
		out = append(out, one)
	}
	return out, total, nil
}

// Round returns one round.
func (s *Carrier) Round(ctx context.Context, who door.Operator, id int64) (Round, error) {
	if err := who.May(door.Look); err != nil {
		return Round{}, err
	}
	r, err := s.roundRow(ctx, id)
	if err != nil {
		return Round{}, err
	}
	return s.RoundOf(ctx, r)
}

func (s *Carrier) roundRow(ctx context.Context, id int64) (store.Round, error) {
	r, err := s.Store.Round(ctx, id)
	if err == store.ErrNone {
		return r, &door.Problem{Kind: door.Unknown, Words: fmt.Sprintf("there is no round %d; roost round list shows them", id)}
	}
	return r, err
}

// RoundOf is a stored round as it is told, with what became of its steps.
func (s *Carrier) RoundOf(ctx context.Context, r store.Round) (Round, error) {
	counts, err := s.Store.Phases(ctx, r.ID)
	if err != nil {
		return Round{}, err
	}
	holds, err := s.Store.Holds(ctx, r.ID)
	if err != nil {
		return Round{}, err
	}
	out := Round{ID: r.ID, State: r.State, Because: r.Because, Revision: r.Revision, DraftedBy: r.DraftedBy, DraftedAt: r.DraftedAt,
		ApprovedBy: r.ApprovedBy, ApprovedAt: r.ApprovedAt, RunBy: r.RunBy, StartedAt: r.StartedAt, EndedAt: r.EndedAt,
		Undoes: r.Undoes, First: r.First, NotBefore: r.NotBefore, InWindow: r.InWindow, Scheduled: r.Due, StoppedBy: r.StoppedBy,
		Guard:  r.Guard,
		People: r.People, Targets: []TargetSteps{}, Outcomes: map[string]int{}, Holds: []Hold{}}
	if r.KeptUntil != nil && r.Undoes == 0 {
		out.KeptUntil = r.KeptUntil.Format(time.DateOnly)
	}
	if r.Params != "" {
		if err := json.Unmarshal([]byte(r.Params), &out.Params); err != nil {
			return out, fmt.Errorf("params of round %d: %w", r.ID, err)
		}
	}
	if r.Lost != "" {
		out.Lost = strings.Split(r.Lost, "\n")
	}
	firm, all := map[int]bool{}, false
	for _, h := range holds {
		out.Holds = append(out.Holds, Hold{Kind: h.Kind, Target: h.Target, Words: h.Words, Firm: h.Firm})
		if h.Firm {
			var steps []int
			if all = all || json.Unmarshal([]byte(h.Steps), &steps) != nil; !all {
				for _, seq := range steps {
					firm[seq] = true
				}
			}
		}
	}
	for _, c := range counts {
		last := len(out.Targets) - 1
		if last < 0 || out.Targets[last].Target != c.Target {
			out.Targets = append(out.Targets, TargetSteps{Target: c.Target, Wave: c.Wave, Tier: c.Tier, Outcomes: map[string]int{}})
			last++
		}
		t := &out.Targets[last]
		t.Steps += c.N
		t.Outcomes[c.Outcome] += c.N
		if c.Outcome != waiting && c.Outcome != running {
			t.Ended += c.N
		}
		out.Steps += c.N
		out.Outcomes[c.Outcome] += c.N
	}
	if r.EndedAt == nil && !r.Bulk && r.Undoes == 0 && r.State != Running {
		c, err := s.Current(ctx)
		if err != nil {
			return out, err
		}
		if c.Revision != r.Revision {
			out.Declared = c.Revision
		}
	}
	if out.LeftOut = len(firm); all {
		out.LeftOut = out.Steps
	}
	if r.State == OnHold && out.LeftOut < out.Steps {
		who, err := s.ApproversOf(ctx, strings.Split(r.DraftedBy, ","), door.Approve)
		if err != nil {
			return out, err
		}
		out.Approvers, out.Later, out.Alone = who.Now, who.Later, who.Alone
	}
	if r.State != Drafted && r.State != OnHold && r.State != Approved {
		return out, nil
	}
	if c, err := s.Current(ctx); err == nil { // else nothing is declared any more, and nobody is asked
		for i, t := range out.Targets {
			d := c.Plan.Targets[t.Target]
			out.Targets[i].Differs = d != nil && d.Schema.Differs
		}
	}
	return out, nil
}

// RoundActs says what a round does where, by target; of rounds of early versions nothing is known.
func (s *Carrier) RoundActs(ctx context.Context, who door.Operator, id int64) ([]Act, error) {
	if err := who.May(door.Look); err != nil {
		return nil, err
	}
	if _, err := s.roundRow(ctx, id); err != nil {
		return nil, err
	}
	list, err := s.Store.RoundActs(ctx, id)
	out := make([]Act, len(list))
	for i, a := range list {
		out[i] = Act(a)
	}
	return out, err
}

// StepChoice chooses steps of a round; empty fields choose all.
type StepChoice struct {
	Outcomes []string
	Target   string
	After    string // the page behind the one that named it as the next; "" the first
}

// RoundSteps returns one page of a round's steps, of all or of some.
func (s *Carrier) RoundSteps(ctx context.Context, who door.Operator, id int64, q StepChoice, size int) (Steps, error) {
	if err := who.May(door.Look); err != nil {
		return Steps{}, err
	}
	of, err := s.roundRow(ctx, id)
	if err != nil {
		return Steps{}, err
	}
	asked := "" // why, where it is not because nothing is declared
	switch {
	case of.Undoes != 0:
		asked = fmt.Sprintf("undo of round %d", of.Undoes)
	case of.Bulk:
		asked = "asked for"
	}
	c, err := s.Current(ctx)
	if err != nil {
		return Steps{}, err
	}
	behind, err := strconv.Atoi(cmp.Or(q.After, "0"))
	if err != nil {
		return Steps{}, seen.NoSpot(q.After)
	}
	size = door.Page{Size: size}.Bounded().Size
	rows, total, err := s.Store.Steps(ctx, id, store.StepFilter{Outcomes: q.Outcomes, Target: q.Target, After: behind}, size+1)
	out := Steps{Items: []Step{}, Total: total}
	if len(rows) > size {
		rows = rows[:size]
		out.Next = strconv.Itoa(rows[size-1].Seq)
	}
	for _, r := range rows {
		a := r.Act
		because := round.Because(a)
		if because == round.NotDeclared && asked != "" {
			because = asked
		}
		out.Items = append(out.Items, Step{Seq: r.Seq, Wave: r.Wave, Target: a.Target, What: round.What(a), Subject: round.Subject(a),
			User: a.User, UserName: c.FullName(a.User),
			Before: round.Before(a), After: round.After(a), Because: because, Outcome: r.Outcome, Words: r.Words,
			EndedAt: r.EndedAt, Changes: a.Changes})
	}
	return out, err
}

// move changes a round's state or says why it cannot.
func (s *Carrier) move(ctx context.Context, who door.Operator, r store.Round, from []string, to, words string,
	also func(*store.Tx) error) (Round, error) {
	err := s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		moved, err := tx.MoveRound(ctx, r.ID, from, to, who.Name, s.Now())
		if err != nil {
			return nil, err
		}
		if !moved {
			return nil, &store.Refusal{Err: errMoved}
		}
		if also != nil {
			if err := also(tx); err != nil {
				return nil, err
			}
		}
		return []*store.Entry{{At: s.Now(), Kind: "round", Operator: who.Name, Round: r.ID, Because: r.Because,
			Words: fmt.Sprintf(words, r.ID)}}, nil
	})
	if errors.Is(err, errMoved) {
		return Round{}, s.whyNot(ctx, r.ID, to)
	}
	if err != nil {
		return Round{}, err
	}
	if r, err = s.roundRow(ctx, r.ID); err != nil {
		return Round{}, err
	}
	return s.RoundOf(ctx, r)
}

var errMoved = errors.New("not in that state")

// whyNot explains a refused change of state by the state the round is in now.
func (s *Carrier) whyNot(ctx context.Context, id int64, to string) error {
	r, err := s.roundRow(ctx, id)
	if err != nil {
		return err
	}
	switch {
	case (r.State == Drafted || r.State == OnHold) && to == Running:
		return door.Clashing("round %d is a draft; look at it and approve it first: roost approve %d", id, id)
	case r.State == Running:
		return door.Clashing("round %d is running already, started by %s", id, r.RunBy)
	case r.State == Approved:
		return door.Clashing("round %d is approved already, by %s", id, r.ApprovedBy)
	default:
		return door.Clashing("round %d is %s; what is still to do goes into a new one: roost draft", id, r.State)
	}
}

// Approve lets a drafted round run. One that is held needs an operator who did
// not draft it. A firm hold is lifted by nobody: its steps are left out when the round runs.
func (s *Carrier) Approve(ctx context.Context, who door.Operator, id int64) (Round, error) {
	return s.ApproveWith(ctx, who, id, "", "")
}

// ApproveWith is Approve with the operator's password, from an address: where
// nobody else could approve, a round that is held is approved with that by who drafted it.
func (s *Carrier) ApproveWith(ctx context.Context, who door.Operator, id int64, password, from string) (Round, error) {
	if err := who.May(door.Approve); err != nil {
		return Round{}, err
	}
	r, err := s.roundRow(ctx, id)
	if err != nil {
		return Round{}, err
	}
	holds, err := s.Store.Holds(ctx, id)
	if err != nil {
		return Round{}, err
	}
	shown, err := s.RoundOf(ctx, r)
	if err != nil {
		return Round{}, err
	}
	firm := slices.IndexFunc(holds, func(h store.Hold) bool { return h.Firm })
	if firm >= 0 && shown.LeftOut == shown.Steps {
		return Round{}, door.Clashing("round %d cannot be approved by anybody: %s", id, holds[firm].Words)
	}
	words, alone := "approved round %d", false
	if firm >= 0 {
		words += "; " + door.Count(shown.LeftOut, "step is", "steps are") + " left out of it: " +
			strings.ReplaceAll(holds[firm].Words, "%", "%%")
	}
	if shown.Declared != 0 {
		words += fmt.Sprintf("; it was drafted from revision %d, and %d is declared now", r.Revision, shown.Declared)
	}
	holds = slices.DeleteFunc(holds, func(h store.Hold) bool { return h.Firm })
	if len(holds) > 0 && r.State == OnHold {
		words = strings.Replace(words, "%d", "%d, which was held: "+strings.ReplaceAll(holds[0].Words, "%", "%%"), 1)
		own, err := s.Approver(ctx, who, door.Second{Authors: strings.Split(r.DraftedBy, ","), Needs: []door.Duty{door.Approve},
			What: fmt.Sprintf("round %d, which is held because %s", id, holds[0].Words), Password: password, From: from})
		if err != nil {
			return Round{}, err
		}
		if alone = own; own {
			words += "; by the operator who drafted it: nobody else could, and the password was given anew"
		}
	}
	return s.move(ctx, who, r, []string{Drafted, OnHold}, Approved, words, func(tx *store.Tx) error {
		if !alone {
			return nil
		}
		return tx.Append(ctx, s.AloneEntry(who, fmt.Sprintf("round %d, held because %s", id, holds[0].Words), id))
	})
}

// RunRound starts an approved round and returns at once; it goes on by itself.
func (s *Carrier) RunRound(ctx context.Context, who door.Operator, id int64) (Round, error) {
	if err := who.May(door.Run); err != nil {
		return Round{}, err
	}
	r, err := s.roundRow(ctx, id)
	if err != nil {
		return Round{}, err
	}
	out, err := s.move(ctx, who, r, []string{Approved}, Running, "started round %d", nil)
	if err == nil {
		s.nudge()
	}
	return out, err
}

// Schedule lets an approved round start by itself: not before a moment, and
// only while the windows of all its targets are open, where that is asked.
func (s *Carrier) Schedule(ctx context.Context, who door.Operator, id int64, notBefore *time.Time, inWindow bool) (Round, error) {
	if err := who.May(door.Run); err != nil {
		return Round{}, err
	}
	r, err := s.roundRow(ctx, id)
	if err != nil {
		return Round{}, err
	}
	words := fmt.Sprintf("scheduled round %d", id)
	if notBefore != nil {
		at := notBefore.UTC()
		notBefore = &at
		words += " not before " + at.Format("2006-01-02 15:04 UTC")
	}
	if inWindow {
		words += ", inside the windows of its targets"
	}
	err = s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		ok, err := tx.Schedule(ctx, id, notBefore, inWindow)
		if err == nil && !ok {
			err = &store.Refusal{Err: errMoved}
		}
		return []*store.Entry{{At: s.Now(), Kind: "round", Operator: who.Name, Round: id, Because: r.Because, Words: words}}, err
	})
	if errors.Is(err, errMoved) {
		return Round{}, s.whyNot(ctx, id, Running)
	}
	if err != nil {
		return Round{}, err
	}
	return s.Round(ctx, who, id)
}

// Stop ends a round: batches under way are finished, all other steps are not
// tried. A round that has not started is put away.
func (s *Carrier) Stop(ctx context.Context, who door.Operator, id int64, because string) (Round, error) {
	if err := who.May(door.Run); err != nil {
		return Round{}, err
	}
	because, err := door.Reason(because)
	if err != nil {
		return Round{}, err
	}
	r, err := s.roundRow(ctx, id)
	if err != nil {
		return Round{}, err
	}
	r.Because = because
	defer s.nudge()
	return s.move(ctx, who, r, []string{Drafted, OnHold, Approved, Running}, Stopped, "stopped round %d", func(tx *store.Tx) error {
		_, err := tx.DropSteps(ctx, id, "stopped by "+who.Name+": "+because, s.Now())
		return err
	})
}

// Undo drafts the round that takes another back, from the values that were
// there before. What cannot be brought back is told in Lost.
func (s *Carrier) Undo(ctx context.Context, who door.Operator, id int64, because string) (Round, error) {
	if err := who.May(door.Draft); err != nil {
		return Round{}, err
	}
	r, err := s.roundRow(ctx, id)
	if err != nil {
		return Round{}, err
	}
	if r.EndedAt == nil {
		return Round{}, door.Clashing("round %d is %s; only what has run can be undone", id, r.State)
	}
	if r.State == Undone {
		return Round{}, door.Clashing("round %d is undone already", id)
	}
	c, err := s.Current(ctx)
	if err != nil {
		return Round{}, err
	}
	rows, total, err := s.Store.Steps(ctx, id, store.StepFilter{Outcomes: []string{string(connect.Done)}}, maxSteps)
	if err != nil {
		return Round{}, err
	}
	if total > maxSteps {
		return Round{}, door.Clashing("round %d has %d steps to take back, and one round takes at most %d", id, total, maxSteps)
	}
	done := make([]model.Act, len(rows))
	for i, row := range rows {
		done[i] = row.Act
		if err := s.calledNow(ctx, c, &done[i]); err != nil {
			return Round{}, err
		}
	}
	kept, err := s.keptOf(ctx, id)
	if err != nil {
		return Round{}, err
	}
	acts, lost := round.Undo(done, func(target string) bool {
		d := c.Plan.Targets[target]
		return d != nil && d.Schema.Account().Does(model.Remove)
	}, func(i int) *round.Kept { return kept[rows[i].Seq] })
	if because == "" {
		because = fmt.Sprintf("undo of round %d: %s", id, r.Because)
	}
	words := make([]string, len(lost))
	for i, l := range lost {
		words[i] = strings.ReplaceAll(l.Words, "\n", " ")
	}
	acts, stays, err := s.needed(ctx, acts)
	if err != nil {
		return Round{}, err
	}
	words = append(words, stays...)
	if !r.Bulk {
		words = append(words, stillAsked(c.Plan, done)...)
	}
	out, err := s.draft(ctx, who, c, acts, store.Round{Because: because, Undoes: id, Lost: strings.Join(words, "\n"),
		KeptUntil: r.KeptUntil})
	if out.ID == 0 {
		out.Lost = words
	}
	return out, err
}

// Reconciled is what one reconciliation did.
type Reconciled struct {
	Surveys []seen.SurveyResult `json:"surveys"`
	Round   Round               `json:"round" doc:"the round it drafted and, unless it is held, started; its id is 0 when there was nothing to do"`
}

func answering(surveys []seen.SurveyResult) (names []string) {
	for _, r := range surveys {
		if r.State == seen.Surveyed {
			names = append(names, r.Target)
		}
	}
	return names
}

// Reconcile surveys, drafts and, unless the round is held, approves in the operator's name and starts it.
func (s *Carrier) Reconcile(ctx context.Context, who door.Operator, q DraftRequest) (Reconciled, error) {
	for _, d := range []door.Duty{door.Draft, door.Approve, door.Run} {
		if err := who.May(d); err != nil {
			return Reconciled{}, err
		}
	}
	if _, err := door.Reason(q.Because); err != nil {
		return Reconciled{}, err
	}
	return s.reconcile(ctx, who, who, who, q)
}

// reconcile is Reconcile with the survey, the draft and the approval in the names of three.
func (s *Carrier) reconcile(ctx context.Context, who, drafter, approver door.Operator, q DraftRequest) (Reconciled, error) {
	var out Reconciled
	var err error
	if out.Surveys, err = s.Survey(ctx, who, q.Targets, nil); err != nil {
		return out, err
	}
	// What cannot be read is not drafted for: its findings are of another day.
	if q.Targets = answering(out.Surveys); len(q.Targets) == 0 {
		out.Round = Round{State: Drafted, Because: q.Because, Targets: []TargetSteps{}, Outcomes: map[string]int{}, Holds: []Hold{}}
		return out, nil
	}
	if out.Round, err = s.Draft(ctx, drafter, q); err != nil || out.Round.ID == 0 || out.Round.State == OnHold {
		return out, err
	}
	undecided := out.Round.Undecided
	if _, err = s.Approve(ctx, approver, out.Round.ID); err != nil {
		return out, err
	}
	out.Round, err = s.RunRound(ctx, approver, out.Round.ID)
	out.Round.Undecided = undecided
	return out, err
}
