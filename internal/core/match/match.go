// Package match decides which user an account found on a target belongs to.
// Linked accounts are known; of the rest, an account whose name, number or
// mail fits exactly one user, who in turn fits exactly that account, is theirs
// to adopt. Anything else is for a person to decide.
package match

import (
	"slices"
	"strconv"
	"strings"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
)

// Result says whose each account is.
type Result struct {
	Linked map[string]string // account name → user, adopted or made before
	Fits   map[string]Fit    // account name → the one user it could be
	Doubts []Doubt           // what a person must decide, sorted by user
	byUser map[string]string
}

// Fit is a user recognised in an account, and by what.
type Fit struct {
	User string
	By   []string // rules that fitted: name, given name, number, mail
}

// Doubt is a user whom several accounts fit, or whose account fits several users.
type Doubt struct {
	User     string
	Accounts []string // that fit, sorted
	Rivals   []string // other users whom those accounts fit, sorted
}

// AccountOf returns the name of the account that is, or could only be, the user's.
func (r *Result) AccountOf(user string) (string, bool) {
	name, ok := r.byUser[user]
	return name, ok
}

// Accounts matches the accounts of one target with people. skip keeps accounts
// out that must not be anyone's (protected ones, the target's own).
func Accounts(accounts []model.Object, people []resolve.Person, links []model.Link, rules []string, schema model.Schema, skip func(model.Object) bool) *Result {
	r := &Result{Linked: map[string]string{}, Fits: map[string]Fit{}, byUser: map[string]string{}}
	fold := func(s string) string { return s }
	if schema.FoldNames {
		fold = strings.ToLower
	}
	r.link(accounts, links, fold)
	edges := newEdges(r, people, rules, fold)
	for _, a := range accounts {
		if r.Linked[a.Name] == "" && !skip(a) {
			edges.add(a)
		}
	}
	edges.settle()
	return r
}

// link finds linked accounts again: by the target's own id where it has one, so that a rename does not lose them.
func (r *Result) link(accounts []model.Object, links []model.Link, fold func(string) string) {
	byUnique, byName := map[string]string{}, map[string]string{}
	for _, l := range links {
		if l.Unique != "" {
			byUnique[l.Unique] = l.User
		} else {
			byName[fold(l.Name)] = l.User
		}
	}
	for _, a := range accounts {
		user := byName[fold(a.Name)]
		if a.Unique != "" && byUnique[a.Unique] != "" {
			user = byUnique[a.Unique]
		}
		if user != "" {
			r.Linked[a.Name], r.byUser[user] = user, a.Name
		}
	}
}

type edges struct {
	r                  *Result
	name, number, mail map[string][]string // value → users
	given              map[string]string   // local name given by hand → user
	fold               func(string) string
	byAccount, byUser  map[string][]string
	by                 map[[2]string][]string
}

func newEdges(r *Result, people []resolve.Person, rules []string, fold func(string) string) *edges {
	e := &edges{r: r, name: map[string][]string{}, number: map[string][]string{}, mail: map[string][]string{}, given: map[string]string{},
		fold: fold, byAccount: map[string][]string{}, byUser: map[string][]string{}, by: map[[2]string][]string{}}
	for _, p := range people {
		if _, has := r.byUser[p.User]; has || p.Never {
			continue
		}
		if p.Given { // a name given by hand is a decision; nothing else about the person counts
			e.given[fold(p.Local)] = p.User
			continue
		}
		for _, rule := range rules {
			switch {
			case rule == "name":
				e.name[fold(p.Local)] = append(e.name[fold(p.Local)], p.User)
			case rule == "number" && p.Number != 0:
				k := strconv.Itoa(p.Number)
				e.number[k] = append(e.number[k], p.User)
			case rule == "mail" && p.Mail != "":
				k := strings.ToLower(p.Mail)
				e.mail[k] = append(e.mail[k], p.User)
			}
		}
	}
	return e
}

func (e *edges) add(a model.Object) {
	if user := e.given[e.fold(a.Name)]; user != "" {
		e.edge(a.Name, user, "given name")
		return
	}
	for _, u := range e.name[e.fold(a.Name)] {
		e.edge(a.Name, u, "name")
	}
	for _, u := range e.number[a.Attributes.One(model.Number)] {
		e.edge(a.Name, u, "number")
	}
	if mail := a.Attributes.One(model.Mail); mail != "" {
		for _, u := range e.mail[strings.ToLower(mail)] {
			e.edge(a.Name, u, "mail")
		}
	}
}

func (e *edges) edge(account, user, rule string) {
	pair := [2]string{account, user}
	if e.by[pair] == nil {
		e.byAccount[account] = append(e.byAccount[account], user)
		e.byUser[user] = append(e.byUser[user], account)
	}
	e.by[pair] = append(e.by[pair], rule)
}

func (e *edges) settle() {
	for user, accounts := range e.byUser {
		var rivals []string
		for _, a := range accounts {
			for _, u := range e.byAccount[a] {
				if u != user && !slices.Contains(rivals, u) {
					rivals = append(rivals, u)
				}
			}
		}
		if len(accounts) == 1 && len(rivals) == 0 {
			e.r.Fits[accounts[0]] = Fit{User: user, By: e.by[[2]string{accounts[0], user}]}
			e.r.byUser[user] = accounts[0]
			continue
		}
		slices.Sort(accounts)
		slices.Sort(rivals)
		e.r.Doubts = append(e.r.Doubts, Doubt{User: user, Accounts: accounts, Rivals: rivals})
	}
	slices.SortFunc(e.r.Doubts, func(a, b Doubt) int { return strings.Compare(a.User, b.User) })
}
