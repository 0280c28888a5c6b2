package declared

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"hen-roost/internal/core/guard"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// Settings that guard power are declared as all others are. A change of one is
// stored and waits: the old value stays in force until an operator who did not
// make it approves it. Approving makes a revision of the same text, so that a
// revision's number says what is in force.

// author is who makes a revision, and what was known of guarded settings before it.
type author struct {
	known    map[guard.Thing]guard.State
	by       string
	revision int
	trusted  bool // what they declare is in force at once: they are on the server itself, and can do anything there
	anew     bool // what is known is otherwise than in the revision that it is read on
}

// authorOf is an operator who declares on a revision, nil for none.
func (s *Declared) authorOf(ctx context.Context, on *Current, who door.Operator, after int) (author, error) {
	a, err := s.guardedAt(ctx, on, after)
	a.by, a.revision, a.trusted = who.Name, after+1, who.Name == door.Itself.Name
	return a, err
}

// authorAt is who made a stored revision that is read on another, nil for none.
func (s *Declared) authorAt(ctx context.Context, on *Current, rev store.Revision) (author, error) {
	a, err := s.guardedAt(ctx, on, rev.Number)
	a.by, a.revision = rev.Operator, rev.Number
	return a, err
}

// guardedAt is what was known of guarded settings as of a revision; on is one that was read, or nil.
func (s *Declared) guardedAt(ctx context.Context, on *Current, revision int) (a author, err error) {
	if on != nil && on.Revision == revision {
		a.known = on.Guarded
		return a, nil
	}
	if a.known, err = s.Store.Guarded(ctx, revision); err == nil && on != nil {
		a.anew = len(changedStates(on.Guarded, a.known))+len(changedStates(a.known, on.Guarded)) > 0
	}
	return a, err
}

// by is a reading that was looked at, now that somebody declares it.
func (r *Reading) by(a author) *Reading {
	out := *r
	out.guarded, out.moved = maps.Clone(r.guarded), maps.Clone(r.moved)
	for t, st := range r.moved {
		st.Pending = maps.Clone(st.Pending)
		for name, p := range st.Pending {
			if was, ok := a.known[t].Pending[name]; !ok || was.Value != p.Value {
				st.Pending[name] = guard.Pending{Value: p.Value, By: a.by, Revision: a.revision}
			}
		}
		out.guarded[t], out.moved[t] = st, st
	}
	return &out
}

// changedStates are those that are otherwise than before.
func changedStates(before, after map[guard.Thing]guard.State) map[guard.Thing]guard.State {
	out := map[guard.Thing]guard.State{}
	for t, st := range after {
		was, known := before[t]
		if !known || was.Fresh() != st.Fresh() || !maps.Equal(was.Approved, st.Approved) || !maps.Equal(was.Pending, st.Pending) ||
			was.By != st.By {
			out[t] = st
		}
	}
	return out
}

// trust approves what an author declares, of states that were worked out.
func (a author) trust(states map[guard.Thing]guard.State) map[guard.Thing]guard.State {
	out := maps.Clone(states)
	for t, st := range states {
		var names []string
		for name, p := range st.Pending {
			if p.By == a.by && p.Revision == a.revision {
				names = append(names, name)
			}
		}
		if len(names) > 0 {
			out[t] = st.Approve(names, a.by)
		}
	}
	return out
}

// PendingSetting is a guarded setting whose change waits for approval.
type PendingSetting struct {
	Thing    string `json:"thing" doc:"what has the setting: target arctic-tern, role bosun, right see-stores, policy staff"`
	Setting  string `json:"setting"`
	InForce  string `json:"in-force" doc:"the value that counts until the change is approved; none: the target is new"`
	Declared string `json:"declared" doc:"the value that waits"`
	Why      string `json:"why" doc:"the setting is guarded"`
	By       string `json:"by" doc:"who declared it"`
	Revision int    `json:"revision" doc:"with which revision"`
	Secret   bool   `json:"secret,omitempty" doc:"it says where a secret goes: approving takes the duty administer too"`
	New      bool   `json:"new,omitempty" doc:"the target is new: nobody signs in to it before it is approved"`
}

// PendingSettings are what waits for approval, and who could give it.
type PendingSettings struct {
	Revision int              `json:"revision" doc:"what waits as of this revision"`
	Items    []PendingSetting `json:"items" doc:"the first of them"`
	Total    int              `json:"total" doc:"of all"`
	Mine     bool             `json:"mine,omitempty" doc:"you declared some of it"`
	Alone    bool             `json:"alone,omitempty" doc:"nobody else could approve it: you may, with your password"`
}

// pendingOf lists what waits, in order of things and settings; those that say where secrets go first.
func pendingOf(states map[guard.Thing]guard.State) []PendingSetting {
	out := []PendingSetting{}
	for t, st := range states {
		for name, p := range st.Pending {
			about, _ := guard.About(t.Kind, name)
			out = append(out, PendingSetting{Thing: t.String(), Setting: name, InForce: guard.Say(name, st.Approved[name]),
				Declared: guard.Say(name, p.Value), Why: about.Why, By: p.By, Revision: p.Revision, Secret: about.Secret, New: st.Fresh()})
		}
	}
	slices.SortFunc(out, func(a, b PendingSetting) int {
		if c := strings.Compare(a.Thing, b.Thing); c != 0 {
			return c
		}
		if a.Secret != b.Secret {
			if a.Secret {
				return -1
			}
			return 1
		}
		return strings.Compare(a.Setting, b.Setting)
	})
	return out
}

// Unapproved says that nobody signs in to a target: it was never approved, or what types our secret there is another dialect than
// the one that was.
func (c *Current) Unapproved(target string) bool {
	st := c.Guarded[guard.Thing{Kind: guard.Target, Name: target}]
	_, other := st.Pending["dialect"]
	return st.Fresh() || other
}

// WaitingOn is how many settings of a target wait for approval.
func (c *Current) WaitingOn(target string) int {
	return len(c.Guarded[guard.Thing{Kind: guard.Target, Name: target}].Pending)
}

// Waiting is how many guarded settings wait for approval, and of how many things.
func (c *Current) Waiting() (settings, things int) {
	for _, st := range c.Guarded {
		if n := len(st.Pending); n > 0 {
			settings, things = settings+n, things+1
		}
	}
	return settings, things
}

// Reconciling are the operators in whose name a target is reconciled by itself: who declared that, and who approved it.
func (c *Current) Reconciling(target string) (declared, approved string) {
	by := c.Guarded[guard.Thing{Kind: guard.Target, Name: target}].By
	return by[0], by[1]
}

// PendingOn are the settings of a target that wait for approval.
func (c *Current) PendingOn(target string) []PendingSetting {
	t := guard.Thing{Kind: guard.Target, Name: target}
	return pendingOf(map[guard.Thing]guard.State{t: c.Guarded[t]})
}

// Pending lists what waits for approval; things chooses some, none for all.
func (s *Declared) Pending(ctx context.Context, who door.Operator, things []string) (PendingSettings, error) {
	if err := who.May(door.Look); err != nil {
		return PendingSettings{}, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return PendingSettings{}, err
	}
	states, err := c.chosenStates(things)
	if err != nil {
		return PendingSettings{}, err
	}
	out := PendingSettings{Revision: c.Revision, Items: pendingOf(states)}
	needs := []door.Duty{door.Approve}
	for _, p := range out.Items {
		out.Mine = out.Mine || p.By == who.Name
		if p.Secret {
			needs = []door.Duty{door.Approve, door.Administer}
		}
	}
	if out.Mine {
		out.Alone, err = s.Alone(ctx, who, needs...)
	}
	out.Total = len(out.Items)
	out.Items = out.Items[:min(out.Total, pendingMost)]
	return out, err
}

// pendingMost is how many settings that wait are listed at once.
const pendingMost = 2000

// chosenStates are the states, of those that have something waiting, of some things, by "target arctic-tern" or by a name alone;
// none chooses all.
func (c *Current) chosenStates(things []string) (map[guard.Thing]guard.State, error) {
	out, known := map[guard.Thing]guard.State{}, c.guardable()
	for _, name := range things {
		if !known[name] {
			return nil, door.NotKnown("target, role, right or policy", name, door.KeysOf(known))
		}
	}
	for t, st := range c.Guarded {
		if len(st.Pending) > 0 && (len(things) == 0 || slices.Contains(things, t.String()) || slices.Contains(things, t.Name)) {
			out[t] = st
		}
	}
	return out, nil
}

// guardable are the names of all things that can have guarded settings, with what they are and without.
func (c *Current) guardable() map[string]bool {
	out := map[string]bool{}
	note := func(t guard.Thing) { out[t.String()], out[t.Name] = true, true }
	for name := range c.Declared.Targets {
		note(guard.Thing{Kind: guard.Target, Name: name})
	}
	for name := range c.Declared.Roles {
		note(guard.Thing{Kind: guard.Role, Name: name})
	}
	for name := range c.Declared.Rights {
		note(guard.Thing{Kind: guard.Right, Name: name})
	}
	for name := range c.Declared.Policies {
		note(guard.Thing{Kind: guard.Policy, Name: name})
	}
	for t := range c.Guarded { // what was taken out, and waits for that
		note(t)
	}
	return out
}

// ApproveRequest says which changes of guarded settings are approved.
type ApproveRequest struct {
	Things   []string // "target arctic-tern" or "arctic-tern"; none: all that wait
	Revision int      // as of which they were looked at
	Because  string
	Password string // of who approves, asked for anew where nobody else could
	From     string // the address the wish came from
}

// ApproveSettings puts changes of guarded settings in force. What was looked at is
// what is approved: when another revision is declared by then, nothing is.
func (s *Declared) ApproveSettings(ctx context.Context, who door.Operator, q ApproveRequest) (Revision, error) {
	if err := who.May(door.Approve); err != nil {
		return Revision{}, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return Revision{}, err
	}
	if q.Revision != c.Revision {
		return Revision{}, door.Clashing("revision %d is declared, and you looked at revision %d; look again at what waits: "+
			"roost revision pending", c.Revision, q.Revision)
	}
	chosen, err := c.chosenStates(q.Things)
	if err != nil {
		return Revision{}, err
	}
	items := pendingOf(chosen)
	if len(items) == 0 {
		return Revision{}, door.Clashing("no change of a guarded setting waits for approval")
	}
	second := door.Second{Needs: []door.Duty{door.Approve}, What: "the change of " + whatOf(items), Password: q.Password, From: q.From}
	for _, p := range items {
		if second.Authors = append(second.Authors, p.By); p.Secret {
			second.Needs = []door.Duty{door.Approve, door.Administer}
		}
	}
	slices.Sort(second.Authors)
	second.Authors = slices.Compact(second.Authors)
	own, err := s.Approver(ctx, who, second)
	if err != nil {
		return Revision{}, err
	}
	states := maps.Clone(c.Guarded)
	for t, st := range chosen {
		states[t] = st.Approve(nil, who.Name)
	}
	var also []*store.Entry
	if own {
		also = append(also, s.AloneEntry(who, whatOf(items), 0))
	}
	return s.inForce(ctx, who, c, states, strings.TrimSpace(q.Because), also,
		fmt.Sprintf("approved %s, declared by %s", whatOf(items), strings.Join(second.Authors, " and ")))
}

// whatOf says in few words which settings.
func whatOf(items []PendingSetting) string {
	var words []string
	for _, p := range items {
		word := p.Setting + " of " + p.Thing
		if p.New {
			word = "new " + p.Thing
		}
		if !slices.Contains(words, word) {
			words = append(words, word)
		}
	}
	if len(words) > 6 {
		words = append(words[:6:6], fmt.Sprintf("%d more", len(words)-6))
	}
	return strings.Join(words, ", ")
}

// inForce stores a revision of the same text with other guarded settings in force.
func (s *Declared) inForce(ctx context.Context, who door.Operator, c *Current, states map[guard.Thing]guard.State, because string,
	also []*store.Entry, words string) (Revision, error) {
	day, err := time.Parse(time.DateOnly, c.Plan.Day)
	if err != nil {
		return Revision{}, err
	}
	read, err := s.resolved(c.Source, day, author{known: states, by: who.Name, revision: c.Revision + 1})
	if err != nil {
		return Revision{}, err
	}
	read.moved = changedStates(c.Guarded, read.guarded)
	if targets, only := targetsOf(read.moved); only {
		read.Change = &resolve.Change{From: c.Plan, Anew: targets}
	}
	if because == "" {
		because = words
	}
	return s.keep(ctx, who, c, read, because, c.Revision, also, words)
}

// targetsOf are the targets of some states; only says that they are of nothing else.
func targetsOf(states map[guard.Thing]guard.State) (targets map[string]bool, only bool) {
	targets = map[string]bool{}
	for t := range states {
		if t.Kind != guard.Target {
			return nil, false
		}
		targets[t.Name] = true
	}
	return targets, true
}

// TakeOver approves all guarded settings as they stand where nothing was noted of them before: by a version that did not know them.
func (s *Declared) TakeOver(ctx context.Context, place func(*resolve.Desired) string) error {
	some, err := s.Store.AnyGuarded(ctx)
	if err != nil || some {
		return err
	}
	c, err := s.Current(ctx)
	if err != nil {
		if door.ProblemOf(err).Kind == door.NotYet {
			return nil
		}
		return err
	}
	states, places := map[guard.Thing]guard.State{}, map[string]string{}
	for t, st := range c.Guarded {
		states[t] = st.Approve(nil, door.Itself.Name)
	}
	for name, d := range c.Plan.Targets {
		places[name] = place(d)
	}
	if _, err := s.inForce(ctx, door.Itself, c, states, "", nil, "took over the guarded settings as they were declared"); err != nil {
		return err
	}
	return s.Store.Tx(ctx, func(tx *store.Tx) error { return tx.PutPlaces(ctx, places) })
}

// SecretInfo is a secret as it can be shown: never what is in it.
type SecretInfo struct {
	door.SecretInfo
	For []string `json:"for" doc:"the targets for which it is released: as they are approved, at that address, that way and as that identity"`
}

// Secrets lists the names of the secrets, and for which targets each is released.
func (s *Declared) Secrets(ctx context.Context, who door.Operator) ([]SecretInfo, error) {
	list, err := s.Door.Secrets(ctx, who)
	if err != nil {
		return nil, err
	}
	released := map[string][]string{}
	if c := s.Newest(ctx); c != nil {
		for _, name := range door.KeysOf(c.Plan.Targets) {
			if secret := c.Plan.Targets[name].Target.Login.Secret; !c.Unapproved(name) {
				released[secret] = append(released[secret], name)
			}
		}
	}
	out := make([]SecretInfo, len(list))
	for i, x := range list {
		if out[i] = (SecretInfo{x, released[x.Name]}); out[i].For == nil {
			out[i].For = []string{}
		}
	}
	return out, nil
}

// ReleaseSecret seals a secret and releases it for targets that are declared with
// it: what waits of them is approved, as they were looked at. Nothing is sealed unless all of that is approved.
func (s *Declared) ReleaseSecret(ctx context.Context, who door.Operator, name string, value []byte, q ApproveRequest) error {
	if err := who.May(door.Administer); err != nil {
		return err
	}
	if err := door.FitSecret(name, value); err != nil {
		return err
	}
	if len(q.Things) == 0 {
		return s.SetSecret(ctx, who, name, value)
	}
	c, err := s.Current(ctx)
	if err != nil {
		return err
	}
	var waits []string
	for _, target := range q.Things {
		if c.Plan.Targets[target] == nil {
			return door.NotKnown("target", target, door.KeysOf(c.Plan.Targets))
		}
		t := guard.Thing{Kind: guard.Target, Name: target}
		st := c.Guarded[t]
		secret := st.Approved["login.secret"]
		if p, ok := st.Pending["login.secret"]; ok {
			secret = p.Value
		}
		if secret != name {
			return door.Wrong("for", "%s is declared with the secret %q, and not with %q", target, secret, name)
		}
		if len(st.Pending) > 0 {
			waits = append(waits, t.String())
		}
	}
	if q.Things = waits; len(waits) > 0 {
		if _, err := s.ApproveSettings(ctx, who, q); err != nil {
			return err
		}
	}
	return s.SetSecret(ctx, who, name, value)
}
