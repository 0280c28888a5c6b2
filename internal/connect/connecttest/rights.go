package connecttest

import (
	"context"
	"slices"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// rights that are called what they allow are given and withdrawn, each for itself.
func (x suite) rights() {
	spelled := x.schema.Of(model.RightKind)
	if spelled == nil || spelled.Spelled == nil {
		return
	}
	join, leave := make([]model.Act, len(x.Rights)), make([]model.Act, len(x.Rights))
	for i, text := range x.Rights {
		if list, err := spelled.Spelled.Read(text); err != nil || len(list) != 1 || list[0] != text {
			x.Errorf("%q is not canonical: %q %v", text, list, err)
		}
		join[i], leave[i] = move(model.JoinIt, model.RightKind, text, x.name), move(model.LeaveIt, model.RightKind, text, x.name)
	}
	outcomes := func(o connect.Outcome) []connect.Outcome { return slices.Repeat([]connect.Outcome{o}, len(join)) }
	holding := func(want bool) {
		for _, text := range x.Rights {
			in := false
			if err := x.open().Survey(context.Background(), func(o model.Object) error {
				in = in || o.Kind == model.RightKind && o.Name == text && slices.Contains(o.Attributes.Get(model.Members), x.name)
				return nil
			}); err != nil {
				x.Fatal(err)
			}
			if in != want {
				x.Errorf("the survey shows %q of %s: %v", text, x.name, in)
			}
		}
	}
	x.try("given", join, outcomes(connect.Done)...)
	holding(true)
	x.try("given again", join, outcomes(connect.AlreadySo)...)
	x.try("withdrawn", leave, outcomes(connect.Done)...)
	holding(false)
	x.try("withdrawn again", leave, outcomes(connect.AlreadySo)...)
	x.try("of nobody", []model.Act{move(model.JoinIt, model.RightKind, x.Rights[0], x.named("suite.nobody"))}, connect.Failed)
}
