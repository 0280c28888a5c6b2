package rounds

import (
	"testing"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/core/round"
)

// Who has one licence of a shared pool, or several, takes one seat, before the steps of a round and after them, on all targets.
func TestSeatsAfter(t *testing.T) {
	seat := func(target, licence, account, user string) resolve.Seat {
		return resolve.Seat{Target: target, Licence: licence, Account: account, User: user}
	}
	step := func(verb model.Verb, target, licence, account, user string) round.Step {
		return round.Step{Act: model.Act{Verb: verb, Target: target, Object: model.LicenceKind, Name: licence, Member: account, User: user}}
	}
	in := func(a model.Act) bool { return a.Object == model.LicenceKind && a.Name != "other" }
	both := []resolve.Seat{seat("desk", "sell", "ulla", "ulla"), seat("plan", "see", "ulla.niemi", "ulla"), seat("desk", "sell",
		"spare", "")}
	for _, c := range []struct {
		name       string
		taken      []resolve.Seat
		steps      []round.Step
		now, after int
	}{
		{"nobody", nil, nil, 0, 0},
		{"two licences of one person, and an account of nobody's", both, nil, 2, 2},
		{"one of two is freed", both, []round.Step{step(model.LeaveIt, "desk", "sell", "ulla", "ulla")}, 2, 2},
		{"both are", both, []round.Step{step(model.LeaveIt, "desk", "sell", "ulla", "ulla"),
			step(model.LeaveIt, "plan", "see", "ulla.niemi", "ulla")}, 2, 1},
		{"who has one takes another", both, []round.Step{step(model.JoinIt, "plan", "edit", "ulla.niemi", "ulla")}, 2, 2},
		{"who has none", both, []round.Step{step(model.JoinIt, "plan", "see", "kai", "kai"), step(model.JoinIt, "desk", "sell", "kai",
			"kai")}, 2, 3},
		{"one is freed for another", both, []round.Step{step(model.LeaveIt, "desk", "sell", "spare", ""),
			step(model.JoinIt, "desk", "sell", "kai", "kai")}, 2, 2},
		{"an account of the same name elsewhere", both, []round.Step{step(model.JoinIt, "plan", "see", "spare", "")}, 2, 3},
		{"what is of no pool", both, []round.Step{step(model.JoinIt, "desk", "other", "kai", "kai"),
			{Act: model.Act{Verb: model.JoinIt, Object: model.GroupKind, Name: "sell", Member: "kai"}},
			step(model.Disable, "desk", "sell", "kai", "kai")}, 2, 2},
	} {
		if now, after := seatsAfter(c.taken, c.steps, in); now != c.now || after != c.after {
			t.Errorf("%s: %d, then %d; want %d, then %d", c.name, now, after, c.now, c.after)
		}
	}
}
