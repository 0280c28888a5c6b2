package declared

import (
	"fmt"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/service/door"
)

// seated refuses what gives more people a seat than a shared pool has. What was too many before, and becomes no more, is let
// be: a day that begins may have made it so, and nobody could declare anything else until it is put right.
func seated(on *Current, r *Reading) error {
	var faults declare.Faults
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
			faults = append(faults, declare.Fault{At: r.source.Locate(x.Pos), Message: fmt.Sprintf("pool %s has %s, and the declaration "+
				"gives one to %d people: %d too few; buy more, or have somebody give one up: roost pool show %s tells who could",
				name, door.Count(x.Seats, "seat", "seats"), x.Seats+short, short, name)})
		}
	}
	if faults != nil {
		return faults
	}
	return nil
}
