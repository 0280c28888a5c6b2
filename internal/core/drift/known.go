package drift

import (
	"hash/maphash"
	"math/bits"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
)

// Known is what the comparisons of one target have found right. What is on both
// sides as it was then is not compared again: a hash of the observed account,
// and of a group's members, tells. It serves one comparison at a time, and
// forgets when the plan is not one that follows the plan before.
type Known struct {
	seed  maphash.Seed
	line  *resolve.Line
	most  int
	pages []*page // by person
	used  int     // pages
	sets  map[model.Named]print
}

// page are prints of some people's accounts, as they were seen when they were
// right; 0: they were not. Where few people have an account few pages are made.
type page [pageRows]uint64

const pageRows = 128

// print is who should have been in a set, and who was, when that was right.
type print struct{ people, members uint64 }

// NewKnown knows nothing yet. The seed should be told to nobody, so that no
// target can make two accounts that look alike.
func NewKnown(seed maphash.Seed) *Known { return &Known{seed: seed} }

// Bytes is about how much memory it takes.
func (k *Known) Bytes() int {
	return k.used*pageRows*8 + cap(k.pages)*8 + len(k.sets)*64
}

// begin makes ready for a plan, with so many accounts a person at the most.
func (k *Known) begin(p *resolve.Plan, most int) {
	if k.line != p.Line() || k.most != most {
		k.line, k.most, k.pages, k.used, k.sets = p.Line(), most, nil, 0, map[model.Named]print{}
	}
	if more := p.Size()*most/pageRows + 1 - len(k.pages); more > 0 {
		k.pages = append(k.pages, make([]*page, more)...)
	}
}

// holds says whether an account was right when it looked so.
func (k *Known) holds(at int, print uint64) bool {
	p := k.pages[at/pageRows]
	return p != nil && p[at%pageRows] == print
}

// put remembers how an account looked when it was right; 0 when it was not.
func (k *Known) put(at int, print uint64) {
	p := &k.pages[at/pageRows]
	if *p == nil {
		if print == 0 {
			return
		}
		*p = new(page)
		k.used++
	}
	(*p)[at%pageRows] = print
}

// account is the print of what was seen of the account of a person with a mark.
func (k *Known) account(mark uint64, o *model.Object) uint64 {
	return maphash.String(k.seed, string(o.Attributes)) ^ bits.RotateLeft64(maphash.String(k.seed, o.Name), 32) ^ mark | 1
}

// of is the print of a text.
func (k *Known) of(text model.Values) uint64 { return maphash.String(k.seed, string(text)) }

// mark tells people apart, and the same one before and after a change
// (splitmix64, Steele, Lea and Flood, 2014).
func mark(at, version int32) uint64 {
	x := uint64(at)<<32 + uint64(version) + 0x9e3779b97f4a7c15
	x = (x ^ x>>30) * 0xbf58476d1ce4e5b9
	x = (x ^ x>>27) * 0x94d049bb133111eb
	return x ^ x>>31
}
