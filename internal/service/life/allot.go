package life

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/drift"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
)

// AllotRequest says to whom numbers are given.
type AllotRequest struct {
	Users, Groups []string // both empty: all who have none
	Because       string
	Look          bool // say what it would do, and store nothing
}

// AllotLine is a user or a group, and the number they get.
type AllotLine struct {
	Section string `json:"section" enum:"users,groups"`
	Name    string `json:"name"`
	Number  int    `json:"number,omitempty" doc:"left out: none, and words say why"`
	Role    string `json:"role,omitempty" doc:"out of whose range"`
	Words   string `json:"words,omitempty"`
}

// Allotment is what numbers were given, and the revision that says so.
type Allotment struct {
	Lines    []AllotLine       `json:"lines"`
	Revision declared.Revision `json:"revision"`
}

// Allot gives users and groups that have no number the lowest of the range of a role of theirs, that nobody declared has
// and no target was seen to have for anybody else. Users who have accounts already keep the numbers that these have.
func (s *Life) Allot(ctx context.Context, who door.Operator, q AllotRequest) (Allotment, error) {
	c, because, err := s.passing(ctx, who, q.Look, q.Because)
	if err != nil {
		return Allotment{}, err
	}
	out := Allotment{Lines: []AllotLine{}}
	all := len(q.Users)+len(q.Groups) == 0
	numbers := newNumbers(s, c)
	give := func(section, name string, kind model.ObjectKind, r *model.Role) error {
		line := AllotLine{Section: section, Name: name}
		if r == nil && all {
			return nil
		}
		if r == nil {
			line.Words = "no role of theirs names a range of numbers"
			out.Lines = append(out.Lines, line)
			return nil
		}
		n, why, err := numbers.next(ctx, kind, r, name)
		line.Role, line.Words = r.Name, why
		line.Number, _ = strconv.Atoi(n)
		out.Lines = append(out.Lines, line)
		return err
	}
	ranges := declare.GroupNumbersOf(c.Declared)
	for _, name := range pick(c.Declared.Groups, q.Groups, all) {
		switch g := c.Declared.Groups[name]; {
		case g == nil:
			return out, door.NotKnown("group", name, door.KeysOf(c.Declared.Groups))
		case g.Number == 0:
			err = give("groups", name, model.GroupKind, ranges[name])
		case !all:
			out.Lines = append(out.Lines, AllotLine{Section: "groups", Name: name, Words: fmt.Sprintf("has %d already", g.Number)})
		}
		if err != nil {
			return out, err
		}
	}
	var without []string
	for _, id := range pick(c.Declared.Users, q.Users, all) {
		switch u := c.Declared.Users[id]; {
		case u == nil:
			return out, door.NotKnown("user", id, door.KeysOf(c.Declared.Users))
		case u.Number == 0:
			without = append(without, id)
		case !all:
			out.Lines = append(out.Lines, AllotLine{Section: "users", Name: id, Words: fmt.Sprintf("has %d already", u.Number)})
		}
	}
	links, err := s.Store.LinksOfAll(ctx, without)
	if err != nil {
		return out, err
	}
	on := map[string]string{}
	for _, l := range links {
		if d := c.Plan.Targets[l.Target]; d != nil {
			if _, ok := d.Schema.Find(model.Account, model.Number); ok {
				on[l.User] = l.Target
			}
		}
	}
	for _, id := range without {
		r := declare.NumbersOf(c.Declared, rolesOf(c, id))
		if on[id] == "" {
			err = give("users", id, model.Account, r)
		} else if r != nil || !all {
			out.Lines = append(out.Lines, AllotLine{Section: "users", Name: id,
				Words: fmt.Sprintf("has an account on %s already, with a number of its own; declare that one: roost edit users %s "+
					"--set number=…",
					on[id], id)})
		}
		if err != nil {
			return out, err
		}
	}
	var edits []declare.Edit
	for _, l := range out.Lines {
		if l.Number != 0 {
			edits = append(edits, declare.Edit{Section: l.Section, Name: l.Name, Key: "number", Do: declare.Set,
				Value: strconv.Itoa(l.Number)})
		}
	}
	if len(edits) == 0 || q.Look {
		return out, nil
	}
	out.Revision, err = s.Edit(ctx, who, c.Revision, edits, because)
	return out, err
}

// pick are the names asked for, or all, sorted.
func pick[T any](from map[string]T, names []string, all bool) []string {
	if all {
		return slices.Sorted(maps.Keys(from))
	}
	return names
}

// rolesOf are the roles somebody holds today, or holds by name on any day.
func rolesOf(c *declared.Current, id string) (out []string) {
	for _, h := range c.Declared.Users[id].Roles {
		out = append(out, h.Name)
	}
	if x, ok := c.Plan.Person(id); ok {
		out = append(out, x.Roles()...)
	}
	return out
}

// numbers gives them out, each once.
type numbers struct {
	life   *Life
	users  map[string]string // number → whose it is declared to be
	groups map[string]string
	from   map[model.Named]int               // by kind and role: below it none is free
	seen   map[model.ObjectKind]map[int]bool // whether a target has it for somebody else
}

func newNumbers(s *Life, c *declared.Current) *numbers {
	n := &numbers{s, map[string]string{}, map[string]string{}, map[model.Named]int{}, map[model.ObjectKind]map[int]bool{}}
	for id, u := range c.Declared.Users {
		if u.Number != 0 {
			n.users[strconv.Itoa(u.Number)] = id
		}
	}
	for name, g := range c.Declared.Groups {
		if g.Number != 0 {
			n.groups[strconv.Itoa(g.Number)] = name
		}
	}
	return n
}

// next is the lowest number of a role's range that is free, for somebody; "" when the role is nil, and why when none is left.
func (n *numbers) next(ctx context.Context, kind model.ObjectKind, role *model.Role, whose string) (number, why string, err error) {
	if role == nil {
		return "", "", nil
	}
	r, taken := role.Numbers, n.users
	if kind == model.GroupKind {
		r, taken = role.GroupNumbers, n.groups
	}
	key := model.Named{Kind: kind, Name: role.Name}
	for at := max(r.Low, n.from[key]); at <= r.High; at++ {
		number = strconv.Itoa(at)
		if taken[number] != "" {
			continue
		}
		elsewhere, err := n.elsewhere(ctx, kind, at, r.High)
		if err != nil {
			return "", "", err
		}
		if elsewhere {
			continue
		}
		taken[number], n.from[key] = whose, at+1
		return number, "", nil
	}
	n.from[key] = r.High + 1
	return "", fmt.Sprintf("the role %s has no number left between %d and %d; widen its range", role.Name, r.Low, r.High), nil
}

// elsewhere says whether a target was seen to have a number for somebody who is not declared to have it. Those that follow
// are looked up with it.
func (n *numbers) elsewhere(ctx context.Context, kind model.ObjectKind, at, high int) (bool, error) {
	const ahead = 200
	seen := n.seen[kind]
	if seen == nil {
		seen = map[int]bool{}
		n.seen[kind] = seen
	}
	if _, known := seen[at]; known {
		return seen[at], nil
	}
	var marks []uint64
	for i := at; i <= min(high, at+ahead); i++ {
		marks = append(marks, drift.NumberKey(kind, strconv.Itoa(i)))
	}
	has, err := n.life.Store.LooseMarks(ctx, marks)
	for i, m := range marks {
		seen[at+i] = has[m]
	}
	return seen[at], err
}
