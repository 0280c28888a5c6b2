package seen

import (
	"context"

	"hen-roost/internal/core/model"
	"hen-roost/internal/service/door"
)

// Origin is where some accounts may come from.
type Origin struct {
	Origin   string `json:"origin"`
	Accounts int    `json:"accounts"`
}

// TargetOrigins lists where the accounts of a target may come from, and how many each.
func (s *Seen) TargetOrigins(ctx context.Context, who door.Operator, target string) ([]Origin, error) {
	_, k, err := s.kindOn(ctx, who, target, model.Account.String())
	if err != nil {
		return nil, err
	}
	if len(k.Name) < 2 {
		return nil, &door.Problem{Kind: door.Unknown, Words: "on " + target + " a login is one account, wherever it comes from"}
	}
	list, err := s.Store.Origins(ctx, target, k.Joint, door.PageMost)
	out := make([]Origin, len(list))
	for i, x := range list {
		out[i] = Origin{x.Rest, x.N}
	}
	return out, err
}
