package life

import (
	"context"

	"hen-roost/internal/service/door"
)

// Screened is that somebody took a password, or several, in a week that a policy watches for.
type Screened struct {
	User   string `json:"user"`
	Name   string `json:"name"`
	Policy string `json:"policy" doc:"whose screening is watch"`
	Times  int    `json:"times"`
	Week   string `json:"week" doc:"the Monday on which the week began, 2006-01-02"`
}

// screenedMost is how many are told at once.
const screenedMost = 1000

// Screenings lists who took passwords that a policy watches for and lets through, the newest week first: of one user, or of all.
func (s *Life) Screenings(ctx context.Context, who door.Operator, user string) ([]Screened, error) {
	out := []Screened{}
	if err := who.May(door.Credential); err != nil {
		return out, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return out, err
	}
	rows, err := s.Store.AllScreenings(ctx, user, screenedMost)
	for _, r := range rows {
		out = append(out, Screened{User: r.User, Name: c.FullName(r.User), Policy: r.Policy, Times: r.N, Week: day(r.Week)})
	}
	return out, err
}
