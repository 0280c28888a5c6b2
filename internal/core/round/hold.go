package round

import (
	"fmt"
	"slices"
	"strings"

	"hen-roost/internal/core/model"
)

// Hold is why a round may not run until somebody who did not draft it approves it.
type Hold struct {
	Kind   string `json:"kind"` // one of the constants below
	Target string `json:"target,omitempty"`
	Words  string `json:"words"`
	Firm   bool   `json:"firm,omitempty"` // no approval lifts it: the step must go
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
	FoughtOver    = "contested"
)

// Facts are what is known of one target when a round is drafted.
type Facts struct {
	Target         *model.Target
	Login          string
	Accounts       int      // of people, seen there
	Administrators []string // names of open accounts that can become superuser, ours not among them
}

// fewSteps is up to how many accounts no share of them is a reason to hold: of three accounts one is a third.
const fewSteps = 3

// Holds looks for what somebody else should see before the steps run.
// conflict says which two roles a user holds that nobody may hold both.
func Holds(steps []Step, facts map[string]Facts, conflict func(user string) (a, b string, ok bool)) []Hold {
	h := holder{conflict: conflict, seen: map[string]bool{}}
	for from := 0; from < len(steps); {
		to := from
		for to < len(steps) && steps[to].Target == steps[from].Target {
			to++
		}
		h.target(steps[from:to], facts[steps[from].Target])
		from = to
	}
	return h.out
}

type holder struct {
	conflict func(string) (string, string, bool)
	seen     map[string]bool // users told of already
	out      []Hold
}

func (h *holder) hold(kind, target string, firm bool, format string, args ...any) {
	h.out = append(h.out, Hold{Kind: kind, Target: target, Firm: firm, Words: fmt.Sprintf(format, args...)})
}

func (h *holder) target(steps []Step, f Facts) {
	if f.Target == nil {
		return
	}
	name := f.Target.Name
	var removed, disabled, elevated []string
	for _, s := range steps {
		closes := s.Object == model.Account && (s.Verb == model.Disable || s.Verb == model.Remove)
		switch {
		case s.Verb == model.Remove && s.Object == model.Account:
			removed = append(removed, s.Name)
		case s.Verb == model.Disable:
			disabled = append(disabled, s.Name)
		}
		for _, touched := range []string{s.Name, s.Member} {
			why, shut := f.Target.Protected(touched, f.Login)
			if touched == "" || !shut {
				continue
			}
			kind := GuardedObject
			if touched == f.Login {
				kind = OwnLogin
			}
			h.hold(kind, name, true, "%s of %s on %s: %s; take the step out, or the name out of protect", What(s.Act), touched, name, why)
		}
		if closes && len(f.Administrators) > 0 {
			f.Administrators = slices.DeleteFunc(slices.Clone(f.Administrators), func(a string) bool { return a == s.Name })
			if len(f.Administrators) == 0 {
				h.hold(LastAdmin, name, true, "%s %s on %s would leave nobody there who can administer it; make another administrator first", s.Verb, s.Name, name)
			}
		}
		if gives(s.Act) {
			elevated = append(elevated, Subject(s.Act))
		}
		h.broken(s, name)
	}
	h.count(Removals, "remove", removed, f, f.Target.Limits.Remove, f.Target.Limits.RemoveShare)
	h.count(Disables, "disable", disabled, f, f.Target.Limits.Disable, f.Target.Limits.DisableShare)
	if len(elevated) > 0 {
		h.hold(Elevated, name, false, "superuser rights on %s for %s", name, few(elevated))
	}
}

// gives says whether an act lets somebody become superuser who could not before.
func gives(a model.Act) bool {
	for _, c := range a.Changes {
		if c.Attribute == model.Elevation && len(c.After) > 0 {
			return !slices.Equal(c.Before, c.After)
		}
	}
	return false
}

// broken tells once of a user who gains something while holding two roles that nobody may.
func (h *holder) broken(s Step, target string) {
	gains := s.Verb == model.Create || s.Verb == model.JoinIt || s.Verb == model.Enable || s.Verb == model.Modify
	if h.conflict == nil || !gains || s.User == "" || h.seen[s.User] {
		return
	}
	h.seen[s.User] = true
	if a, b, ok := h.conflict(s.User); ok {
		h.hold(NeverWith, target, false, "%s holds both %s and %s, which nobody may (never-with)", s.User, a, b)
	}
}

func (h *holder) count(kind, verb string, names []string, f Facts, most, share int) {
	n, target := len(names), f.Target.Name
	if most >= 0 && n > most {
		h.hold(kind, target, false, "it would %s %d accounts on %s, and the limit is %d: %s", verb, n, target, most, few(names))
	} else if part := 100 * n; share >= 0 && n > fewSteps && f.Accounts > 0 && part > share*f.Accounts {
		h.hold(kind, target, false, "it would %s %d of %d accounts on %s, and the limit is %d%%: %s", verb, n, f.Accounts, target, share, few(names))
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
