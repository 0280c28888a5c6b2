package seen

import (
	"cmp"
	"context"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/drift"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/work"
)

// HomeOn is a folder that somebody left on a target, or works in.
type HomeOn struct {
	Target   string       `json:"target"`
	Folder   string       `json:"folder"`
	Account  string       `json:"account,omitempty" doc:"whose it is, where there still is such an account"`
	Number   string       `json:"number"`
	User     string       `json:"user,omitempty"`
	UserName string       `json:"user-name,omitempty"`
	Bytes    int64        `json:"bytes" doc:"about"`
	LastUse  string       `json:"last-use,omitempty" format:"date" doc:"of the last sign-in, or of the newest file, whichever is later"`
	InUse    bool         `json:"in-use,omitempty"`
	Stale    bool         `json:"stale" doc:"nothing speaks against its going"`
	Words    string       `json:"words,omitempty" doc:"why it stays"`
	Object   model.Object `json:"-"`
}

// HomesSeen are the homes on some targets, and what could not be asked.
type HomesSeen struct {
	Items []HomeOn          `json:"items"`
	Stale int               `json:"stale" doc:"how many may go"`
	Bytes int64             `json:"bytes" doc:"that those take up, about"`
	Not   map[string]string `json:"not" doc:"targets that could not be asked, and why"`
}

// staleUsual is after how long without use a home is stale where nothing else is said.
const staleUsual = 90 * 24 * time.Hour

// Homes asks targets what people left there, and which of it nobody has used for some time: for as long as is asked for
// or, with 0, as the target's declaration says. Every file in the homes is looked at.
func (s *Seen) Homes(ctx context.Context, who door.Operator, targets []string, stale time.Duration) (HomesSeen, error) {
	if err := who.May(door.Run); err != nil {
		return HomesSeen{}, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return HomesSeen{}, err
	}
	if targets, err = s.withHomes(c, targets); err != nil {
		return HomesSeen{}, err
	}
	out := HomesSeen{Items: []HomeOn{}, Not: map[string]string{}}
	var mu sync.Mutex
	work.Each(ctx, targets, s.Width, func(ctx context.Context, target string) {
		list, err := s.homesOn(ctx, c, target, stale)
		mu.Lock()
		defer mu.Unlock()
		if err != nil {
			out.Not[target] = err.Error()
		}
		out.Items = append(out.Items, list...)
	})
	slices.SortFunc(out.Items, func(a, b HomeOn) int {
		return cmp.Or(cmp.Compare(rank(a), rank(b)), strings.Compare(a.Target, b.Target), strings.Compare(a.LastUse, b.LastUse),
			strings.Compare(a.Folder, b.Folder))
	})
	for _, h := range out.Items {
		if h.Stale {
			out.Stale++
			out.Bytes += h.Bytes
		}
	}
	return out, ctx.Err()
}

// rank lets those that may go come first.
func rank(h HomeOn) int {
	if h.Stale {
		return 0
	}
	return 1
}

// withHomes are the named targets or, with none named, all on which people can have homes.
func (s *Seen) withHomes(c *declared.Current, targets []string) (out []string, err error) {
	named := len(targets) > 0
	if targets, err = s.targetNames(c, targets); err != nil {
		return nil, err
	}
	for _, t := range targets {
		switch d := c.Plan.Targets[t]; {
		case d.Schema.Of(model.HomeKind) != nil:
			out = append(out, t)
		case named:
			return nil, door.Wrong("targets", "%s is of kind %s, where nobody has a home", t, d.Target.Kind)
		}
	}
	return out, nil
}

func (s *Seen) homesOn(ctx context.Context, c *declared.Current, target string, stale time.Duration) ([]HomeOn, error) {
	connector, access, err := s.Reach(ctx, target)
	if err != nil {
		return nil, err
	}
	x, err := connect.Open(ctx, connector, access)
	if err != nil {
		return nil, err
	}
	defer x.Close()
	list, err := connect.Homes(ctx, x)
	strikes := access.Strikes()
	if err != nil {
		return nil, strikes.Error(err)
	}
	for i := range list {
		strikes.Object(&list[i])
	}
	d := c.Plan.Targets[target]
	if stale == 0 {
		stale = cmp.Or(d.Target.Homes.Stale, staleUsual)
	}
	before := s.Now().Add(-stale).Format(time.DateOnly)
	names := make([]string, len(list))
	for i, o := range list {
		names[i] = o.Attributes.One(model.HeldBy)
	}
	owners, err := s.Store.LinkedNames(ctx, target, names)
	if err != nil {
		return nil, err
	}
	out, shield := make([]HomeOn, len(list)), d.Shield()
	for i, o := range list {
		h := HomeOn{Target: target, Folder: o.Name, Account: names[i], Number: o.Attributes.One(model.Number), User: owners[names[i]],
			LastUse: o.Attributes.One(model.LastUse), InUse: o.Attributes.Has(model.InUse), Object: o}
		h.UserName = c.FullName(h.User)
		h.Bytes, _ = strconv.ParseInt(o.Attributes.One(model.Size), 10, 64) // one that was not told counts for nothing
		h.Words = drift.StandsStill(shield, &o, before)
		h.Stale = h.Words == ""
		out[i] = h
	}
	return out, nil
}

// StaleActs are what takes homes away that may go: kept in an archive there, or for good.
func (h HomesSeen) StaleActs(how string) []model.Act {
	var out []model.Act
	for _, x := range h.Items {
		if x.Stale {
			out = append(out, drift.Clearing(x.Target, x.User, &x.Object, how))
		}
	}
	return out
}
