package connect

import (
	"crypto/sha256"
	"encoding/hex"
	"maps"
	"slices"
	"strconv"
	"time"

	"hen-roost/internal/core/model"
)

// Fit makes a name that a target tells one that can be kept and shown. One with characters that could do harm there is
// cleaned and told with a hash, so that two of them stay two; what has it is odd, as words say.
func Fit(name string) (fit, words string) {
	why := model.Unfit(name, false)
	if why == "" {
		return name, ""
	}
	sum := sha256.Sum256([]byte(name))
	return model.Clean(name, false) + " #" + hex.EncodeToString(sum[:4]), "its name cannot be looked after: it has " + why + " in it"
}

// clockSlack is how many seconds a clock may differ before it is told: the answer takes its time too.
const clockSlack = 5

// ClockOff is by how many seconds the clock of a target, which says that it is now, is ahead of ours; 0 for a few.
func ClockOff(now time.Time) string {
	off := int(time.Until(now).Round(time.Second) / time.Second)
	if off >= -clockSlack && off <= clockSlack {
		off = 0
	}
	return strconv.Itoa(off)
}

// Yes is a truth as an attribute has it.
func Yes(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// Power tells who can become superuser where sets, and accounts, can be in sets, or act as accounts: the sets and accounts that can
// by themselves (mighty; of an account the ways), and the members of those, at any depth. members are the members of a set, and the
// accounts that may act as an account. how has the ways of each account. right is the object model.Superuser: its groups are those
// whose power does not come from a set that they are in; the connector adds what else it knows. everybody is the set in which all
// are, "" for none.
func Power(mighty map[model.Named][]string, members map[model.Named][]model.Named, everybody string) (how map[string][]string,
	right model.Object) {
	how = map[string][]string{}
	seen, direct, sets := map[model.Named]bool{}, []string{}, []string{}
	var queue []model.Named
	for n, through := range mighty {
		seen[n] = true
		queue = append(queue, n)
		switch n.Kind {
		case model.Account:
			how[n.Name] = append(how[n.Name], through...)
			direct = append(direct, n.Name)
		case model.GroupKind:
			sets = append(sets, n.Name)
		}
	}
	for len(queue) > 0 {
		n := queue[0]
		queue = queue[1:]
		if n.Kind == model.GroupKind && n.Name == everybody {
			direct = append(direct, model.Everyone)
		}
		for _, m := range members[n] {
			if m.Kind == model.Account {
				how[m.Name] = append(how[m.Name], n.Kind.String()+" "+n.Name)
			} else if n.Kind == model.Account {
				sets = append(sets, m.Name)
			}
			if !seen[m] {
				seen[m] = true
				queue = append(queue, m)
			}
		}
	}
	for _, name := range slices.Collect(maps.Keys(how)) {
		slices.Sort(how[name])
		how[name] = slices.Compact(how[name])
	}
	slices.Sort(direct)
	slices.Sort(sets)
	sets = slices.Compact(sets)
	right = model.Object{Kind: model.RightKind, Name: model.Superuser, Attributes: model.Pack(
		model.Attribute{Name: model.Members, Values: direct}, model.Attribute{Name: model.MemberGroups, Values: sets})}
	return how, right
}
