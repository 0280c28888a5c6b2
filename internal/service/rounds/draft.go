package rounds

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/core/round"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/seen"
	"hen-roost/internal/store"
)

// DraftRequest says what to draft.
type DraftRequest struct {
	declared.Choice
	Because  string
	Revision int               // that the findings were looked at under; 0: whatever is newest
	Findings []string          // keys of findings: these and no others
	Without  []string          // keys of findings that are left out
	Assigned string            // only findings that this operator looks after
	First    string            // first wave: a number of targets of each kind, or a tag as key=value; "" all at once
	Params   map[string]string // overrides for this round
}

// Draft makes a round of the chosen findings. A round with no steps is not
// stored: it comes back with ID 0.
func (s *Carrier) Draft(ctx context.Context, who door.Operator, q DraftRequest) (Round, error) {
	if err := who.May(door.Draft); err != nil {
		return Round{}, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return Round{}, err
	}
	if err := errors.Join(s.CheckChosen(ctx, c, q.Choice), s.KnownOperator(ctx, q.Assigned)); err != nil {
		return Round{}, err
	}
	if q.Revision != 0 && q.Revision != c.Revision {
		return Round{}, door.Clashing("revision %d is declared since you looked (at revision %d); look at the findings again", c.Revision,
			q.Revision)
	}
	if len(q.Params) == 0 {
		if c, err = s.CatchUp(ctx, q.Targets); err != nil {
			return Round{}, err
		}
	} else {
		if c, err = s.overridden(c, q.Params); err != nil {
			return Round{}, err
		}
	}
	findings, only, err := s.findingsFor(ctx, c, q)
	if err != nil {
		return Round{}, err
	}
	if findings, err = s.without(ctx, findings, q.Without); err != nil {
		return Round{}, err
	}
	acts, undecided := round.Choose(findings, round.Filter{Targets: q.Targets, Users: q.Users, Kinds: q.Kinds, Only: only})
	for i := range acts {
		c.Plan.Trace(&acts[i])
	}
	out, err := s.draft(ctx, who, c, acts, store.Round{Because: q.Because, First: q.First, Params: packParams(q.Params)})
	out.Undecided = len(undecided)
	for _, f := range undecided[:min(len(undecided), undecidedMost)] {
		out.Decide = append(out.Decide, seen.FindingOf(c, store.Finding{Finding: f, Key: f.Key()}))
	}
	return out, err
}

// without leaves findings out, by their keys or the beginnings of those. Who joins what is not made, or is not let in, goes with it.
func (s *Carrier) without(ctx context.Context, findings []model.Finding, keys []string) ([]model.Finding, error) {
	if len(keys) > door.PageMost {
		return nil, door.Wrong("without", "%d findings are named; at most %d can be", len(keys), door.PageMost)
	}
	out := map[string]bool{}
	made := map[string]map[model.Named]bool{} // by target: what is not made then
	for _, key := range keys {
		f, err := s.FindingRow(ctx, key)
		if err != nil {
			return nil, err
		}
		out[f.Key] = true
		if f.Verb == model.Create || f.Verb == model.AdoptIt {
			if made[f.Target] == nil {
				made[f.Target] = map[model.Named]bool{}
			}
			made[f.Target][f.Of()] = true
		}
	}
	return slices.DeleteFunc(findings, func(f model.Finding) bool {
		without := made[f.Target]
		return out[f.Key()] || f.Moves() && (without[f.Of()] || without[model.Named{Kind: f.MemberKind, Name: f.Member}]) ||
			!f.Moves() && without[f.Of()]
	}), nil
}

// undecidedMost is how many of the findings that a person must decide come with a draft.
const undecidedMost = 12

func packParams(params map[string]string) string {
	if len(params) == 0 {
		return ""
	}
	b, _ := json.Marshal(params)
	return string(b)
}

// overridden is the newest revision with other params.
func (s *Carrier) overridden(c *declared.Current, params map[string]string) (*declared.Current, error) {
	plan, err := resolve.Resolve(c.Declared, s.Schemas(), s.Now(), params)
	if err != nil {
		return nil, &door.Problem{Kind: door.Invalid, Words: "the params do not fit: " + err.Error()}
	}
	return c.With(plan), nil
}

// findingsFor returns the findings that a draft chooses from: those stored, less
// those accepted; with other params, those that a comparison now would find.
// only are the keys of those chosen by more than target, user and kind; nil: all.
func (s *Carrier) findingsFor(ctx context.Context, c *declared.Current, q DraftRequest) (findings []model.Finding, only map[string]bool,
	err error) {
	if len(q.Params) == 0 {
		return s.storedFor(ctx, q)
	}
	if len(q.Findings) > 0 || q.Assigned != "" {
		return nil, nil, door.Wrong("params", "with other params the findings are others than those that were chosen; choose targets, "+
			"users "+
			"or kinds")
	}
	known, err := s.Store.Targets(ctx)
	if err != nil {
		return nil, nil, err
	}
	var out []model.Finding
	for _, name := range door.KeysOf(c.Plan.Targets) {
		if known[name].SurveyedAt == nil || len(q.Targets) > 0 && !slices.Contains(q.Targets, name) {
			continue
		}
		x, err := s.Differences(ctx, c.Plan.Targets[name], nil)
		if err != nil {
			return nil, nil, err
		}
		out = append(out, x.Findings...)
	}
	return out, nil, nil
}

// storedFor returns the stored findings that a draft chooses from: those chosen
// and, where some of them join groups, those of the groups there.
func (s *Carrier) storedFor(ctx context.Context, q DraftRequest) (out []model.Finding, only map[string]bool, err error) {
	today := s.Now().Format(time.DateOnly)
	f := store.FindingFilter{Targets: q.Targets, Users: q.Users, Kinds: q.Kinds, Assigned: q.Assigned, Keys: q.Findings, Open: today}
	if len(q.Findings) > door.PageMost {
		return nil, nil, door.Wrong("findings", "%d findings are named; at most %d can be, so choose by target, user or kind",
			len(q.Findings), door.PageMost)
	}
	rows, more, err := s.Store.Findings(ctx, f, "", maxSteps)
	if err != nil {
		return nil, nil, err
	}
	if more != "" {
		return nil, nil, door.Wrong("targets", "there are more findings than one round takes (%d); choose fewer targets", maxSteps)
	}
	if len(q.Findings) > 0 || q.Assigned != "" {
		only = map[string]bool{}
	}
	joined := map[string]bool{}
	for _, r := range rows {
		out = append(out, r.Finding)
		if only != nil {
			only[r.Key] = true
		}
		if r.Verb == model.JoinIt {
			joined[r.Target] = true
		}
	}
	for _, key := range q.Findings {
		if !only[key] {
			return nil, nil, s.notThere(ctx, key, today)
		}
	}
	if len(joined) == 0 || len(q.Users)+len(q.Kinds) == 0 && only == nil {
		return out, only, nil
	}
	rows, _, err = s.Store.Findings(ctx, store.FindingFilter{Targets: door.KeysOf(joined), Open: today, Groups: true}, "",
		maxSteps)
	have := make(map[string]bool, len(out))
	for i := range out {
		have[out[i].Key()] = true
	}
	for _, r := range rows {
		if !have[r.Key] {
			out = append(out, r.Finding)
		}
	}
	return out, only, err
}

// notThere says why a finding that was named is not among those to draft.
func (s *Carrier) notThere(ctx context.Context, key, today string) error {
	f, err := s.FindingRow(ctx, key)
	if err != nil {
		return err
	}
	if f.Until != nil && f.Until.Format(time.DateOnly) >= today {
		return door.Clashing("the finding %s (%s %s on %s) is accepted until %s; end that first", key, round.What(f.Act),
			round.Subject(f.Act),
			f.Target, f.Until.Format(time.DateOnly))
	}
	return door.Clashing("the finding %s (%s %s on %s) is none of those that the other choices leave", key, round.What(f.Act),
		round.Subject(f.Act), f.Target)
}

// draft puts acts in order, looks for holds, and stores the round.
func (s *Carrier) draft(ctx context.Context, who door.Operator, c *declared.Current, acts []model.Act, r store.Round) (Round, error) {
	var err error
	if r.Because, err = door.Reason(r.Because); err != nil {
		return Round{}, err
	}
	order := round.Order{Schemas: s.Schemas(), Groups: c.Declared.Groups, Targets: c.Declared.Targets}
	if order.First, err = firstWave(r.First, acts, c.Declared.Targets); err != nil {
		return Round{}, err
	}
	if len(acts) == 0 {
		return Round{State: Drafted, Because: r.Because, Revision: c.Revision, Targets: []TargetSteps{}, Outcomes: map[string]int{},
			Holds: []Hold{}, First: r.First}, nil
	}
	if len(acts) > maxSteps {
		return Round{}, door.Wrong("targets", "that would be %d steps, and one round takes at most %d; ask for it in parts", len(acts),
			maxSteps)
	}
	note := func(*store.Tx, int64) error { return nil }
	if s.Equip != nil {
		if note, err = s.Equip(ctx, c, acts); err != nil {
			return Round{}, err
		}
	}
	steps := round.Arrange(acts, order)
	facts, err := s.facts(ctx, c, steps, r.Bulk || r.Undoes != 0)
	if err != nil {
		return Round{}, err
	}
	holds := round.Holds(steps, facts, conflict(c))
	drafted := make([]store.Step, len(steps))
	for i, st := range steps {
		drafted[i] = store.Step{Wave: st.Wave, Tier: st.Tier, Stage: int(st.Stage), Act: st.Act, Outcome: waiting}
	}
	rows := make([]store.Hold, len(holds))
	for i, h := range holds {
		seqs := make([]int, len(h.Steps))
		for j, at := range h.Steps {
			seqs[j] = at + 1 // steps are numbered from 1
		}
		numbers, _ := json.Marshal(seqs)
		rows[i] = store.Hold{Kind: h.Kind, Target: h.Target, Words: h.Words, Firm: h.Firm, Steps: string(numbers)}
	}
	r.State, r.Revision, r.DraftedBy, r.DraftedAt = Drafted, c.Revision, who.Name, s.Now()
	words := door.Count(len(steps), "step", "steps")
	if r.KeptUntil != nil && r.Undoes == 0 {
		words += "; what it changes against the declaration is kept until " + r.KeptUntil.Format(time.DateOnly)
	}
	firm := map[int]bool{}
	for _, h := range holds {
		if !h.Firm {
			r.State = OnHold
			continue
		}
		for _, at := range h.Steps {
			firm[at] = true
		}
	}
	if len(firm) == len(steps) {
		r.State = OnHold
	}
	if len(holds) > 0 {
		words += map[string]string{OnHold: "; it is held: ", Drafted: "; steps are left out of it: "}[r.State] + holds[0].Words
		if len(holds) > 1 {
			words += fmt.Sprintf(" (and %s more)", door.Count(len(holds)-1, "reason", "reasons"))
		}
	}
	err = s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		if r, err = tx.AddRound(ctx, r, drafted, rows, sorts(acts)); err == nil {
			err = note(tx, r.ID)
		}
		return []*store.Entry{{At: r.DraftedAt, Kind: "round", Operator: who.Name, Round: r.ID, Because: r.Because,
			Words: fmt.Sprintf("drafted round %d with %s", r.ID, words)}}, err
	})
	if err != nil {
		return Round{}, err
	}
	out, err := s.RoundOf(ctx, r)
	out.Bare = bare(c, steps, firm)
	return out, err
}

// bare counts the accounts that steps make without a password, where accounts have one; some steps are left out.
func bare(c *declared.Current, steps []round.Step, leftOut map[int]bool) (n int) {
	for i, st := range steps {
		if leftOut[i] || st.Verb != model.Create || st.Object != model.Account {
			continue
		}
		_, has := c.Plan.Targets[st.Target].Schema.Find(model.Account, model.Password)
		if has && !slices.ContainsFunc(st.Changes, func(x model.Change) bool { return x.Sealed != "" }) {
			n++
		}
	}
	return n
}

// sorts counts acts by target and what they do.
func sorts(acts []model.Act) []store.RoundAct {
	type sort struct{ target, what string }
	n := map[sort]int{}
	for _, a := range acts {
		n[sort{a.Target, round.What(a)}]++
	}
	out := make([]store.RoundAct, 0, len(n))
	for s, n := range n {
		out = append(out, store.RoundAct{Target: s.target, What: s.what, N: n})
	}
	return out
}

// firstWave reads how the first wave is chosen.
func firstWave(first string, acts []model.Act, targets map[string]*model.Target) (map[string]bool, error) {
	if first == "" {
		return nil, nil
	}
	if n, err := strconv.Atoi(first); err == nil && n > 0 {
		return round.FirstOfEach(acts, targets, n), nil
	}
	key, value, ok := strings.Cut(first, "=")
	if !ok {
		return nil, door.Wrong("first", "%q is neither a number of targets nor a tag as fleet=vessels", first)
	}
	wave := round.Tagged(targets, key, value)
	if len(wave) == 0 {
		return nil, door.Wrong("first", "no target carries the tag %s: %s", key, value)
	}
	return wave, nil
}
