// Package match decides which user an account found on a target belongs to.
// Linked accounts are known. Of the rest, an account whose name, number, mail
// or full name fits exactly one user, who in turn fits exactly that account, is
// theirs to adopt. Anything else is for a person to decide; what they decided
// before counts for more than what fits.
package match

import (
	"cmp"
	"slices"
	"strings"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
)

// Input is what there is to match on one target.
type Input struct {
	Desired   *resolve.Desired
	Accounts  []model.Object // whose owner is not settled yet
	Links     []model.Link   // whose account is not settled yet
	Decisions []model.Decision
	Settled   func(p *resolve.Person, rest string) bool // has that account already; nil: nobody has
	Skip      func(*model.Object) bool                  // must not be anyone's: protected, the target's own
}

// Result says whose each account is.
type Result struct {
	Linked  map[string]string // account name → user, adopted or made before
	Renamed map[string]string // account name → the name it had when it was linked
	Former  map[string]string // account name → the user who had it, is no longer declared, and whose it would stay otherwise
	Fits    map[string]Fit    // account name → the one user it could be
	Doubts  []Doubt           // what a person must decide, sorted by user
	bySlot  map[Slot]string
}

// Slot is what one account of a user fills: of users who have one alone the rest is empty.
type Slot struct{ User, Rest string }

// Fit is a user recognised in an account, and by what.
type Fit struct {
	User string
	By   []string // rules that fitted: decided, given name, name, number, mail, full name
}

// Doubt is a user whom several accounts fit, or whose account fits several users.
type Doubt struct {
	Slot
	Accounts []string // that fit, sorted
	Rivals   []string // other users whom those accounts fit, sorted
}

// AccountOf returns the name of the account that is, or could only be, the user's.
func (r *Result) AccountOf(s Slot) (string, bool) {
	name, ok := r.bySlot[s]
	return name, ok
}

// Accounts matches accounts with people.
func Accounts(in Input) *Result {
	r := &Result{Linked: map[string]string{}, Renamed: map[string]string{}, Former: map[string]string{}, Fits: map[string]Fit{},
		bySlot: map[Slot]string{}}
	m := matcher{Input: in, r: r, byAccount: map[string][]string{}, bySlot: map[Slot][]string{},
		by: map[[2]string][]string{}, decided: map[string]string{}, theirs: map[Slot]string{}, denied: map[[2]string]bool{}}
	m.fold = func(s string) string { return s }
	if in.Desired.Schema.FoldNames {
		m.fold = strings.ToLower
	}
	for _, d := range in.Decisions {
		if d.Theirs {
			m.decided[m.fold(d.Name)], m.theirs[m.slot(d.User, d.Name)] = d.User, m.fold(d.Name)
		} else {
			m.denied[[2]string{m.fold(d.Name), d.User}] = true
		}
	}
	m.link()
	for i := range in.Accounts {
		if a := &in.Accounts[i]; r.Linked[a.Name] == "" && (in.Skip == nil || !in.Skip(a)) {
			m.add(a)
		}
	}
	m.settle()
	return r
}

type matcher struct {
	Input
	r         *Result
	fold      func(string) string
	decided   map[string]string      // folded account name → user
	theirs    map[Slot]string        // → folded account name
	denied    map[[2]string]bool     // folded account name and user
	byAccount map[string][]string    // whom it fits
	bySlot    map[Slot][]string      // what fits
	by        map[[2]string][]string // account and user → rules
}

// slot is what an account fills when it is a user's.
func (m *matcher) slot(user, account string) Slot {
	_, rest := m.Desired.Schema.Account().Login(account)
	return Slot{user, m.fold(rest)}
}

// link finds linked accounts again: by the target's own id where it has one, so that a rename does not lose them.
func (m *matcher) link() {
	byUnique, byName := map[string]model.Link{}, map[string]model.Link{}
	for _, l := range m.Links {
		if l.Unique != "" {
			byUnique[l.Unique] = l
		} else {
			byName[m.fold(l.Name)] = l
		}
	}
	for i := range m.Accounts {
		a := &m.Accounts[i]
		l := byName[m.fold(a.Name)]
		if x, ok := byUnique[a.Unique]; ok && a.Unique != "" {
			l = x
			if m.fold(l.Name) != m.fold(a.Name) {
				m.r.Renamed[a.Name] = l.Name
			}
		}
		if l.User != "" && m.yields(l.User, a) {
			m.r.Former[a.Name] = l.User
			continue
		}
		if l.User != "" {
			m.r.Linked[a.Name], m.r.bySlot[m.slot(l.User, a.Name)] = l.User, a.Name
		}
	}
}

// yields says whether an account goes from a user who is no longer declared to one who is: because an operator decided so, or
// because exactly one declared user has its number, and also its full name or mail. A number alone may have been given out again.
func (m *matcher) yields(user string, a *model.Object) bool {
	if _, declared := m.Desired.Plan.Person(user); declared {
		return false
	}
	if to := m.decided[m.fold(a.Name)]; to != "" && to != user {
		return true
	}
	number := a.Attributes.One(model.Number)
	if number == "" || !slices.Contains(m.Desired.Target.Match, "number") {
		return false
	}
	people := m.Desired.Known("number", number)
	if len(people) != 1 || m.denied[[2]string{m.fold(a.Name), people[0].ID}] ||
		m.Settled != nil && m.Settled(people[0], m.slot(people[0].ID, a.Name).Rest) {
		return false
	}
	full, mail := a.Attributes.One(model.FullName), a.Attributes.One(model.Mail)
	return full != "" && full == people[0].Name || mail != "" && strings.EqualFold(mail, people[0].Mail)
}

// add finds whom an account could be.
func (m *matcher) add(a *model.Object) {
	if user := m.decided[m.fold(a.Name)]; user != "" {
		m.edge(a.Name, user, "decision")
		return
	}
	// What a target has for itself is at the most a service identity's.
	mayHave := func(p *resolve.Person) bool { return !a.System || p.Declared.Service }
	people, given := m.Desired.Named(a.Name)
	if given {
		for _, p := range people {
			if mayHave(p) {
				m.edge(a.Name, p.ID, "given name")
			}
		}
		return
	}
	// A full name is weak: it counts where nothing else is known of the account.
	for _, rule := range []string{"name", "number", "mail", "full-name"} {
		if !slices.Contains(m.Desired.Target.Match, rule) || rule == "full-name" && len(m.byAccount[a.Name]) > 0 {
			continue
		}
		switch rule {
		case "name":
		case "number":
			people = m.Desired.Known(rule, a.Attributes.One(model.Number))
		case "mail":
			people = m.Desired.Known(rule, a.Attributes.One(model.Mail))
		default:
			people = m.Desired.Known(rule, a.Attributes.One(model.FullName))
		}
		for _, p := range people {
			if mayHave(p) && (m.Settled == nil || !m.Settled(p, m.slot(p.ID, a.Name).Rest)) {
				m.edge(a.Name, p.ID, strings.ReplaceAll(rule, "-", " "))
			}
		}
	}
}

func (m *matcher) edge(account, user, rule string) {
	slot := m.slot(user, account)
	if _, has := m.r.bySlot[slot]; has || m.denied[[2]string{m.fold(account), user}] {
		return
	}
	if decided := m.theirs[slot]; decided != "" && decided != m.fold(account) {
		return
	}
	pair := [2]string{account, user}
	if m.by[pair] == nil {
		m.byAccount[account] = append(m.byAccount[account], user)
		m.bySlot[slot] = append(m.bySlot[slot], account)
	}
	m.by[pair] = append(m.by[pair], rule)
}

// settle gives an account to a user where neither could be another's.
func (m *matcher) settle() {
	for slot, accounts := range m.bySlot {
		var rivals []string
		for _, a := range accounts {
			for _, u := range m.byAccount[a] {
				if u != slot.User && !slices.Contains(rivals, u) {
					rivals = append(rivals, u)
				}
			}
		}
		if len(accounts) == 1 && len(rivals) == 0 {
			m.r.Fits[accounts[0]] = Fit{User: slot.User, By: m.by[[2]string{accounts[0], slot.User}]}
			m.r.bySlot[slot] = accounts[0]
			continue
		}
		slices.Sort(accounts)
		slices.Sort(rivals)
		m.r.Doubts = append(m.r.Doubts, Doubt{Slot: slot, Accounts: accounts, Rivals: rivals})
	}
	slices.SortFunc(m.r.Doubts, func(a, b Doubt) int {
		return cmp.Or(strings.Compare(a.User, b.User), strings.Compare(a.Rest, b.Rest))
	})
}
