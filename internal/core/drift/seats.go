package drift

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"hen-roost/internal/core/model"
)

// seating counts what the comparison would change about the seats of one licence.
type seating struct {
	taken int
	freed map[string]bool // by account
}

// seat notes that a seat is to be taken or freed.
func (c *comparer) seat(licence, account string, freed bool) {
	s := c.seated[licence]
	if s == nil {
		s = &seating{freed: map[string]bool{}}
		if c.seated == nil {
			c.seated = map[string]*seating{}
		}
		c.seated[licence] = s
	}
	if freed {
		s.freed[account] = true
	} else {
		s.taken++
	}
}

// seats reports licences with fewer seats than are wanted, and seats whose holders have not signed in for long. It comes
// after everything that takes and frees seats.
func (c *comparer) seats() {
	if c.Reach != nil {
		return
	}
	before := c.daysAgo(c.Desired.Target.UnusedSeats)
	for i := range c.Others {
		o := &c.Others[i]
		if o.Kind != model.LicenceKind {
			continue
		}
		s := c.seated[o.Name]
		if s == nil {
			s = &seating{}
		}
		stay := slices.DeleteFunc(slices.Clone(o.Attributes.Get(model.Members)), func(n string) bool { return s.freed[n] })
		c.idle(o, stay, before)
		all, err := strconv.Atoi(o.Attributes.One(model.Seats))
		short := len(stay) + s.taken - all
		if err != nil || short <= 0 {
			continue
		}
		note := fmt.Sprintf("%d %s, %d of them taken, and %d would be freed; %d are to be taken: %s too few", all, plural(all, "seat"),
			len(stay)+len(s.freed), len(s.freed), s.taken, strconv.Itoa(short))
		c.add(model.Finding{Kind: model.SeatsShort, Act: model.Act{Object: o.Kind, Name: o.Name},
			Note: note + "; buy more, or have somebody give one up" + c.leastUsed(stay)})
	}
}

func plural(n int, one string) string {
	if n == 1 {
		return one
	}
	return one + "s"
}

// namedMost is how many who could give up a seat are named.
const namedMost = 5

// leastUsed names those of some accounts whose last sign-in is longest ago, where the target tells.
func (c *comparer) leastUsed(accounts []string) string {
	type one struct{ name, last string }
	var list []one
	for _, n := range accounts {
		if at, there := c.find(n); there {
			if last := c.observed[at].Attributes.One(model.LastSignIn); last != "" {
				list = append(list, one{n, last})
			}
		}
	}
	slices.SortFunc(list, func(a, b one) int { return cmp.Or(strings.Compare(a.last, b.last), strings.Compare(a.name, b.name)) })
	var words []string
	for _, x := range list[:min(len(list), namedMost)] {
		words = append(words, x.name+" (last signed in "+x.last+")")
	}
	if words == nil {
		return ""
	}
	return "; least of all use it: " + strings.Join(words, ", ")
}

// idle reports holders of a seat who signed in before, but not since a day.
func (c *comparer) idle(o *model.Object, holders []string, before string) {
	if before == "" {
		return
	}
	for _, n := range holders {
		at, there := c.find(n)
		if !there {
			continue
		}
		if last := c.observed[at].Attributes.One(model.LastSignIn); last != "" && last < before {
			c.add(model.Finding{Kind: model.UnusedSeat, Act: model.Act{Object: o.Kind, Name: o.Name, Member: n, MemberKind: model.Account,
				User: c.userOf(at)}, Note: n + " has a seat, and has not signed in since " + last})
		}
	}
}
