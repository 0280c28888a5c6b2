package declared

import (
	"fmt"

	"hen-roost/internal/service/door"
)

// short says which shared pools have fewer seats than people are given, and more so than before: it is declared all the same, and a
// round that would take them is held.
func short(on *Current, r *Reading) (words []string) {
	for _, name := range door.KeysOf(r.source.Pools) {
		x := r.source.Pools[name]
		short, before := r.Plan.Short(x), 0
		if short == 0 {
			continue
		}
		if on != nil && on.Declared.Pools[name] != nil {
			before = on.Plan.Short(on.Declared.Pools[name])
		}
		if short > before {
			words = append(words, fmt.Sprintf("pool %s has %s, and the declaration gives one to %d people: %d too few; buy more, or have "+
				"somebody give one up: roost pool show %s tells who could", name, door.Count(x.Seats, "seat", "seats"), x.Seats+short,
				short, name))
		}
	}
	return words
}
