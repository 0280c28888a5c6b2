package rounds

import (
	"cmp"
	"context"
	"slices"
	"strconv"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/core/round"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/seen"
	"hen-roost/internal/store"
)

// pools are the licences of a target of which steps take seats.
func (s *Carrier) pools(ctx context.Context, target string, steps []round.Step) (map[string]round.Pool, error) {
	out, looked := map[string]round.Pool{}, map[string]bool{}
	for _, st := range steps {
		if looked[st.Name] || st.Target != target || st.Object != model.LicenceKind || st.Verb != model.JoinIt {
			continue
		}
		o, err := s.Store.Set(ctx, target, model.Named{Kind: st.Object, Name: st.Name})
		if err != nil && err != store.ErrNone {
			return nil, err
		}
		looked[st.Name] = true
		if seats, err := strconv.Atoi(o.Attributes.One(model.Seats)); err == nil {
			p := round.Pool{Seats: seats, In: map[string]bool{}}
			for _, m := range o.Attributes.Get(model.Members) {
				p.In[m] = true
			}
			p.Taken = len(p.In)
			out[st.Name] = p
		}
	}
	return out, nil
}

// sharedPools are the pools that licences of several targets share, of which steps on a target take seats: how many would be
// taken once all steps are done, on all targets.
func (s *Carrier) sharedPools(ctx context.Context, c *declared.Current, target string, steps []round.Step) ([]round.SharedPool, error) {
	var out []round.SharedPool
	for _, name := range door.KeysOf(c.Declared.Pools) {
		x := c.Declared.Pools[name]
		in := func(a model.Act) bool {
			return a.Object == model.LicenceKind && slices.ContainsFunc(x.At, func(l model.PooledLicence) bool {
				return l.Target.Name == a.Target && l.Licence == a.Name
			})
		}
		takes := func(st round.Step) bool { return st.Target == target && st.Verb == model.JoinIt && in(st.Act) }
		if !slices.ContainsFunc(steps, takes) {
			continue
		}
		taken, err := s.SeatsTaken(ctx, c, x)
		if err != nil {
			return nil, err
		}
		p := round.SharedPool{Name: name, Seats: x.Seats, Licences: map[string]bool{}}
		for _, l := range x.At {
			if l.Target.Name == target {
				p.Licences[l.Licence] = true
			}
		}
		p.Taken, p.After = seatsAfter(taken, steps, in)
		out = append(out, p)
	}
	return out, nil
}

// seatsAfter counts who sits in a pool now, and once some steps are done.
func seatsAfter(taken []resolve.Seat, steps []round.Step, in func(model.Act) bool) (now, after int) {
	sits := map[string]map[string]bool{} // by who: through which accounts
	move := func(x resolve.Seat, takes bool) {
		who := cmp.Or(x.User, seen.Sitting(x.Target, x.Account))
		if sits[who] == nil {
			sits[who] = map[string]bool{}
		}
		if at := x.Licence + " of " + seen.Sitting(x.Target, x.Account); takes {
			sits[who][at] = true
		} else {
			delete(sits[who], at)
		}
	}
	count := func() (n int) {
		for _, through := range sits {
			if len(through) > 0 {
				n++
			}
		}
		return n
	}
	for _, x := range taken {
		move(x, true)
	}
	now = count()
	for _, st := range steps {
		if in(st.Act) && (st.Verb == model.JoinIt || st.Verb == model.LeaveIt) {
			move(resolve.Seat{Target: st.Target, Licence: st.Name, Account: st.Member, User: st.User}, st.Verb == model.JoinIt)
		}
	}
	return now, count()
}
