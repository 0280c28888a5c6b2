package host

import (
	"context"
	"errors"
	"io"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// Homes implements connect.Offers in one exec.
func (s *session) Homes(ctx context.Context) ([]model.Object, error) {
	var r *reading
	err := s.exec(ctx, searchFor, func(in io.WriteCloser, out io.Reader) (err error) {
		say(in, homesScript(s.access.Settings), true)
		r, err = newAnswer(out, s.access.As).read()
		return err
	})
	if err == nil && !r.whole {
		err = errors.New("the answer was cut off")
	}
	if err != nil {
		return nil, &connect.Error{Target: s.access.Target, Op: "look at homes", Err: err}
	}
	return r.folders(), nil
}
