package door

import (
	"context"
	"fmt"
	"slices"
	"time"
)

// Approvers says whose approval counts for what some operators made.
type Approvers struct {
	Now   []string // theirs does
	Later []string // theirs does not yet, each with why and from when on
	Alone bool     // nobody else could: who made it may approve it, with their password
}

// ApproversOf says whose approval counts for what authors made, where it takes some duties; see Approver.
func (s *Door) ApproversOf(ctx context.Context, authors []string, needs ...Duty) (out Approvers, err error) {
	rows, err := s.Store.Operators(ctx)
	if err != nil {
		return out, err
	}
	for _, o := range rows {
		if slices.Contains(authors, o.Name) || !haveAll(operatorOf(o).Duties, needs) {
			continue
		}
		by, until := s.onProbation(o)
		if at := slices.IndexFunc(by, func(name string) bool { return slices.Contains(authors, name) }); at >= 0 {
			out.Later = append(out.Later, fmt.Sprintf("%s from %s on: %s made this operator, or gave them duties or a password; sooner "+
				"when another administrator confirms them (roost operator confirm %s); the setting probation says how long it takes",
				o.Name, until.UTC().Format(time.DateTime+" UTC"), by[at], o.Name))
			continue
		}
		out.Now = append(out.Now, o.Name)
	}
	for _, name := range authors {
		others, err := s.othersWith(ctx, name, needs)
		if err != nil {
			return out, err
		}
		out.Alone = out.Alone || name != Itself.Name && len(others) == 0
	}
	return out, nil
}
