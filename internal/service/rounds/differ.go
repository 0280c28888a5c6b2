package rounds

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/round"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
	"hen-roost/internal/work"
)

// Difference is what a target itself says that steps would change there.
type Difference struct {
	Target string   `json:"target"`
	Round  int64    `json:"round,omitempty" doc:"left out when it is all that was found on the target"`
	Steps  int      `json:"steps"`
	Lines  []string `json:"lines" doc:"in the target's own words"`
}

// differFor is how long a target may take to tell.
const differFor = time.Minute

// busyFor is how long whoever works on a target is waited for.
const busyFor = 2 * time.Second

// RoundDifference has a target say itself what the steps of a round would change there. Nothing is changed.
func (s *Carrier) RoundDifference(ctx context.Context, who door.Operator, id int64, target string) (Difference, error) {
	if err := who.May(door.Run); err != nil {
		return Difference{}, err
	}
	r, err := s.roundRow(ctx, id)
	if err != nil {
		return Difference{}, err
	}
	if r.State != Drafted && r.State != OnHold && r.State != Approved {
		return Difference{}, door.Clashing("round %d is %s; a target tells what would change before it begins", id, r.State)
	}
	phases, err := s.Store.Phases(ctx, id)
	if err != nil {
		return Difference{}, err
	}
	var acts []connect.Act
	done := map[phase]bool{}
	for _, p := range phases {
		if at := (phase{p.Wave, p.Tier}); p.Target == target && !done[at] {
			done[at] = true
			rows, err := s.Store.TargetSteps(ctx, id, target, p.Wave, p.Tier)
			if err != nil {
				return Difference{}, err
			}
			for _, row := range rows {
				acts = append(acts, connect.Act{Act: row.Act, Stage: row.Stage})
			}
		}
	}
	if len(acts) == 0 {
		return Difference{}, door.Wrong("target", "round %d has no steps on %s", id, target)
	}
	return s.differ(ctx, who, Difference{Target: target, Round: id}, acts)
}

// TargetDifference has a target say itself what a round of all that was found there would change. Nothing is changed.
func (s *Carrier) TargetDifference(ctx context.Context, who door.Operator, target string) (Difference, error) {
	if err := who.May(door.Run); err != nil {
		return Difference{}, err
	}
	c, err := s.Current(ctx)
	if err == nil {
		err = c.Check(declared.Choice{Targets: []string{target}})
	}
	if err != nil {
		return Difference{}, err
	}
	q := DraftRequest{Choice: declared.Choice{Targets: []string{target}}}
	if c, err = s.CatchUp(ctx, q.Targets); err != nil {
		return Difference{}, err
	}
	findings, _, err := s.findingsFor(ctx, c, q)
	if err != nil {
		return Difference{}, err
	}
	chosen, _ := round.Choose(findings, round.Filter{Targets: q.Targets})
	var acts []connect.Act
	for _, st := range round.Arrange(chosen, round.Order{Schemas: s.Schemas(), Groups: c.Declared.Groups, Targets: c.Declared.Targets}) {
		acts = append(acts, connect.Act{Act: st.Act, Stage: int(st.Stage)})
	}
	return s.differ(ctx, who, Difference{Target: target}, acts)
}

// differ asks a target, in its turn.
func (s *Carrier) differ(ctx context.Context, who door.Operator, out Difference, acts []connect.Act) (Difference, error) {
	for i, a := range acts {
		for _, c := range a.Changes {
			if c.Sealed != "" { // a secret is no difference that anybody is to see: another stands for it, and is thrown away
				if acts[i].Secrets == nil {
					acts[i].Secrets = map[string]connect.Secret{}
				}
				acts[i].Secrets[c.Attribute] = connect.Seal([]byte(rand.Text()))
			}
		}
	}
	out.Steps, out.Lines = len(acts), []string{}
	held, err := work.Hold(ctx, s.Store, "target/"+out.Target, s.Owner, busyFor)
	if errors.Is(err, work.ErrHeld) {
		return out, door.Clashing("somebody works on %s at this moment; ask again", out.Target)
	}
	if err != nil {
		return out, err
	}
	defer held.Release()
	during, cancel := context.WithTimeout(ctx, differFor)
	defer cancel()
	x, err := s.SessionOn(during, out.Target)
	if err != nil {
		return out, door.Clashing("%v", err)
	}
	defer x.Close()
	lines, err := connect.Preview(during, x, acts)
	switch {
	case errors.Is(err, errors.ErrUnsupported):
		return out, door.Wrong("target", "%v", err)
	case err != nil:
		return out, door.Clashing("%v", s.Strikes(ctx, out.Target).Error(err))
	}
	strikes := s.Strikes(ctx, out.Target)
	for _, line := range lines {
		out.Lines = append(out.Lines, strikes.Text(line))
	}
	words := fmt.Sprintf("looked at what %s on %s would change, in its own words", door.Count(len(acts), "step", "steps"), out.Target)
	return out, s.Write(ctx, func(*store.Tx) ([]*store.Entry, error) {
		return []*store.Entry{{At: s.Now(), Kind: "round", Operator: who.Name, Round: out.Round, Target: out.Target, Words: words}}, nil
	})
}
