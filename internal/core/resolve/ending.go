package resolve

import (
	"sync"
	"time"

	"hen-roost/internal/core/model"
)

// keysEndIn is how long before its last day a key is told of.
const keysEndIn = 14 * 24 * time.Hour

// keysEnding are the people with a key whose last day is near, found when first asked for.
type keysEnding struct {
	once   sync.Once
	people []*Person
}

// KeysEnding are the people with a declared key whose last day is near, or has gone by.
func (p *Plan) KeysEnding() []*Person {
	p.ending.once.Do(func() {
		for _, x := range p.People {
			if p.KeyEnds(x) != "" {
				p.ending.people = append(p.ending.people, x)
			}
		}
	})
	return p.ending.people
}

// KeyEnds is the last day of a person's key that ends first, if it is near or has gone by; "" when none is.
func (p *Plan) KeyEnds(x *Person) (first string) {
	if len(x.keys) == 0 {
		return ""
	}
	for _, k := range x.keys {
		until := model.KeyUntil(k)
		day, err := time.Parse(time.DateOnly, until)
		if err == nil && day.Add(-keysEndIn).Format(time.DateOnly) <= p.Day && (first == "" || until < first) {
			first = until
		}
	}
	return first
}
