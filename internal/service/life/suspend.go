package life

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"hen-roost/internal/core/model"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// A suspension is one act on all of a person's accounts, ahead of everything else
// that runs: it waits for no round, takes no target's turn, and goes on until each
// account is shut. What it is to do stands in the database before any of it is
// tried, so that another service goes on when this one ends.

// SuspendRequest says whom to cut off: by name, by a condition, or all who should be in a group.
type SuspendRequest struct {
	Users    []string
	Where    string // CEL over user, day and params
	Group    string
	Because  string
	Security bool // for security's sake: only two persons together can end it, unless the one who began it does
	Last     bool // the last administrator of a target is shut too
}

// What became of a suspended account.
const (
	Waiting = "waiting"
	Shut    = "shut"
	Unsure  = "shut, not proved" // the target does not say that it refuses it
	Open    = "still open"
	Absent  = "not there"      // no account, so nobody to shut out
	Spared  = store.NotTouched // a guard keeps it open
)

// Suspension is that a person was cut off.
type Suspension struct {
	ID           int64              `json:"id"`
	User         string             `json:"user"`
	Name         string             `json:"name,omitempty" doc:"the person's full name"`
	State        string             `json:"state" enum:"in force,ended"`
	Operator     string             `json:"operator"`
	Because      string             `json:"because"`
	Security     bool               `json:"security"`
	At           time.Time          `json:"at"`
	Revision     int                `json:"revision,omitempty" doc:"of the declaration that says so"`
	Undeclared   string             `json:"undeclared,omitempty" doc:"why the declaration was not changed"`
	AskedBy      string             `json:"asked-by,omitempty" doc:"who wants it to end; somebody else must want it too"`
	EndedBy      string             `json:"ended-by,omitempty"`
	EndedBecause string             `json:"ended-because,omitempty"`
	EndedAt      *time.Time         `json:"ended-at,omitempty"`
	Round        int64              `json:"round,omitempty" doc:"that opened the accounts again"`
	Accounts     []SuspendedAccount `json:"accounts"`
	Tally        map[string]int     `json:"tally" doc:"accounts by state"`
}

// SuspendedAccount is one account of a person who was cut off.
type SuspendedAccount struct {
	Target   string     `json:"target"`
	Name     string     `json:"name"`
	State    string     `json:"state" enum:"waiting,shut,\"shut, not proved\",still open,not there,not touched"`
	Proof    string     `json:"proof,omitempty" enum:"refused,admitted,unknown" doc:"what the target says of a sign-in now"`
	Words    string     `json:"words,omitempty"`
	Sessions int        `json:"sessions" doc:"ended"`
	Tries    int        `json:"tries"`
	TriedAt  *time.Time `json:"tried-at,omitempty"`
	DueAt    *time.Time `json:"due-at,omitempty" doc:"when it is tried again at the latest: a sign of life of its target comes first"`
	EndedAt  *time.Time `json:"ended-at,omitempty" doc:"since when it is shut"`
}

// atOnceMost is how many people can be cut off by one act.
const atOnceMost = 5000

// Suspend cuts people off. It returns as soon as it stands in the database what is
// to be done; Suspension tells how far it is. Who is suspended already is tried
// again at once.
func (s *Life) Suspend(ctx context.Context, who door.Operator, q SuspendRequest) ([]Suspension, error) {
	if err := who.May(door.Suspend); err != nil {
		return nil, err
	}
	because, err := door.Reason(q.Because)
	if err != nil {
		return nil, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return nil, err
	}
	users, err := chosen(c, q)
	if err != nil {
		return nil, err
	}
	accounts, err := s.accountsOf(ctx, c, users)
	if err != nil {
		return nil, err
	}
	now := s.Now()
	var ids []int64
	err = s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		var entries []*store.Entry
		var list []store.SuspendedAccount
		ids = ids[:0]
		for _, user := range users {
			id, fresh, err := tx.AddSuspension(ctx, store.Suspension{User: user, Operator: who.Name, Because: because,
				Security: q.Security, Last: q.Last, At: now})
			if err != nil {
				return nil, err
			}
			ids = append(ids, id)
			also := ""
			if q.Last {
				also = ", the last administrator of a target too"
			}
			words := "suspended " + user + ": " + door.Count(len(accounts[user]), "account is", "accounts are") + " to be shut" + also
			if !fresh {
				words = "asked again to shut out " + user + ", who is suspended" + also
				if err := tx.TryAgain(ctx, id, now); err != nil {
					return nil, err
				}
			}
			entries = append(entries, &store.Entry{At: now, Kind: "suspension", Operator: who.Name, User: user, Because: because,
				Words: words})
			more, err := s.withdrawAll(ctx, tx, who, user, because)
			if err != nil {
				return nil, err
			}
			entries = append(entries, more...)
			for _, a := range accounts[user] {
				a.Suspension, a.State = id, Waiting
				list = append(list, a)
			}
		}
		return entries, tx.AddSuspendedAccounts(ctx, list, now)
	})
	if err != nil {
		return nil, err
	}
	s.nudge()
	out := make([]Suspension, 0, len(ids))
	for _, id := range ids {
		x, err := s.Store.Suspension(ctx, id)
		if err != nil {
			return nil, err
		}
		out = append(out, told(c, x))
	}
	return out, s.withAccounts(ctx, out)
}

// withdrawAll withdraws what waits for a user to be collected, and their client
// certificates until they are restored: who is cut off gets no new credentials.
func (s *Life) withdrawAll(ctx context.Context, tx *store.Tx, who door.Operator, user, because string) (entries []*store.Entry, err error) {
	if entries, err = s.withdrawOpen(ctx, tx, who, user, "was suspended", because); err != nil {
		return nil, err
	}
	_, err = tx.WithdrawCertificates(ctx, user, 0, true, s.Now())
	return entries, err
}

// withdrawOpen withdraws what waits for a user to be collected, because something befell them.
func (s *Life) withdrawOpen(ctx context.Context, tx *store.Tx, who door.Operator, user, why, because string) (entries []*store.Entry,
	err error) {
	list, err := tx.OpenHandoversOf(ctx, user)
	for _, h := range list {
		if err := tx.EndHandover(ctx, h, Withdrawn, user+" "+why, s.Now()); err != nil {
			return nil, err
		}
		entries = append(entries, &store.Entry{At: s.Now(), Kind: "handover", Operator: who.Name, User: user, Because: because,
			Words: fmt.Sprintf("withdrew handover %d: %s %s", h.ID, user, why)})
	}
	return entries, err
}

// chosen are the users that a request means.
func chosen(c *declared.Current, q SuspendRequest) (users []string, err error) {
	ways := 0
	for _, given := range []bool{len(q.Users) > 0, q.Where != "", q.Group != ""} {
		if given {
			ways++
		}
	}
	if ways != 1 {
		return nil, door.Wrong("users", "say who: users by name, or where=CONDITION, or group=NAME")
	}
	switch {
	case q.Where != "":
		users, err = c.Where(q.Where)
	case q.Group != "":
		users, err = inGroup(c, q.Group)
	default:
		users = slices.Compact(slices.Sorted(slices.Values(q.Users)))
		err = c.Check(declared.Choice{Users: users})
	}
	if err == nil && len(users) > atOnceMost {
		err = door.Wrong("users", "that is %d people; one act is for at most %d", len(users), atOnceMost)
	}
	return users, err
}

// inGroup are the users who should be in a declared group, on whatever target.
func inGroup(c *declared.Current, group string) (users []string, err error) {
	if c.Declared.Groups[group] == nil {
		return nil, door.NotKnown("group", group, door.KeysOf(c.Declared.Groups))
	}
	for _, p := range c.Plan.People {
		if isIn(c, p.ID, group) {
			users = append(users, p.ID)
		}
	}
	if len(users) == 0 {
		err = door.Wrong("group", "nobody is to be in the group %s", group)
	}
	return users, err
}

// isIn says whether a user should be in a group, or in one inside it, on whatever target.
func isIn(c *declared.Current, user, group string) bool {
	set := model.Named{Kind: model.GroupKind, Name: group}
	for _, a := range c.Plan.AccountsOf(user) {
		for _, j := range a.Sets() {
			if j.Set == set || j.Set.Kind == model.GroupKind && c.Plan.Inside(j.Set.Name, group) {
				return true
			}
		}
	}
	return false
}

// accountsOf are the accounts of users: those that are settled to be theirs, those
// that were found and recognised, those that an earlier suspension knew, and those
// that they should have by the declaration, of which nobody has seen yet whether
// they are there and theirs.
func (s *Life) accountsOf(ctx context.Context, c *declared.Current, users []string) (map[string][]store.SuspendedAccount, error) {
	out := map[string][]store.SuspendedAccount{}
	seen := map[[2]string]bool{}
	add := func(guessed bool, links ...model.Link) {
		for _, l := range links {
			if key := [2]string{l.Target, l.Name}; !seen[key] {
				seen[key] = true
				out[l.User] = append(out[l.User], store.SuspendedAccount{Target: l.Target, Name: l.Name, User: l.User, Guessed: guessed})
			}
		}
	}
	for _, user := range users {
		links, err := s.Store.LinksOf(ctx, user)
		if err != nil {
			return nil, err
		}
		before, err := s.Store.SuspendedBefore(ctx, user) // who is suspended is looked for no longer, and may not be adopted yet
		if err != nil {
			return nil, err
		}
		add(false, append(links, before...)...)
	}
	for part := range slices.Chunk(users, 500) {
		found, _, err := s.Store.Findings(ctx, store.FindingFilter{Users: part}, "", 100*len(part))
		if err != nil {
			return nil, err
		}
		for _, f := range found {
			if f.Verb == model.AdoptIt && f.Object == model.Account {
				add(false, model.Link{Target: f.Target, User: f.User, Name: f.Name})
			}
		}
	}
	declared := map[string][]model.Link{} // by target
	for _, user := range users {
		for _, a := range c.Plan.AccountsOf(user) {
			if target := a.On().Target.Name; !seen[[2]string{target, a.Name}] {
				declared[target] = append(declared[target], model.Link{Target: target, User: user, Name: a.Name})
			}
		}
	}
	for target, links := range declared {
		names := make([]string, len(links))
		for i, l := range links {
			names[i] = l.Name
		}
		owners, err := s.Store.LinkedNames(ctx, target, names)
		if err != nil {
			return nil, err
		}
		for _, l := range links {
			if owners[l.Name] == "" { // what is somebody else's is not theirs
				add(true, l)
			}
		}
	}
	return out, nil
}

// told is a suspension without its accounts.
func told(c *declared.Current, x store.Suspension) Suspension {
	out := Suspension{ID: x.ID, User: x.User, Name: c.FullName(x.User), State: "ended", Operator: x.Operator, Because: x.Because,
		Security: x.Security, At: x.At, Revision: x.Revision, Undeclared: x.Undeclared, AskedBy: x.AskedBy, EndedBy: x.EndedBy,
		EndedBecause: x.EndedBecause, EndedAt: x.EndedAt, Round: x.Round, Accounts: []SuspendedAccount{}, Tally: map[string]int{}}
	if x.Active {
		out.State = "in force"
	}
	return out
}

// withAccounts adds the accounts to suspensions.
func (s *Life) withAccounts(ctx context.Context, list []Suspension) error {
	ids, at := make([]int64, len(list)), map[int64]*Suspension{}
	for i := range list {
		ids[i] = list[i].ID
		at[ids[i]] = &list[i]
	}
	rows, err := s.Store.SuspendedAccounts(ctx, ids)
	for _, a := range rows {
		x := at[a.Suspension]
		x.Tally[a.State]++
		x.Accounts = append(x.Accounts, SuspendedAccount{Target: a.Target, Name: a.Name, State: a.State, Proof: a.Proof, Words: a.Words,
			Sessions: a.Sessions, Tries: a.Tries, TriedAt: a.TriedAt, DueAt: a.DueAt, EndedAt: a.EndedAt})
	}
	return err
}

// SuspensionByID returns one, with what became of each account.
func (s *Life) SuspensionByID(ctx context.Context, who door.Operator, id int64) (Suspension, error) {
	if err := who.May(door.Look); err != nil {
		return Suspension{}, err
	}
	x, err := s.Store.Suspension(ctx, id)
	if errors.Is(err, store.ErrNone) {
		return Suspension{}, &door.Problem{Kind: door.Unknown, Words: fmt.Sprintf("there is no suspension %d", id)}
	}
	if err != nil {
		return Suspension{}, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return Suspension{}, err
	}
	list := []Suspension{told(c, x)}
	err = s.withAccounts(ctx, list)
	return list[0], err
}

// Suspensions are some, the newest first. Next is what the page behind begins before.
type Suspensions struct {
	Items []Suspension `json:"items"`
	Next  int64        `json:"next,omitempty" doc:"the page behind: before=NEXT"`
}

// SuspensionChoice chooses suspensions; zero fields choose all.
type SuspensionChoice struct {
	User    string
	InForce bool
	Before  int64
	Size    int
}

// ListSuspensions returns the chosen ones, a page of them.
func (s *Life) ListSuspensions(ctx context.Context, who door.Operator, q SuspensionChoice) (Suspensions, error) {
	if err := who.May(door.Look); err != nil {
		return Suspensions{}, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return Suspensions{}, err
	}
	size := door.Page{Size: q.Size}.Bounded().Size
	rows, err := s.Store.Suspensions(ctx, store.SuspensionFilter{User: q.User, Active: q.InForce, Before: q.Before}, size+1)
	if err != nil {
		return Suspensions{}, err
	}
	out := Suspensions{Items: []Suspension{}}
	if len(rows) > size {
		rows = rows[:size]
		out.Next = rows[size-1].ID
	}
	for _, x := range rows {
		out.Items = append(out.Items, told(c, x))
	}
	return out, s.withAccounts(ctx, out.Items)
}

// InForce is who is suspended now.
type InForce struct {
	People int      `json:"people"`
	Open   int      `json:"open" doc:"of them those who have an account that is not shut yet"`
	Users  []string `json:"users" doc:"some of those"`
}

// SuspendedNow counts who is suspended, and names some who are not shut out everywhere yet.
func (s *Life) SuspendedNow(ctx context.Context) (InForce, error) {
	n, err := s.Store.CountSuspensions(ctx, 5)
	return InForce{n.People, n.Open, append([]string{}, n.Users...)}, err
}
