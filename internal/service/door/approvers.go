package door

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"hen-roost/internal/store"
)

// Approvers are the operators whose approval counts for what an operator made, and those whose does not count yet, each with why
// and from when on it does. Where there are none of the first, who made it approves alone.
func (s *Door) Approvers(ctx context.Context, author string, needs ...Duty) (now, later []string, err error) {
	now, later = []string{}, []string{}
	others, err := s.othersWith(ctx, author, needs)
	if err != nil {
		return now, later, err
	}
	rows, err := s.Store.Operators(ctx)
	if err != nil {
		return now, later, err
	}
	for _, o := range rows {
		by, until := s.onProbation(o)
		switch {
		case o.Name == author || !haveAll(operatorOf(o).Duties, needs):
		case slices.Contains(by, author):
			later = append(later, fmt.Sprintf("%s from %s on, since %s made them or gave them duties or a password; sooner when another "+
				"administrator confirms them (roost operator confirm %s); the setting probation says how long", o.Name,
				until.UTC().Format("2006-01-02 15:04 UTC"), author, o.Name))
		case slices.Contains(others, o.Name):
			now = append(now, o.Name)
		case !s.active(o):
			later = append(later, fmt.Sprintf("%s once they have signed in: they have not for %d days", o.Name,
				int(activeFor/(24*time.Hour))))
		}
	}
	for _, name := range others { // who was an operator until lately
		if strings.Contains(name, " ") {
			later = append(later, name)
		}
	}
	return now, later, nil
}

// active says whether an operator has signed in lately with their password.
func (s *Door) active(o store.Operator) bool {
	return o.SignedInAt != nil && s.Now().Sub(*o.SignedInAt) < activeFor
}
