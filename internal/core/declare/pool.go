package declare

import "hen-roost/internal/core/model"

// seatsMost bounds the seats of a pool.
const seatsMost = 10_000_000

func (p *fileParser) pool(name string, at model.Pos, n *node) {
	x := &model.Pool{Name: name, Pos: at, Seats: -1}
	p.has.pools = append(p.has.pools, x)
	what := "pool " + name
	p.mapping(n, what, keys{"about": p.about(&x.About), "seats": p.number(&x.Seats, 0, seatsMost), "at": func(n *node) {
		p.named(n, "target", func(target string, at model.Pos, v *node) {
			p.list(v, func(item *node) {
				l := model.PooledLicence{Target: model.Ref{Name: target, Pos: at}}
				if p.str(&l.Licence)(item); l.Licence != "" {
					x.At = append(x.At, l)
				}
			})
		})
	}})
	if x.Seats < 0 {
		p.fault(at, "%s does not say how many seats it has", what)
	}
	if len(x.At) == 0 {
		p.fault(at, "%s does not say which licences take its seats, as at: {ticketing: counter-seat}", what)
	}
}

// pools faults licences that no target has, and those whose holders would sit in two pools.
func (c *checker) pools() {
	first := map[[2]string]*model.Pool{}
	for _, name := range sorted(c.d.Pools) {
		x := c.d.Pools[name]
		for _, l := range x.At {
			if !known(c, "target", l.Target, c.d.Targets) {
				continue
			}
			t := c.d.Targets[l.Target.Name]
			if schema, ok := c.schemas[t.Kind]; ok && schema.Of(model.LicenceKind) == nil {
				c.fault(l.Target.Pos, "pool %s names a licence at %s, but a target of kind %s has none", name, t.Name, t.Kind)
			}
			key := [2]string{t.Name, l.Licence}
			if other := first[key]; other != nil {
				c.fault(l.Target.Pos, "the licence %s at %s is in %s already: a seat is taken once", l.Licence, t.Name,
					c.describe("pool", other))
				continue
			}
			first[key] = x
		}
	}
}
