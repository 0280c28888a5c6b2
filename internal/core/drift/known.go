package drift

import (
	"hash/maphash"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
)

// Known is what the comparisons of one target have found right. What is on both
// sides as it was then is not compared again: a hash of the observed row, and
// of a group's members, tells. It serves one comparison at a time, and forgets
// when the plan is not one that follows the plan before.
type Known struct {
	seed maphash.Seed
	line *resolve.Line
	most int
	rows []uint64 // by person: of the attributes seen when they were right; 0: they were not
	sets map[model.Named]print
}

// print is who should have been in a set, and who was, when that was right.
type print struct{ people, members uint64 }

// NewKnown knows nothing yet. The seed should be told to nobody, so that no
// target can make two rows that look alike.
func NewKnown(seed maphash.Seed) *Known { return &Known{seed: seed} }

// begin makes ready for a plan, with so many accounts a person at the most.
func (k *Known) begin(p *resolve.Plan, most int) {
	if k.line != p.Line() || k.most != most {
		k.most = most
		k.line, k.rows, k.sets = p.Line(), nil, map[model.Named]print{}
	}
	if more := p.Size()*most - len(k.rows); more > 0 {
		k.rows = append(k.rows, make([]uint64, more)...)
	}
}

// row is the print of what was seen of a person's account.
func (k *Known) row(a *resolve.Person, seen model.Attributes) uint64 {
	return maphash.String(k.seed, string(seen)) ^ mark(a) | 1
}

// of is the print of a text.
func (k *Known) of(text model.Values) uint64 { return maphash.String(k.seed, string(text)) }

// mark tells people apart, and the same one before and after a change
// (splitmix64, Steele, Lea and Flood, 2014).
func mark(a *resolve.Person) uint64 {
	x := uint64(a.At)<<32 + uint64(a.Version) + 0x9e3779b97f4a7c15
	x = (x ^ x>>30) * 0xbf58476d1ce4e5b9
	x = (x ^ x>>27) * 0x94d049bb133111eb
	return x ^ x>>31
}
