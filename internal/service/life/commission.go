package life

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/round"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/store"
)

// Commissioning begins safely on a target: a named administrator is made, proved by signing in and by becoming
// superuser, and only then is closed what the target was delivered with: the superuser's password, factory accounts.
// What was made is taken back if the proof fails, and what was closed is opened again if nobody gets in any more.

// CommissionRequest says who administers a target from now on.
type CommissionRequest struct {
	Administrator string
	Given         string // the password that they have there; "": the new one that waits for them, or is made
	Because       string
	Own           string // the password of who asks: it approves the rounds that make a superuser, where nobody else could
	From          string // the address the wish came from
}

// Stage is one of the things that are done one after the other.
type Stage struct {
	What  string `json:"what" enum:"administrator,password,proof,closing,way back"`
	State string `json:"state" enum:"done,already-so,waiting,failed,not-tried,undone"`
	Words string `json:"words"`
	Round int64  `json:"round,omitempty"`
}

// Commissioned is how far a target came.
type Commissioned struct {
	Target    string     `json:"target"`
	Complete  bool       `json:"complete"`
	Stages    []Stage    `json:"stages"`
	Handovers []Handover `json:"handovers"`
	Links     []Linked   `json:"links,omitempty" doc:"how the administrator collects a new password; neither link nor code can be had again"`
}

// commission is one at work.
type commission struct {
	*Life
	who     door.Operator
	c       *declared.Current
	target  string
	user    string
	account string
	because string
	out     *Commissioned
	own     string // the password of who asks, and from where they do
	from    string
	made    int64 // the round that made the administrator
	secret  connect.Secret
	renewed bool // the password is a new one of ours
}

// Commission goes as far as it can: a round that is held ends it, to be approved, and to be called again then.
func (s *Life) Commission(ctx context.Context, who door.Operator, target string, q CommissionRequest) (Commissioned, error) {
	out := Commissioned{Target: target, Stages: []Stage{}, Handovers: []Handover{}}
	for _, duty := range []door.Duty{door.Draft, door.Run, door.Credential} {
		if err := who.May(duty); err != nil {
			return out, err
		}
	}
	because, err := door.Reason(q.Because)
	if err != nil {
		return out, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return out, err
	}
	if err := c.Check(declared.Choice{Users: []string{q.Administrator}, Targets: []string{target}}); err != nil {
		return out, err
	}
	x := commission{Life: s, who: who, c: c, target: target, user: q.Administrator, because: because, out: &out, own: q.Own,
		from: q.From}
	wanted := c.Plan.Accounts(q.Administrator, target)
	if len(wanted) != 1 {
		return out, door.Wrong("administrator", "the declaration asks for %s of %s on %s, and for one who administers it just one is "+
			"needed; give them a role with elevate: [all] there", door.Count(len(wanted), "account", "accounts"), q.Administrator, target)
	}
	x.account = wanted[0].Name
	if q.Given != "" {
		x.secret = connect.Seal([]byte(q.Given))
	}
	if err := x.triable(ctx); err != nil {
		return out, err
	}
	for _, stage := range []func(context.Context) (bool, error){x.administrator, x.password, x.proof, x.close} {
		on, err := stage(ctx)
		if err != nil || !on {
			return out, err
		}
	}
	out.Complete = true
	return out, nil
}

// triable says why nothing can be begun: nobody could be seen to become superuser there before what it was delivered with is closed.
func (x *commission) triable(ctx context.Context) error {
	session, err := x.SessionOn(ctx, x.target)
	if err != nil {
		return &door.Problem{Kind: door.Away, Words: err.Error()}
	}
	defer session.Close()
	if session.Offers().ProveElevation == nil {
		return door.Clashing("whether somebody becomes superuser on %s cannot be tried from here, so that nothing is begun there; give "+
			"them an account with a round, have them sign in, and then close what it was delivered with: roost bulk", x.target)
	}
	return nil
}

func (x *commission) tell(what, state string, round int64, format string, args ...any) {
	x.out.Stages = append(x.out.Stages, Stage{what, state, fmt.Sprintf(format, args...), round})
}

// administrator makes the account, with what it is given to do.
func (x *commission) administrator(ctx context.Context) (bool, error) {
	if _, err := x.Survey(ctx, x.who, []string{x.target}, nil); err != nil {
		return false, err
	}
	missing, err := x.keysOn(ctx)
	if err != nil {
		return false, err
	}
	if len(missing) == 0 {
		o, err := x.Store.Object(ctx, x.target, model.Account, x.account)
		switch {
		case err == store.ErrNone || err == nil && !o.Attributes.Has(model.Elevation):
			x.tell("administrator", "failed", 0, "%s has no way to become superuser there; give %s a role with elevate: [all], or "+
				"look for what keeps it away: roost drift --user %s", x.account, x.user, x.user)
			return false, nil
		case err != nil:
			return false, err
		}
		x.tell("administrator", "already-so", 0, "%s is there as declared", x.account)
		return true, nil
	}
	if _, err := x.Store.Object(ctx, x.target, model.Account, x.account); err == store.ErrNone && x.secret.Empty() {
		ids, err := x.promise(ctx, x.who, []string{x.user}, JoinRequest{Keeps: true}, x.because, lastsUsual)
		if err != nil {
			return false, err
		}
		if err := x.handed(ctx, ids); err != nil {
			return false, err
		}
	}
	r, words, err := x.follow(ctx, x.who, rounds.DraftRequest{Findings: missing}, x.because)
	if err != nil {
		return false, err
	}
	if on, err := x.ended(ctx, "administrator", r, words); !on || err != nil {
		return false, err
	}
	x.made = r.ID
	return true, nil
}

// keysOn are the keys of what differs of the administrator on the target and can be put right.
func (x *commission) keysOn(ctx context.Context) (out []string, err error) {
	rows, _, err := x.Store.Findings(ctx, store.FindingFilter{Users: []string{x.user}, Targets: []string{x.target}}, "", door.PageMost)
	for _, f := range rows {
		if f.Act.Verb != model.NoRemedy {
			out = append(out, f.Key)
		}
	}
	return out, err
}

// handed lists handovers, with links to those whose links nobody has yet.
func (x *commission) handed(ctx context.Context, ids []int64) error {
	list, links, err := x.linkedTo(ctx, x.who, ids, true)
	x.out.Handovers, x.out.Links = append(x.out.Handovers, list...), append(x.out.Links, links...)
	return err
}

// roundFor is how long a round of a few steps may take before nobody waits for it any longer.
const roundFor = 3 * time.Minute

// ended waits for a round, unless somebody else has to approve it. on says whether to go on.
func (x *commission) ended(ctx context.Context, what string, r rounds.Round, words string) (on bool, err error) {
	if x.lifts(r) {
		if _, err = x.ApproveWith(ctx, x.who, r.ID, x.own, x.from); err == nil {
			r, err = x.RunRound(ctx, x.who, r.ID)
		}
		if err != nil {
			return false, err
		}
	}
	for until := time.Now().Add(roundFor); r.ID != 0 && (r.State == rounds.Approved || r.State == rounds.Running); {
		if time.Now().After(until) {
			x.tell(what, "waiting", r.ID, "round %d takes longer than %s; when it has ended, ask for this again", r.ID, roundFor)
			return false, nil
		}
		select {
		case <-ctx.Done():
			return false, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
		if r, err = x.Round(ctx, x.who, r.ID); err != nil {
			return false, err
		}
	}
	switch r.State {
	case rounds.Complete:
		x.tell(what, "done", r.ID, "%s", words)
		return true, nil
	case rounds.OnHold, rounds.Drafted:
		x.tell(what, "waiting", r.ID, "round %d is %s: somebody else approves it (roost approve %d, roost run %d), and then this is asked "+
			"for again", r.ID, r.State, r.ID, r.ID)
	default:
		x.tell(what, "failed", r.ID, "round %d is %s; roost round show %d tells what became of each step", r.ID, r.State, r.ID)
	}
	return false, nil
}

// lifts says whether a round is held for nothing but what was asked for just now, by somebody who says that they may approve it alone.
func (x *commission) lifts(r rounds.Round) bool {
	return r.State == rounds.OnHold && (x.own != "" || x.who.Name == door.Itself.Name) &&
		!slices.ContainsFunc(r.Holds, func(h rounds.Hold) bool { return h.Firm || h.Kind != round.Elevated })
}

// password finds the one to prove with: as given, or one that waits for the administrator, or a new one.
func (x *commission) password(ctx context.Context) (bool, error) {
	if !x.secret.Empty() {
		x.tell("password", "already-so", 0, "the one that %s has", x.user)
		return true, nil
	}
	found, err := x.waiting(ctx)
	if err != nil || found {
		return found, err
	}
	out, err := x.Rotate(ctx, x.who, RotateRequest{Users: []string{x.user}, Targets: []string{x.target}, Keeps: true, Because: x.because})
	if err != nil {
		return false, err
	}
	x.out.Handovers, x.out.Links = append(x.out.Handovers, out.Handovers...), append(x.out.Links, out.Links...)
	if len(out.Left) > 0 {
		x.tell("password", "failed", 0, "%s on %s: %s", x.account, x.target, out.Left[0].Words)
		return false, nil
	}
	if on, err := x.ended(ctx, "password", out.Round, "a new one was set, and waits for "+x.user); !on || err != nil {
		return false, err
	}
	return x.waiting(ctx)
}

// waiting looks for a password of the administrator that is set there, and that nobody has collected.
func (x *commission) waiting(ctx context.Context) (bool, error) {
	open, err := x.Store.OpenHandovers(ctx, []string{x.user})
	if err != nil {
		return false, err
	}
	for _, h := range slices.Backward(open) {
		accounts, err := x.Store.HandoverAccounts(ctx, []int64{h.ID})
		if err != nil {
			return false, err
		}
		here := slices.ContainsFunc(accounts, func(a store.HandoverAccount) bool { return a.Target == x.target && a.Name == x.account })
		if !here || h.Sealed == "" || h.What != passwordKind {
			continue
		}
		if x.secret, err = x.Unseal(ctx, h.Sealed); err != nil {
			return false, err
		}
		x.renewed = true
		if !slices.ContainsFunc(x.out.Stages, func(s Stage) bool { return s.What == "password" }) {
			x.tell("password", "already-so", 0, "handover %d waits for %s", h.ID, x.user)
		}
		return true, nil
	}
	return false, nil
}

// proof signs in as the administrator, and becomes superuser.
func (x *commission) proof(ctx context.Context) (bool, error) {
	session, err := x.SessionOn(ctx, x.target)
	if err != nil {
		return false, &door.Problem{Kind: door.Away, Words: err.Error()}
	}
	defer session.Close()
	p, words := connect.Prove(ctx, session, x.account, x.secret)
	if p == connect.Proved {
		p, words = connect.ProveElevation(ctx, session, x.account, x.secret)
	}
	words = x.Strikes(ctx, x.target, x.secret.Reveal()).Text(words)
	entry := &store.Entry{At: x.Now(), Kind: "commission", Operator: x.who.Name, Target: x.target, User: x.user, Because: x.because,
		Words: strings.TrimSuffix(fmt.Sprintf("prove that %s signs in and becomes superuser: %s: %s", x.account, p, words), ": ")}
	if err := x.Write(ctx, func(*store.Tx) ([]*store.Entry, error) { return []*store.Entry{entry}, nil }); err != nil {
		return false, err
	}
	if p == connect.Proved {
		x.tell("proof", "done", 0, "%s signed in there, and became superuser", x.account)
		return true, nil
	}
	o, err := x.Store.Object(ctx, x.target, model.Account, x.account)
	if err == nil && o.Attributes.One(model.MustChange) == "yes" {
		x.tell("proof", "waiting", 0,
			"the password of %s must be changed at the next sign-in, and lets nobody become superuser before; then prove "+
				"with the one that they chose: --given", x.account)
		return false, nil
	}
	x.tell("proof", "failed", 0, "%s", strings.TrimSuffix(fmt.Sprintf("%s: %s", p, words), ": "))
	x.tell("closing", "not-tried", 0, "nothing was closed: whoever administers it must get in first")
	if x.made == 0 {
		return false, nil
	}
	r, err := x.Undo(ctx, acting(x.who), x.made, "the proof failed: "+x.because)
	if err == nil && r.ID != 0 {
		if _, err = x.Approve(ctx, acting(x.who), r.ID); err == nil {
			r, err = x.RunRound(ctx, acting(x.who), r.ID)
		}
	}
	if err != nil {
		x.tell("way back", "failed", x.made, "what round %d made was not taken back: %v", x.made, err)
		return false, nil
	}
	if on, err := x.ended(ctx, "way back", r, fmt.Sprintf("what round %d made was taken back", x.made)); !on || err != nil {
		return false, err
	}
	x.out.Stages[len(x.out.Stages)-1].State = "undone"
	for _, h := range x.out.Handovers { // of a password that is on no account any more
		if _, err := x.WithdrawHandover(ctx, acting(x.who), h.ID, "the proof failed, and the account was taken back"); err != nil &&
			door.ProblemOf(err).Kind != door.Conflict { // it was collected meanwhile
			return false, err
		}
	}
	x.out.Handovers, x.out.Links = []Handover{}, nil
	return false, nil
}

// close takes out of use what the target was delivered with, looks whether we and the administrator still get in, and
// opens it again if not. The session through which it would be opened is held meanwhile.
func (x *commission) close(ctx context.Context) (bool, error) {
	way, err := x.SessionOn(ctx, x.target)
	if err != nil {
		return false, &door.Problem{Kind: door.Away, Words: err.Error()}
	}
	defer way.Close()
	acts, err := x.open(ctx, way)
	if err != nil {
		return false, err
	}
	if len(acts) == 0 {
		x.tell("closing", "already-so", 0, "no superuser's password and no factory account is open there")
		return true, nil
	}
	if x.renewed {
		if _, has := x.c.Plan.Targets[x.target].Schema.Find(model.Account, model.MustChange); has {
			acts = append(acts, model.Act{Target: x.target, Verb: model.Modify, Object: model.Account, Name: x.account, User: x.user,
				Changes: []model.Change{mustChange()}})
		}
	}
	r, err := x.carryOut(ctx, acting(x.who), acts, x.because)
	if err != nil {
		return false, err
	}
	var names []string
	for _, a := range acts {
		if a.Name != x.account {
			names = append(names, a.Name)
		}
	}
	if on, err := x.ended(ctx, "closing", r, "closed: "+strings.Join(names, ", ")); !on || err != nil {
		return false, err
	}
	again, err := x.SessionOn(ctx, x.target)
	if err == nil {
		again.Close()
		return true, nil
	}
	words := err.Error()
	x.tell("closing", "failed", r.ID, "Hen Roost does not get in any more: %s", words)
	back := make([]connect.Act, 0, len(acts))
	for _, a := range acts {
		if a.Name != x.account {
			back = append(back, connect.Act{Act: reopened(a)})
		}
	}
	state := "undone"
	for i, answer := range connect.Apply(ctx, way, back) {
		if answer.Outcome != connect.Done && answer.Outcome != connect.AlreadySo {
			state, words = "failed", fmt.Sprintf("%s: %s", back[i].Name, answer.Words)
		}
	}
	x.tell("way back", state, r.ID, "opened again over the session that was still there: %s", strings.Join(names, ", "))
	return false, x.Write(ctx, func(*store.Tx) ([]*store.Entry, error) {
		return []*store.Entry{{At: x.Now(), Kind: "commission", Operator: x.who.Name, Target: x.target, Because: x.because,
			Words: door.ClipTo("opened again what round "+fmt.Sprint(r.ID)+" closed, since nobody got in: "+words, 2000)}}, nil
	})
}

// open are the acts that close what is open there and was delivered with the target.
func (x *commission) open(ctx context.Context, way connect.Session) (acts []model.Act, err error) {
	err = way.Survey(ctx, func(o model.Object) error {
		if o.Kind != model.Account || !o.Attributes.Has(model.FactoryMade) && o.Attributes.One(model.Locked) != "no" {
			return nil
		}
		a := model.Act{Target: x.target, Verb: model.Disable, Object: model.Account, Name: o.Name,
			Changes: []model.Change{{Attribute: model.Disabled, Before: o.Attributes.Get(model.Disabled), After: []string{"yes"}}}}
		if o.Attributes.Has(model.Locked) { // the superuser: its keys may be ours
			a.Verb, a.Changes = model.Modify, []model.Change{{Attribute: model.Locked, Before: []string{"no"}, After: []string{"yes"}}}
		}
		if o.Name != x.account {
			acts = append(acts, a)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	var names []string
	for _, a := range acts {
		names = append(names, a.Name)
	}
	owners, err := x.Store.LinkedNames(ctx, x.target, names)
	return slices.DeleteFunc(acts, func(a model.Act) bool { return owners[a.Name] != "" }), err // what was given to somebody stays
}

// reopened takes back the closing of an account.
func reopened(a model.Act) model.Act {
	if a.Verb == model.Disable {
		a.Verb = model.Enable
	}
	c := a.Changes[0]
	a.Changes = []model.Change{{Attribute: c.Attribute, Before: c.After, After: []string{"no"}}}
	return a
}
