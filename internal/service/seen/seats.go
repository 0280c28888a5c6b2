package seen

import (
	"cmp"
	"context"
	"slices"
	"strconv"
	"strings"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/service/door"
)

// Pool is a licence of a target, and who sits on its seats.
type Pool struct {
	Licence string `json:"licence"`
	Told    bool   `json:"told" doc:"the target tells how many seats there are"`
	Seats   int    `json:"seats,omitempty"`
	Taken   int    `json:"taken"`
	Asked   bool   `json:"asked" doc:"the declaration gives it to somebody"`
	Wanted  int    `json:"wanted" doc:"accounts that the declaration gives a seat"`
	Missing int    `json:"missing" doc:"of those, accounts that have none yet"`
	Beside  int    `json:"beside" doc:"seats taken by accounts to which nobody gives one"`
	Short   int    `json:"short,omitempty" doc:"seats that are too few once all that can be is freed"`
}

// Sitter is an account with a seat.
type Sitter struct {
	Account    string `json:"account"`
	User       string `json:"user,omitempty"`
	UserName   string `json:"user-name,omitempty"`
	Asked      bool   `json:"asked" doc:"the declaration gives it a seat"`
	Open       bool   `json:"open"`
	LastSignIn string `json:"last-sign-in,omitempty" doc:"the day, where the target tells"`
	Protected  string `json:"protected,omitempty" doc:"why no step may touch it"`
}

// Seats are the pools of a target and, of one that was asked for, who sits there: first who could give up a seat.
type Seats struct {
	Pools   []Pool   `json:"pools"`
	Sitters []Sitter `json:"sitters"`
	Total   int      `json:"total" doc:"of those who sit there, on all pages"`
	From    int      `json:"from"`
}

// TargetSeats tells of the licences of a target, as last seen and as declared; licence "" tells of all, and of nobody in them.
func (s *Seen) TargetSeats(ctx context.Context, who door.Operator, target, licence string, p door.Page) (Seats, error) {
	out := Seats{Pools: []Pool{}, Sitters: []Sitter{}}
	d, k, err := s.kindOn(ctx, who, target, model.LicenceKind.String())
	if err != nil {
		return out, err
	}
	names := []string{licence}
	if licence == "" {
		list, _, _, err := s.observedPage(ctx, target, k.Kind, "", "", "", door.PageMost)
		if err != nil {
			return out, err
		}
		names = namesOf(list)
		for _, set := range d.Sets {
			if set.Kind == k.Kind && !slices.Contains(names, set.Name) {
				names = append(names, set.Name)
			}
		}
	}
	for _, name := range names {
		o, err := s.Store.Set(ctx, target, model.Named{Kind: k.Kind, Name: name})
		if err != nil && !asked(d, model.Named{Kind: k.Kind, Name: name}) {
			return out, s.NotHeld(ctx, target, k.Kind, name)
		}
		pool, list, err := s.pool(ctx, d, name, &o)
		if err != nil {
			return out, err
		}
		out.Pools = append(out.Pools, pool)
		if licence != "" {
			page := p.Bounded()
			from := min(page.From, len(list))
			out.Sitters, out.Total, out.From = list[from:min(from+page.Size, len(list))], len(list), from
		}
	}
	return out, nil
}

// pool works out how one licence stands, and who sits there.
func (s *Seen) pool(ctx context.Context, d *resolve.Desired, name string, o *model.Object) (Pool, []Sitter, error) {
	c, err := s.Current(ctx)
	if err != nil {
		return Pool{}, nil, err
	}
	target, holders := d.Target.Name, o.Attributes.Get(model.Members)
	seen := map[string]*model.Object{}
	for some := range slices.Chunk(holders, 1000) {
		list, err := s.Store.AccountsNamed(ctx, []string{target}, some)
		if err != nil {
			return Pool{}, nil, err
		}
		for i, x := range list[target] {
			seen[x.Name] = &list[target][i]
		}
	}
	owner, err := s.Store.LinkedNames(ctx, target, holders)
	if err != nil {
		return Pool{}, nil, err
	}
	set := model.Named{Kind: model.LicenceKind, Name: name}
	wants, given := map[string]bool{}, map[string]bool{} // by account asked for; by user
	for a := range d.Accounts() {
		if !a.Suspended() && slices.ContainsFunc(a.Sets(), func(j resolve.Joining) bool { return j.Set == set }) {
			wants[a.Name], given[a.ID] = true, true
		}
	}
	p := Pool{Licence: name, Taken: len(holders), Wanted: len(wants), Asked: asked(d, set), Missing: len(wants)}
	p.Seats, err = strconv.Atoi(o.Attributes.One(model.Seats))
	p.Told = err == nil
	list, kept, shield := []Sitter{}, 0, d.Shield()
	for _, n := range holders {
		x := Sitter{Account: n, User: owner[n], UserName: c.FullName(owner[n])}
		x.Asked = wants[n] || x.User != "" && given[x.User]
		if at := seen[n]; at != nil {
			x.Open, x.LastSignIn = at.Attributes.One(model.Disabled) != "yes", at.Attributes.One(model.LastSignIn)
			x.Protected, _ = shield.Covers(at)
		}
		switch {
		case x.Asked:
			p.Missing--
			kept++
		case x.Protected != "" || !p.Asked: // nobody takes those seats away
			kept++
			p.Beside++
		default:
			p.Beside++
		}
		list = append(list, x)
	}
	p.Missing = max(p.Missing, 0)
	if p.Told {
		p.Short = max(kept+p.Missing-p.Seats, 0)
	}
	slices.SortStableFunc(list, func(a, b Sitter) int { // who could give one up: not asked for, shut, longest without a sign-in
		return cmp.Or(side(a.Asked)-side(b.Asked), side(a.Open)-side(b.Open), side(a.LastSignIn == "")-side(b.LastSignIn == ""),
			strings.Compare(a.LastSignIn, b.LastSignIn), strings.Compare(a.Account, b.Account))
	})
	return p, list, nil
}

func side(b bool) int {
	if b {
		return 1
	}
	return 0
}
