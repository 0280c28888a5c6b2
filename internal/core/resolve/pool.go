package resolve

import (
	"slices"

	"hen-roost/internal/core/model"
)

// Seat is a licence that the declaration gives an account, and with it a seat of a pool that several licences share.
type Seat struct{ Target, Licence, Account, User string }

// Seats are those that the declaration gives of a pool on the plan's day; none to who is suspended.
func (p *Plan) Seats(x *model.Pool) (out []Seat) {
	for _, l := range x.At {
		d := p.Targets[l.Target.Name]
		set := model.Named{Kind: model.LicenceKind, Name: l.Licence}
		if d == nil || !slices.ContainsFunc(d.Sets, func(s *Set) bool { return s.Named == set }) {
			continue
		}
		for a := range d.Accounts() {
			if !a.Suspended() && slices.ContainsFunc(a.Sets(), func(j Joining) bool { return j.Set == set }) {
				out = append(out, Seat{l.Target.Name, l.Licence, a.Name, a.ID})
			}
		}
	}
	return out
}

// Seated are the users to whom the declaration gives a seat of a pool, each once.
func (p *Plan) Seated(x *model.Pool) map[string]bool {
	out := map[string]bool{}
	for _, s := range p.Seats(x) {
		out[s.User] = true
	}
	return out
}

// Short is how many seats too few a pool has for those whom the declaration gives one; 0 for enough. Where even all who hold roles
// that give one have a seat, nobody is looked at.
func (p *Plan) Short(x *model.Pool) int {
	if p.seatedMost(x) <= x.Seats {
		return 0
	}
	return max(len(p.Seated(x))-x.Seats, 0)
}

// seatedMost is how many people hold what gives a seat of a pool: those too who are suspended, or never to have the account.
func (p *Plan) seatedMost(x *model.Pool) (n int) {
	for bundle, holders := range p.holders {
		if holders > 0 && slices.ContainsFunc(x.At, func(l model.PooledLicence) bool {
			d := p.Targets[l.Target.Name]
			set := model.Named{Kind: model.LicenceKind, Name: l.Licence}
			return d != nil && bundle < len(d.shapes) && d.shapes[bundle] != nil &&
				slices.ContainsFunc(d.shapes[bundle].sets, func(j Joining) bool { return j.Set == set })
		}) {
			n += holders
		}
	}
	return n
}
