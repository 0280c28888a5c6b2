package round

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/power"
)

// Hold is why a round may not run until somebody who did not draft it approves it.
type Hold struct {
	Kind   string `json:"kind"` // one of the constants below
	Target string `json:"target,omitempty"`
	Words  string `json:"words"`
	Firm   bool   `json:"firm,omitempty"` // no approval lifts it: the step must go
	Steps  []int  `json:"-"`              // places of the steps that are why, counted from 0 in the list that was looked at
}

// Kinds of hold.
const (
	Removals      = "removals"
	Disables      = "disables"
	GuardedObject = "protected"
	OwnLogin      = "own login"
	LastAdmin     = "last administrator"
	Elevated      = "elevation"
	NeverWith     = "never-with"
	OnPurpose     = "shut on purpose"
	CutOff        = "suspended"
	TooFewSeats   = "seats"
	Misplaced     = "home"
)

// Facts are what is known of one target when its steps are looked at: at the
// draft, and again before each batch.
type Facts struct {
	Target         *model.Target
	Shield         model.Shield
	Accounts       int                          // of people, seen there, those not counted that the round itself removed
	Administrators map[string]bool              // open accounts of users that can become superuser, ours not among them
	Power          *power.Power                 // who can become superuser there, and through what; nil: nobody can
	Seen           map[string]*model.Object     // accounts that steps touch and of which more than the name counts, by name
	Linked         func(user, name string) bool // whether an account is settled to be the user's; nil: none is
	Purpose        map[string]int64             // accounts shut on purpose, by name → the bulk round, or less than 0 the suspension
	Suspended      map[string]bool              // users who were cut off and not restored
	Pools          map[string]Pool              // licences of which steps take seats, where the target tells how many
	Shared         []SharedPool                 // pools shared with other targets of which steps take seats
	Closed         Closed                       // what the same round closes there beside the steps that are looked at
}

// Closed counts accounts that a round shuts and removes.
type Closed struct{ Disabled, Removed int }

// Pool is how many seats a licence has, and how many are taken; In are those of who has one, of the members that steps move.
type Pool struct {
	Seats, Taken int
	In           map[string]bool
}

// SharedPool is seats that licences of several targets share: how many are taken, and how many would be once the steps on all
// targets are done.
type SharedPool struct {
	Name                string
	Seats, Taken, After int
	Licences            map[string]bool // those of the target that take them
}

// Shuts says whether an act shuts an account, Removes whether it takes one away.
func Shuts(a model.Act) bool   { return a.Verb == model.Disable }
func Removes(a model.Act) bool { return a.Verb == model.Remove && a.Object == model.Account }

// fewSteps is up to how many accounts no share of them is a reason to hold: of three accounts one is a third.
const fewSteps = 3

// Holds looks for what somebody else should see before the steps run.
// conflict says which two roles a user holds that nobody may hold both.
func Holds(steps []Step, facts map[string]Facts, conflict func(user string) (a, b string, ok bool)) []Hold {
	h := holder{conflict: conflict, broke: map[string]int{}}
	for from := 0; from < len(steps); {
		to := from
		for to < len(steps) && steps[to].Target == steps[from].Target {
			to++
		}
		h.target(steps[from:to], from, facts[steps[from].Target])
		from = to
	}
	return h.out
}

type holder struct {
	conflict func(string) (string, string, bool)
	broke    map[string]int // by user: the place in out of the hold for two roles that nobody may have both of; -1: there is none
	out      []Hold
}

func (h *holder) hold(kind, target string, firm bool, steps []int, format string, args ...any) {
	h.out = append(h.out, Hold{Kind: kind, Target: target, Firm: firm, Steps: steps, Words: fmt.Sprintf(format, args...)})
}

// some is a list of names with the steps that they come from.
type some struct {
	names []string
	steps []int
}

func (s *some) add(name string, step int) {
	s.names, s.steps = append(s.names, name), append(s.steps, step)
}

func (h *holder) target(steps []Step, first int, f Facts) {
	if f.Target == nil {
		return
	}
	name := f.Target.Name
	var removed, disabled, elevated, reopened, cleared some
	admins, course := newAdmins(f), f.Power.Course()
	for i, s := range steps {
		at := first + i
		switch {
		case Removes(s.Act):
			removed.add(s.Name, at)
		case s.Verb == model.Remove && s.Object == model.HomeKind:
			cleared.add(s.Name, at)
		case Shuts(s.Act):
			disabled.add(s.Name, at)
		case s.Verb == model.Enable && f.Purpose[s.Name] != 0:
			reopened.add(fmt.Sprintf("%s (%s)", s.Name, by(f.Purpose[s.Name])), at)
		}
		if f.Suspended[s.User] && (s.Verb == model.Enable || s.Verb == model.Create && s.Object == model.Account) {
			h.hold(CutOff, name, true, []int{at}, "%s of %s on %s: %s is suspended; end that first: roost restore %s", What(s.Act),
				Subject(s.Act), name, s.User, s.User)
		}
		if kind, touched, why := f.guards(s.Act); kind != "" {
			h.hold(kind, name, true, []int{at}, "%s of %s on %s: %s; take the step out, or the name out of protect", What(s.Act), touched,
				name, why)
		}
		admins.finds(s.Act)
		if admins.last(s.Act) {
			h.hold(LastAdmin, name, true, []int{at},
				"%s %s on %s would leave nobody there who can administer it; make another administrator first", What(s.Act),
				Subject(s.Act), name)
		}
		if through := f.gains(s.Act, course); through != "" {
			elevated.add(fmt.Sprintf("%s (%s)", gainer(s.Act, course), through), at)
		}
		course.Take(s.Act, false)
		h.broken(s, at, name)
	}
	l := f.Target.Limits
	h.count(Removals, "remove", removed, f.Closed.Removed, f, l.Remove, l.RemoveShare)
	h.count(Disables, "disable", disabled, f.Closed.Disabled, f, l.Disable, l.DisableShare)
	if n := len(cleared.names); l.Remove >= 0 && n > l.Remove {
		h.hold(Removals, name, false, cleared.steps, "it would clear %d homes on %s, and the limit is %d: %s", n, name, l.Remove,
			few(cleared.names))
	}
	if len(reopened.names) > 0 {
		h.hold(OnPurpose, name, false, reopened.steps,
			"it would open on %s what was shut on purpose: %s; if a person is to stay shut, declare them suspended", name,
			few(reopened.names))
	}
	h.misplaced(steps, first, f)
	h.seats(steps, first, f)
	if len(elevated.names) > 0 {
		h.hold(Elevated, name, false, elevated.steps, "superuser rights on %s for %s", name, few(elevated.names))
	}
}

// seats holds steps that take more seats than there are, those counted that the round frees.
func (h *holder) seats(steps []Step, first int, f Facts) {
	takes, freed := map[string]*some{}, map[string]int{}
	for i, s := range steps {
		p, told := f.Pools[s.Name]
		switch {
		case s.Object != model.LicenceKind:
		case told && p.In != nil && p.In[s.Member] == (s.Verb == model.JoinIt): // it is so already
		case s.Verb == model.LeaveIt:
			freed[s.Name]++
		case s.Verb == model.JoinIt:
			if takes[s.Name] == nil {
				takes[s.Name] = &some{}
			}
			takes[s.Name].add(s.Member, first+i)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(takes)) {
		t := takes[name]
		p, told := f.Pools[name]
		if short := p.Taken - freed[name] + len(t.names) - p.Seats; told && short > 0 {
			h.hold(TooFewSeats, f.Target.Name, false, t.steps,
				"licence %s on %s has %d seats, %d of them taken and %d freed here; %d are to be "+
					"taken: %d too few. Buy more, or take steps out; who has one: roost target seats %s %s", name, f.Target.Name, p.Seats,
				p.Taken,
				freed[name], len(t.names), short, f.Target.Name, name)
		}
	}
	for _, p := range f.Shared {
		var at []int
		for _, name := range slices.Sorted(maps.Keys(takes)) {
			if p.Licences[name] {
				at = append(at, takes[name].steps...)
			}
		}
		if short := p.After - max(p.Seats, p.Taken); short > 0 && len(at) > 0 {
			h.hold(TooFewSeats, "pool "+p.Name, false, at,
				"the pool %s has %d seats, %d of them taken; %d would be taken after this round: "+
					"%d too few. Buy more, or take steps out; who has one: roost pool show %s", p.Name, p.Seats, p.Taken, p.After,
				p.After-p.Seats, p.Name)
		}
	}
}

// by names what shut something on purpose.
func by(n int64) string {
	if n < 0 {
		return fmt.Sprintf("suspension %d", -n)
	}
	return fmt.Sprintf("round %d", n)
}

// gainer names who an act is about, the person where one is known; of a group, who is in it.
func gainer(a model.Act, c *power.Course) string {
	name := a.Name
	if a.Moves() && a.MemberKind == model.GroupKind {
		const most = 6
		if list := c.Below(model.Named{Kind: a.MemberKind, Name: a.Member}, most); len(list) > 0 {
			return few(list) + " in group " + a.Member
		}
		return "group " + a.Member + ", which is empty"
	}
	if a.Moves() {
		name = a.Member
	}
	if a.User != "" && a.User != name {
		return a.User + " as " + name
	}
	return name
}

// guards says whether an act touches what no step may: the kind of hold, what it touches, and why not.
func (f Facts) guards(a model.Act) (kind, touched, why string) {
	for _, name := range []string{a.Name, a.Member} {
		if name == "" {
			continue
		}
		o := f.Seen[name]
		if account := a.Account(); account != name {
			o = nil // a group of that name
		} else if o != nil && a.Verb != model.AdoptIt && f.Linked != nil && f.Linked(a.User, name) {
			own := *o
			own.System, o = false, &own // it was made or adopted for somebody, whatever its number
		}
		if closesFactory(a, o) {
			continue
		}
		why, shut := f.Shield.Covers(o)
		if o == nil {
			why, shut = f.Shield.Protects(name)
		}
		if !shut {
			continue
		}
		if o != nil && o.Ours || f.Shield.Login == name {
			return OwnLogin, name, why
		}
		return GuardedObject, name, why
	}
	return "", "", ""
}

// closesFactory says that an act takes the password of a superuser out of use with which its target was delivered: that
// is to be closed, whose ever the account is, and keys go on.
func closesFactory(a model.Act, o *model.Object) bool {
	return o != nil && a.Verb == model.Modify && len(a.Changes) == 1 && a.Changes[0].Attribute == model.Locked &&
		(o.Attributes.Has(model.FactoryMade) || o.Attributes.Has(model.Locked))
}

// broken holds all steps by which a user gains something while holding two roles that nobody may.
func (h *holder) broken(s Step, at int, target string) {
	gains := s.Verb == model.Create || s.Verb == model.JoinIt || s.Verb == model.Enable || s.Verb == model.Modify
	if h.conflict == nil || !gains || s.User == "" {
		return
	}
	key := s.User + " on " + target
	place, asked := h.broke[key]
	if !asked {
		place = -1
		if a, b, ok := h.conflict(s.User); ok {
			place = len(h.out)
			h.hold(NeverWith, target, false, nil, "%s holds both %s and %s, which nobody may (never-with)", s.User, a, b)
		}
		h.broke[key] = place
	}
	if place >= 0 {
		h.out[place].Steps = append(h.out[place].Steps, at)
	}
}

func (h *holder) count(kind, verb string, which some, before int, f Facts, most, share int) {
	n, target := len(which.names)+before, f.Target.Name
	if len(which.names) == 0 {
		return
	}
	if most >= 0 && n > most {
		h.hold(kind, target, false, which.steps, "it would %s %d accounts on %s, and the limit is %d: %s", verb, n, target, most,
			few(which.names))
	} else if part := 100 * n; share >= 0 && n > fewSteps && f.Accounts > 0 && part > share*f.Accounts {
		h.hold(kind, target, false, which.steps, "it would %s %d of %d accounts on %s, and the limit is %d%%: %s", verb, n, f.Accounts,
			target, share, few(which.names))
	}
}

// few lists names, the first five at least.
func few(names []string) string {
	const most = 5
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
}

// Refused looks at steps of an approved round once more before they run, with
// what is known now. held are the holds under which the round was approved, with
// the places of their steps in all that the round holds; seqs are the places of
// the steps looked at. It returns the first hold that somebody could have approved and nobody has, nil for none: then no step may
// run; and beside, by their places among the steps, those that nobody can approve, each with why: the others may run without them.
func Refused(steps []Step, seqs []int, facts Facts, held []Hold, conflict func(user string) (a, b string, ok bool)) (all *Hold,
	some map[int]string) {
	some = map[int]string{}
	for _, now := range Holds(steps, map[string]Facts{facts.Target.Name: facts}, conflict) {
		switch {
		case now.Firm:
			for _, at := range now.Steps {
				some[at] = now.Kind + ": " + now.Words
			}
		case all == nil && !approved(now, seqs, held):
			all = &now
		}
	}
	for i, s := range steps {
		if len(some) == 0 {
			break
		}
		made := model.Named{Kind: model.Account, Name: s.Account()}
		for k := range i {
			if some[i] == "" && some[k] != "" && steps[k].Verb == model.Create && steps[k].Of() == made {
				some[i] = "its account is not made: " + some[k]
			}
		}
	}
	return all, some
}

// approved says whether all steps of a hold stand in approved ones of its kind.
func approved(now Hold, seqs []int, held []Hold) bool {
	return !slices.ContainsFunc(now.Steps, func(i int) bool {
		return !slices.ContainsFunc(held, func(h Hold) bool {
			return h.Kind == now.Kind && h.Target == now.Target && (h.Steps == nil || slices.Contains(h.Steps, seqs[i]))
		})
	})
}
