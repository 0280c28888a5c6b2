package connecttest

import (
	"context"
	"errors"
	"slices"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// since goes on from a mark: what changed and nothing else, and what is gone.
func (x suite) since() {
	type seen struct{ found, gone []string }
	from := func(mark string) (next string, whole bool, out seen) {
		s, found := x.open(), func(o model.Object) error { out.found = append(out.found, o.Kind.String()+" "+o.Name); return nil }
		next, err := connect.Since(context.Background(), s, mark, found, func(n connect.Gone) error {
			out.gone = append(out.gone, n.Kind.String()+" "+n.Name+n.Unique)
			return nil
		})
		if whole = errors.Is(err, connect.ErrVoid); whole {
			if len(out.found)+len(out.gone) > 0 {
				x.Errorf("a void mark, and something was told: %v", out)
			}
			next, err = connect.Survey(context.Background(), s, found)
		}
		if err != nil {
			x.Fatal(err)
		}
		return next, whole, out
	}
	mark, whole, all := from("")
	if !whole || !slices.Contains(all.found, "account "+x.name) {
		x.Fatalf("the first survey is not whole: %v", all)
	}
	if x.Change == nil {
		return
	}
	if _, whole, again := from(mark); whole || slices.Contains(again.found, "account "+x.name) {
		x.Errorf("nothing changed, and it was told again: %v", again)
	}
	x.Change(x.T, x.name)
	x.try("a second account, for a time", []model.Act{x.account(model.Create, x.named("suite.brief"), to(model.FullName, "Brief"),
		to(model.Number, "1888"))}, connect.Done)
	brief := Find(x, x.open(), model.Account, x.named("suite.brief"))
	middle, _, some := from(mark)
	if !slices.Contains(some.found, "account "+x.name) || !slices.Contains(some.found, "account "+brief.Name) ||
		len(some.found) >= len(all.found) {
		x.Errorf("what changed is not told, or more than that: %v of %v", some, all)
	}
	if o := Find(x, x.open(), model.Account, x.name); slices.Contains(some.gone, "account "+o.Unique) ||
		slices.Contains(some.gone, "account "+o.Name) || slices.Contains(some.gone, " "+o.Unique) {
		x.Errorf("what changed is told to be gone: %v", some.gone)
	}
	x.try("it goes", []model.Act{x.account(model.Remove, brief.Name)}, connect.Done)
	if _, _, rest := from(middle); !slices.Contains(rest.gone, "account "+brief.Unique) &&
		!slices.Contains(rest.gone, "account "+brief.Name) {
		x.Errorf("that it is gone is not told: %v", rest)
	}
	if x.Forget != nil {
		if _, whole, anew := from(x.Forget(x.T, middle)); !whole || !slices.Contains(anew.found, "account "+x.name) {
			x.Errorf("after a void mark not everything was told: %v", anew)
		}
	}
}

// whole takes a batch all or nothing, and goes back when nobody confirms.
func (x suite) whole() {
	s := x.open()
	told := 0
	tell := func(connect.Mark) error { told++; return nil }
	act := func(name string) connect.Act {
		return connect.Act{Act: x.account(model.Create, name, to(model.FullName, "On Trial"))}
	}
	first, second := x.named("suite.trial"), x.named("suite.other")
	bad := connect.Act{Act: x.account(model.Modify, x.named("suite.nobody"), x.Attribute)}
	got, ok := connect.Whole(context.Background(), s, []connect.Act{act(first), bad}, tell)
	if !ok {
		return
	}
	if got[0].Outcome != connect.NotTried || got[1].Outcome != connect.Moved || told > 1 {
		x.Errorf("one of two cannot be: %+v, told %d times", got, told)
	}
	x.absent(first)
	got, _ = connect.Whole(context.Background(), s, []connect.Act{act(first)},
		func(connect.Mark) error { return errors.New("the journal is away") })
	if got[0].Outcome != connect.NotTried {
		x.Errorf("without a journal: %+v", got)
	}
	x.absent(first)
	if got, _ = connect.Whole(context.Background(), s, []connect.Act{act(first), act(second)}, tell); got[0].Outcome != connect.Done ||
		got[1].Outcome != connect.Done {
		x.Errorf("both can be: %+v", got)
	}
	x.try("they go", []model.Act{x.account(model.Remove, first), x.account(model.Remove, second)}, connect.Done, connect.Done)
	if lines, err := connect.Preview(context.Background(), s, []connect.Act{act(first)}); err != nil || len(lines) == 0 {
		x.Errorf("the target's own difference: %v %v", lines, err)
	}
}

func (x suite) absent(account string) {
	x.Helper()
	if err := x.open().Survey(context.Background(), func(o model.Object) error {
		if o.Kind == model.Account && o.Name == account {
			x.Errorf("%s is there", account)
		}
		return nil
	}); err != nil {
		x.Fatal(err)
	}
}
