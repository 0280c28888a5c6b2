package host

import (
	"context"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// Homes implements connect.Offers in one exec.
func (s *session) Homes(ctx context.Context) ([]model.Object, error) {
	r, err := s.told(ctx, searchFor, homesScript(s.access.Settings))
	if err != nil {
		return nil, &connect.Error{Target: s.access.Target, Op: "look at homes", Err: err}
	}
	return r.folders(), nil
}
