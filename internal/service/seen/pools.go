package seen

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strings"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// SharedPool is seats that licences of several targets share, and how it stands. Whoever has one of the licences, or several,
// takes one seat.
type SharedPool struct {
	Name    string          `json:"name"`
	About   string          `json:"about,omitempty"`
	Seats   int             `json:"seats"`
	Taken   int             `json:"taken" doc:"people and accounts of nobody's that have one of the licences, each once"`
	Wanted  int             `json:"wanted" doc:"users whom the declaration gives one"`
	Missing int             `json:"missing" doc:"of those, users who have none yet"`
	Beside  int             `json:"beside" doc:"taken by somebody whom nobody gives one"`
	Short   int             `json:"short,omitempty" doc:"seats that are too few for those whom the declaration gives one and those beside them"`
	At      []PooledLicence `json:"at"`
}

// PooledLicence is one of the licences that share a pool.
type PooledLicence struct {
	Target  string `json:"target"`
	Licence string `json:"licence"`
	Taken   int    `json:"taken"`
}

// PoolSitter is who takes a seat of a shared pool.
type PoolSitter struct {
	User       string   `json:"user,omitempty"`
	UserName   string   `json:"user-name,omitempty"`
	Accounts   []string `json:"accounts" doc:"ACCOUNT on TARGET, each that has one of the licences"`
	Asked      bool     `json:"asked" doc:"the declaration gives them one"`
	LastSignIn string   `json:"last-sign-in,omitempty" doc:"the last of all those accounts, where targets tell"`
}

// PoolSeats is a shared pool and who sits there: first who could give up a seat.
type PoolSeats struct {
	SharedPool
	Sitters []PoolSitter `json:"sitters"`
	Total   int          `json:"total" doc:"of those who sit there, on all pages"`
	From    int          `json:"from"`
}

// SharedPools tells of the pools that are declared; target "" is all of them, another those that it shares.
func (s *Seen) SharedPools(ctx context.Context, who door.Operator, target string) ([]SharedPool, error) {
	out := []SharedPool{}
	if err := who.May(door.Look); err != nil {
		return out, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return out, err
	}
	if target != "" {
		if _, err := s.targetNames(c, []string{target}); err != nil {
			return out, err
		}
	}
	for _, name := range door.KeysOf(c.Declared.Pools) {
		x := c.Declared.Pools[name]
		if target != "" && !slices.ContainsFunc(x.At, func(l model.PooledLicence) bool { return l.Target.Name == target }) {
			continue
		}
		p, _, err := s.sharedPool(ctx, c, x)
		if err != nil {
			return out, err
		}
		out = append(out, p)
	}
	return out, nil
}

// SharedPoolSeats tells who takes the seats of a pool.
func (s *Seen) SharedPoolSeats(ctx context.Context, who door.Operator, name string, p door.Page) (PoolSeats, error) {
	if err := who.May(door.Look); err != nil {
		return PoolSeats{}, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return PoolSeats{}, err
	}
	x := c.Declared.Pools[name]
	if x == nil {
		return PoolSeats{}, door.NotKnown("pool", name, door.KeysOf(c.Declared.Pools))
	}
	pool, list, err := s.sharedPool(ctx, c, x)
	page := p.Bounded()
	from := min(page.From, len(list))
	return PoolSeats{pool, list[from:min(from+page.Size, len(list))], len(list), from}, err
}

// sitter is who takes a seat: the user, or the account where it is nobody's.
func sitter(x resolve.Seat) string { return cmp.Or(x.User, Sitting(x.Target, x.Account)) }

// Sitting is how an account is told apart that is nobody's.
func Sitting(target, account string) string { return account + " on " + target }

// SeatsTaken are the seats of a shared pool that are taken, as last seen, in order of the pool's licences. An account that
// nobody is settled to have is taken for that of whom the declaration gives one of its name, with the seat.
func (s *Seen) SeatsTaken(ctx context.Context, c *declared.Current, x *model.Pool) ([]resolve.Seat, error) {
	var out []resolve.Seat
	wants := map[resolve.Seat]string{} // users, by seats of which nothing is said of the user
	for _, seat := range c.Plan.Seats(x) {
		user := seat.User
		seat.User = ""
		wants[seat] = user
	}
	for _, l := range x.At {
		o, err := s.Store.Set(ctx, l.Target.Name, model.Named{Kind: model.LicenceKind, Name: l.Licence})
		if errors.Is(err, store.ErrNone) {
			continue
		}
		if err != nil {
			return nil, err
		}
		holders := o.Attributes.Get(model.Members)
		owner, err := s.Store.LinkedNames(ctx, l.Target.Name, holders)
		if err != nil {
			return nil, err
		}
		for _, n := range holders {
			seat := resolve.Seat{Target: l.Target.Name, Licence: l.Licence, Account: n}
			seat.User = cmp.Or(owner[n], wants[seat])
			out = append(out, seat)
		}
	}
	return out, nil
}

func (s *Seen) sharedPool(ctx context.Context, c *declared.Current, x *model.Pool) (SharedPool, []PoolSitter, error) {
	seats, err := s.SeatsTaken(ctx, c, x)
	if err != nil {
		return SharedPool{}, nil, err
	}
	wants := c.Plan.Seated(x)
	out := SharedPool{Name: x.Name, About: x.About, Seats: x.Seats, Wanted: len(wants), At: []PooledLicence{}}
	for _, l := range x.At {
		out.At = append(out.At, PooledLicence{Target: l.Target.Name, Licence: l.Licence})
	}
	last, err := s.lastSignIns(ctx, seats)
	if err != nil {
		return out, nil, err
	}
	place, list := map[string]int{}, []PoolSitter{}
	for _, seat := range seats {
		at, known := place[sitter(seat)]
		if !known {
			at = len(list)
			place[sitter(seat)] = at
			list = append(list, PoolSitter{User: seat.User, UserName: c.FullName(seat.User), Asked: wants[seat.User]})
		}
		if through := Sitting(seat.Target, seat.Account); !slices.Contains(list[at].Accounts, through) {
			list[at].Accounts = append(list[at].Accounts, through)
		}
		list[at].LastSignIn = max(list[at].LastSignIn, last[Sitting(seat.Target, seat.Account)])
	}
	for i, l := range out.At {
		for _, seat := range seats {
			if seat.Target == l.Target && seat.Licence == l.Licence {
				out.At[i].Taken++
			}
		}
	}
	out.Taken = len(list)
	out.Missing = out.Wanted
	for _, y := range list {
		if y.Asked {
			out.Missing--
		} else {
			out.Beside++
		}
	}
	out.Short = max(out.Taken+out.Missing-out.Seats, 0)
	slices.SortStableFunc(list, func(a, b PoolSitter) int { // as for a pool of one target: who could give one up comes first
		return cmp.Or(side(a.Asked)-side(b.Asked), side(a.LastSignIn == "")-side(b.LastSignIn == ""),
			strings.Compare(a.LastSignIn, b.LastSignIn), strings.Compare(a.Accounts[0], b.Accounts[0]))
	})
	return out, list, nil
}

// lastSignIns are the days on which accounts with seats signed in last, where targets tell, by account and target.
func (s *Seen) lastSignIns(ctx context.Context, seats []resolve.Seat) (map[string]string, error) {
	out := map[string]string{}
	byName := map[string]map[string]bool{}
	for _, x := range seats {
		if byName[x.Target] == nil {
			byName[x.Target] = map[string]bool{}
		}
		byName[x.Target][x.Account] = true
	}
	for target, names := range byName {
		for some := range slices.Chunk(door.KeysOf(names), 1000) {
			list, err := s.Store.AccountsNamed(ctx, []string{target}, some)
			if err != nil {
				return nil, err
			}
			for i := range list[target] {
				o := &list[target][i]
				if day := o.Attributes.One(model.LastSignIn); day != "" {
					out[Sitting(target, o.Name)] = day
				}
			}
		}
	}
	return out, nil
}
