package seen

import (
	"context"
	"errors"
	"strings"
	"time"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// Target is one line of the list of targets.
type Target struct {
	Name       string            `json:"name"`
	Kind       string            `json:"kind"`
	Address    string            `json:"address"`
	Tags       map[string]string `json:"tags"`
	State      string            `json:"state" enum:"not surveyed,surveyed,out of reach,key not accepted,key changed,login refused,not approved"`
	Words      string            `json:"words,omitempty"`
	Print      string            `json:"print,omitempty" doc:"fingerprint of a key that waits for acceptance"`
	TriedAt    *time.Time        `json:"tried-at,omitempty"`
	SurveyedAt *time.Time        `json:"surveyed-at,omitempty"`
	TookMS     int               `json:"took-ms"`
	Accounts   int               `json:"accounts" doc:"accounts of people seen there"`
	Asked      int               `json:"asked" doc:"accounts asked for there"`
	Findings   map[string]int    `json:"findings" doc:"by kind"`
	Total      int               `json:"total" doc:"findings in all, less those accepted"`
	Accepted   int               `json:"accepted" doc:"findings accepted for a time"`
	Decide     int               `json:"decide" doc:"findings that a person must decide"`
	Pending    int               `json:"pending" doc:"changes of guarded settings that wait for approval"`
}

// Targets is one page of targets.
type Targets struct {
	Items    []Target `json:"items"`
	Total    int      `json:"total"`
	From     int      `json:"from"`
	Declared int      `json:"declared" doc:"of all chosen, how many are as declared"`
}

// Targets lists the declared targets whose name, kind or tags hold the text, by name.
func (s *Seen) Targets(ctx context.Context, who door.Operator, text string, p door.Page) (Targets, error) {
	all, err := s.AllTargets(ctx, who)
	if err != nil {
		return Targets{}, err
	}
	page := p.Bounded()
	out := Targets{Items: []Target{}, From: page.From}
	text = strings.ToLower(strings.TrimSpace(text))
	for _, t := range all {
		if !t.speaksOf(text) {
			continue
		}
		if out.Total >= page.From && len(out.Items) < page.Size {
			out.Items = append(out.Items, t)
		}
		out.Total++
		if t.AsDeclared() {
			out.Declared++
		}
	}
	return out, nil
}

// AsDeclared says whether nothing on the target differs.
func (t Target) AsDeclared() bool { return t.State == Surveyed && t.Total == 0 }

func (t Target) speaksOf(text string) bool {
	if text == "" || strings.Contains(t.Name, text) || t.Kind == text {
		return true
	}
	for k, v := range t.Tags {
		if strings.Contains(strings.ToLower(k+": "+v), text) {
			return true
		}
	}
	return false
}

// AllTargets returns all declared targets by name, for everybody who asks at the
// same time; nobody may change them.
func (s *Seen) AllTargets(ctx context.Context, who door.Operator) ([]Target, error) {
	if err := who.May(door.Look); err != nil {
		return nil, err
	}
	return s.all.Get(ctx, s.allTargets)
}

func (s *Seen) allTargets(ctx context.Context) ([]Target, error) {
	c, known, err := s.Standing(ctx)
	if err != nil {
		return nil, err
	}
	list, err := s.Store.CountFindings(ctx, store.FindingFilter{}, s.Now().Format(time.DateOnly))
	if err != nil {
		return nil, err
	}
	counts := map[string][]store.FindingCount{}
	for _, n := range list {
		counts[n.Target] = append(counts[n.Target], n)
	}
	out := make([]Target, 0, len(c.Plan.Targets))
	for _, name := range door.KeysOf(c.Plan.Targets) {
		out = append(out, targetOf(c, name, known[name], counts[name]))
	}
	return out, nil
}

func targetOf(c *declared.Current, name string, row store.Target, counts []store.FindingCount) Target {
	d := c.Plan.Targets[name]
	t := Target{Name: name, Kind: d.Target.Kind, Address: d.Address, Tags: d.Target.Tags, Pending: c.WaitingOn(name),
		TriedAt: row.TriedAt, SurveyedAt: row.SurveyedAt, TookMS: row.TookMS, Accounts: row.Accounts, Asked: d.Len(),
		Findings: map[string]int{}}
	if t.State, t.Words = stateOf(c, d, row); t.State == KeyUnknown || t.State == KeyChanged {
		t.Print = row.Print
	}
	if t.Tags == nil {
		t.Tags = map[string]string{}
	}
	for _, n := range counts {
		t.Findings[n.Kind] = n.N
		t.Total += n.N - n.Accepted
		t.Accepted += n.Accepted
		t.Decide += n.N - n.Decided
	}
	return t
}

// stateOf is the state of a target where it is now, with words: what was seen at another place says nothing of that.
func stateOf(c *declared.Current, d *resolve.Desired, row store.Target) (state, words string) {
	if c.Unapproved(d.Target.Name) {
		return NotApproved, ""
	}
	elsewhere := row.SurveyedAt != nil && row.SeenAt != PlaceOf(d)
	state, words = row.State, row.Words
	switch row.State {
	case "", NotApproved:
		state, words = NotSurveyed, ""
	case KeyUnknown, KeyChanged:
		elsewhere = row.OfferedFor != PlaceOf(d)
	case OutOfReach:
		elsewhere = false
	}
	if elsewhere {
		return NotSurveyed, "its address, or the way to it, has changed since it was surveyed; survey it again: roost survey " +
			d.Target.Name
	}
	return state, words
}

// surveyedHere are the targets that were surveyed where they are now.
func (s *Seen) surveyedHere(ctx context.Context, c *declared.Current) (map[string]bool, error) {
	places, err := s.Store.SurveyedTargets(ctx)
	out := make(map[string]bool, len(places))
	for name, place := range places {
		d := c.Plan.Targets[name]
		out[name] = d != nil && place == PlaceOf(d)
	}
	return out, err
}

// TargetDetail is a target with the rules that hold for it.
type TargetDetail struct {
	Target
	Login      string                    `json:"login"`
	Secret     string                    `json:"secret,omitempty" doc:"the name of the secret that it is signed in to with"`
	Match      []string                  `json:"match"`
	Unexpected string                    `json:"unexpected"`
	Protect    []string                  `json:"protect"`
	At         string                    `json:"at" doc:"file:line:column of the declaration"`
	Details    map[string][]string       `json:"details,omitempty" doc:"what the target tells of itself"`
	Holds      []Holding                 `json:"holds" doc:"how many objects of each kind were seen"`
	Renews     bool                      `json:"renews,omitempty" doc:"that secret can be rotated from here"`
	Waits      []declared.PendingSetting `json:"waits" doc:"changes of guarded settings that wait for approval"`
	Needs      bool                      `json:"needs,omitempty" doc:"what makes our login there can be told"`
}

// Holding is how many objects of a kind a target was last seen to hold.
type Holding struct {
	Kind  string `json:"kind"`
	About string `json:"about,omitempty"`
	Set   bool   `json:"set,omitempty" doc:"they have members"`
	N     int    `json:"n"`
}

// Target returns one target.
func (s *Seen) Target(ctx context.Context, who door.Operator, name string) (TargetDetail, error) {
	if err := who.May(door.Look); err != nil {
		return TargetDetail{}, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return TargetDetail{}, err
	}
	d := c.Plan.Targets[name]
	if d == nil {
		return TargetDetail{}, door.NotKnown("target", name, door.KeysOf(c.Plan.Targets))
	}
	row, err := s.Store.Target(ctx, name)
	if err != nil && !errors.Is(err, store.ErrNone) {
		return TargetDetail{}, err
	}
	counts, err := s.Store.CountFindings(ctx, store.FindingFilter{Targets: []string{name}}, s.Now().Format(time.DateOnly))
	if err != nil {
		return TargetDetail{}, err
	}
	protect := d.Target.Protect
	if protect == nil {
		protect = []string{}
	}
	out := TargetDetail{Needs: s.Kinds().Knows(d.Target.Kind).MakeLogin != nil, Renews: d.Schema.Renews,
		Target: targetOf(c, name, row, counts), Login: d.Login, Secret: d.Target.Login.Secret,
		Match:      d.Target.Match,
		Unexpected: d.Target.Unexpected,
		Waits:      c.PendingOn(name),
		Protect:    protect, At: c.Declared.Locate(d.Target.Pos).String()}
	out.Details, out.Holds, err = s.told(ctx, d)
	return out, err
}

// Held is one account as a target was last seen to hold it.
type Held struct {
	Name       string              `json:"name"`
	User       string              `json:"user,omitempty" doc:"whose it is, once adopted or made"`
	UserName   string              `json:"user-name,omitempty"`
	System     bool                `json:"system,omitempty"`
	Protected  string              `json:"protected,omitempty" doc:"why no step may touch it"`
	Attributes map[string][]string `json:"attributes"`
}

// HeldPage is one page of accounts.
type HeldPage struct {
	Items []Held `json:"items"`
	Next  string `json:"next,omitempty" doc:"ask for the page behind this one with after; absent: this is the last"`
	Total int    `json:"total" doc:"on all pages"`
}

// TargetAccounts lists the accounts a target was last seen to hold, people's
// first: the page behind the one that named after as the next one's.
func (s *Seen) TargetAccounts(ctx context.Context, who door.Operator, name, prefix, ends, after string, size int) (HeldPage, error) {
	if err := who.May(door.Look); err != nil {
		return HeldPage{}, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return HeldPage{}, err
	}
	if _, err := s.targetNames(c, []string{name}); err != nil {
		return HeldPage{}, err
	}
	objects, next, total, err := s.observedPage(ctx, name, model.Account, prefix, ends, after, size)
	if err != nil {
		return HeldPage{}, err
	}
	owner, err := s.Store.LinkedNames(ctx, name, namesOf(objects))
	if err != nil {
		return HeldPage{}, err
	}
	shield := c.Plan.Targets[name].Shield()
	out := HeldPage{Items: []Held{}, Next: next, Total: total}
	for _, o := range objects {
		why, _ := shield.Covers(&o)
		out.Items = append(out.Items, Held{Name: o.Name, User: owner[o.Name], UserName: c.FullName(owner[o.Name]), System: o.System,
			Protected: why, Attributes: o.Attributes.Map()})
	}
	return out, nil
}

// observedPage is one page of what a target was last seen to hold of a kind.
func (s *Seen) observedPage(ctx context.Context, target string, kind model.ObjectKind, prefix, ends, after string,
	size int) ([]model.Object, string, int, error) {
	list, next, total, err := s.Store.ObservedPage(ctx, target, kind, prefix, ends, after, door.Page{Size: size}.Bounded().Size)
	if errors.Is(err, store.ErrNoSpot) {
		err = NoSpot(after)
	}
	return list, next, total, err
}

// NoSpot refuses an after that was never given out.
func NoSpot(after string) error {
	return door.Wrong("after", "%q does not say where a page begins; take it from next of the page before", after)
}

func namesOf(list []model.Object) []string {
	names := make([]string, len(list))
	for i, o := range list {
		names[i] = o.Name
	}
	return names
}
