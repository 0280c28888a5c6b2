package dialect

import (
	"context"
	"maps"
	"slices"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// Sessions implements connect.Offers.
func (s *session) Sessions(ctx context.Context) ([]model.Object, error) {
	list, err := s.found(ctx, s.file.Signed.List)
	if err != nil {
		return nil, s.fail("see who is signed in", err)
	}
	out := []model.Object{}
	for _, f := range list {
		if ours := f.Has["ours"]; len(ours) == 1 && ours[0] == "yes" {
			continue
		}
		o := model.Object{Kind: model.SessionKind, Name: connect.Printable(f.Name)}
		var holds []string
		for of, sets := range f.In {
			for _, set := range sets {
				holds = append(holds, connect.Printable(of+" "+set))
			}
		}
		if slices.Sort(holds); len(holds) > 0 {
			o.Attributes = o.Attributes.With(model.HoldsSets, holds...)
		}
		for _, a := range slices.Sorted(maps.Keys(f.Has)) {
			if a != "ours" {
				for i, v := range f.Has[a] {
					f.Has[a][i] = connect.Printable(v)
				}
				o.Attributes = o.Attributes.With(a, f.Has[a]...)
			}
		}
		out = append(out, o)
	}
	return out, nil
}

// End implements connect.Offers.
func (s *session) End(ctx context.Context, names []string) []connect.Answer {
	out := make([]connect.Answer, len(names))
	there, err := s.here(ctx)
	for i, n := range names {
		switch {
		case err != nil:
			out[i] = connect.Answer{Outcome: connect.Failed, Words: err.Error()}
		case !there[n]:
			out[i] = connect.Answer{Outcome: connect.AlreadySo}
		default:
			vars := s.vars()
			vars["name"] = n
			if err := s.send(s.file.Signed.End, vars, s.speaking(ctx)); err != nil {
				out[i] = connect.Answer{Outcome: connect.Failed, Words: connect.Printable(err.Error())}
			}
		}
	}
	there, err = s.here(ctx)
	for i, n := range names {
		switch {
		case out[i].Outcome != "":
		case err != nil:
			out[i] = connect.Answer{Outcome: connect.Failed, Words: err.Error()}
		case there[n]:
			out[i] = connect.Answer{Outcome: connect.Failed, Words: "it has not ended"}
		default:
			out[i] = connect.Answer{Outcome: connect.Done}
		}
	}
	return out
}

// here are the sessions that there are, by their names.
func (s *session) here(ctx context.Context) (map[string]bool, error) {
	list, err := s.Sessions(ctx)
	out := map[string]bool{}
	for _, o := range list {
		out[o.Name] = true
	}
	return out, err
}
