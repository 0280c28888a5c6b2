package door

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/text/unicode/norm"

	"hen-roost/internal/core/model"
	"hen-roost/internal/store"
)

// Four eyes are two people's. Whoever could sign in as somebody else, since
// they made them or gave them duties or a password, is not kept apart from them
// until some time has passed or another administrator has confirmed them.

// defaultProbation is how long that is, unless it is set otherwise.
const defaultProbation = 7 * 24 * time.Hour

// onProbation says until when an operator does not count as somebody else than
// those in by, and who those are; by is empty when they do.
func (s *Door) onProbation(o store.Operator) (by []string, until time.Time) {
	if o.GivenAt == nil || o.GivenBy == "" {
		return nil, time.Time{}
	}
	if until = o.GivenAt.Add(s.Probation); !until.After(s.Now()) {
		return nil, time.Time{}
	}
	return strings.Split(o.GivenBy, ","), until
}

// given notes that who gave o something with which they could act as them.
func (s *Door) given(ctx context.Context, o *store.Operator, who Operator) error {
	if who.Name == Itself.Name {
		return nil // whoever is on the server itself can do anything there
	}
	by, _ := s.onProbation(*o)
	by = append(by, who.Name)
	if giver, err := s.Store.Operator(ctx, who.Name); err == nil {
		more, _ := s.onProbation(giver)
		by = append(by, more...)
	} else if err != store.ErrNone {
		return err
	}
	slices.Sort(by)
	now := s.Now()
	o.GivenBy, o.GivenAt = strings.Join(slices.Compact(by), ","), &now
	return nil
}

// Apart refuses an operator who does not count as somebody else than the drafter of a round.
func (s *Door) Apart(ctx context.Context, who Operator, drafter string) error {
	row, err := s.Store.Operator(ctx, who.Name)
	if err == store.ErrNone {
		return nil // the service itself
	}
	if err != nil {
		return err
	}
	if by, until := s.onProbation(row); slices.Contains(by, drafter) {
		return Clashing("%s made %s, or gave them duties or a password, so until %s %s cannot lift a hold on what %s drafted, unless "+
			"another administrator has confirmed them: roost operator confirm %s",
			drafter, who.Name, until.UTC().Format("2006-01-02 15:04 UTC"), who.Name, drafter, who.Name)
	}
	return nil
}

// ConfirmOperator says that an operator is somebody of their own. It takes an
// administrator who is not among those that made them what they are.
func (s *Door) ConfirmOperator(ctx context.Context, who Operator, name string) error {
	if err := who.May(Administer); err != nil {
		return err
	}
	row, err := s.operatorRow(ctx, name)
	if err != nil {
		return err
	}
	by, _ := s.onProbation(row)
	if len(by) == 0 {
		return Clashing("%s needs no confirmation", name)
	}
	mine := []string{who.Name}
	if me, err := s.Store.Operator(ctx, who.Name); err == nil {
		more, _ := s.onProbation(me)
		mine = append(mine, more...)
	}
	if who.Name == name || slices.ContainsFunc(mine, func(m string) bool { return slices.Contains(by, m) }) {
		return Clashing("%s was made, or given duties or a password, by %s; another administrator must confirm them", name,
			strings.Join(by, " and "))
	}
	row.GivenBy, row.GivenAt = "", nil
	return s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		return ofOperators(s.Now(), who, fmt.Sprintf("confirmed operator %s, made or given duties or a password by %s", name,
			strings.Join(by, " and "))), tx.PutOperator(ctx, row)
	})
}

// tellApart refuses a new operator who could be taken for another, or for the service itself.
func (s *Door) tellApart(ctx context.Context, name, full string) error {
	if why := model.Unfit(full, false); why != "" {
		return Wrong("full-name", "an operator's full name cannot hold %s", why)
	}
	if len(full) > 200 || strings.TrimSpace(full) != full {
		return Wrong("full-name", "an operator's full name has at most 200 bytes, and no space at its ends")
	}
	for _, one := range []string{name, full} {
		if looks(one) == looks(Itself.Name) || looks(one) == looks(Itself.FullName) {
			return Wrong("name", "%q is, or looks like, the name of the service itself", one)
		}
	}
	all, err := s.Store.Operators(ctx)
	if err != nil {
		return err
	}
	for _, o := range all {
		switch {
		case o.Name == name:
		case looks(o.Name) == looks(name):
			return Wrong("name", "%q looks like the operator %s; choose a name that nobody takes for another", name, o.Name)
		case looks(o.FullName) == looks(full):
			return Wrong("full-name", "%q looks like the name of the operator %s, %q; add what tells them apart", full, o.Name,
				o.FullName)
		}
	}
	return nil
}

// alike are letters that are taken for others (after Unicode TR39, those of the scripts our names are written in).
var alike = strings.NewReplacer("0", "o", "1", "l", "i", "l", "|", "l", "!", "l", "5", "s", "rn", "m", "vv", "w", "cl", "d", ".", "", "-",
	"", "_", "", " ", "", "'", "", "’", "",
	"а", "a", "в", "b", "с", "c", "ԁ", "d", "е", "e", "һ", "h", "н", "h", "і", "l", "ј", "j", "к", "k", "ӏ", "l", "м", "m", "о", "o", "р",
	"p", "ѕ", "s", "т", "t", "у", "y", "х", "x",
	"α", "a", "ε", "e", "η", "n", "ι", "l", "κ", "k", "ν", "v", "ο", "o", "ρ", "p", "τ", "t", "υ", "u", "χ", "x", "ı", "l", "ł", "l", "ø",
	"o")

// looks is what two names have in common that are taken for each other.
func looks(name string) string {
	return alike.Replace(strings.ToLower(norm.NFKC.String(model.Clean(name, false))))
}
