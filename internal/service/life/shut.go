package life

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/pause"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
	"hen-roost/internal/work"
)

const (
	// A few targets are begun at a time, so that the first are shut while the others
	// wait, rather than all at the end. One that does not answer soon makes nobody wait.
	begunAtOnce    = 8
	soon           = time.Second
	targetsAtOnce  = 500
	accountsAtOnce = 250 // on a target
)

// pauses are how long an account waits before it is tried again.
var pauses = pause.Growing{First: 5 * time.Second, Most: 5 * time.Minute}

// keepShutting shuts what is due, all targets side by side, until the service ends.
func (s *Life) keepShutting() {
	var busy sync.Map
	free, begun := make(chan struct{}, targetsAtOnce), make(chan struct{}, begunAtOnce)
	s.during(s.shut, "suspensions", func(ctx context.Context) error {
		due, err := s.Store.DueTargets(ctx, s.Now())
		if err != nil {
			return err
		}
		for _, target := range due {
			if _, mine := busy.LoadOrStore(target, true); mine {
				continue
			}
			s.going.Go(func() {
				defer busy.Delete(target)
				for _, turn := range []chan struct{}{free, begun} {
					select {
					case turn <- struct{}{}:
					case <-ctx.Done():
						return
					}
				}
				defer func() { <-free }()
				next := sync.OnceFunc(func() { <-begun })
				defer next()
				time.AfterFunc(soon, next)
				if err := s.shutOn(ctx, target); err != nil && ctx.Err() == nil && !errors.Is(err, work.ErrHeld) {
					s.Log.Error("nobody is shut out there; it is tried again", "target", target, "error", err)
				}
			})
		}
		return nil
	})
}

// leaseOn is who may shut people out on a target.
func leaseOn(target string) string { return "suspend/" + target }

// shutOn shuts what is due on one target. It goes beside whatever else is done
// there: an account is shut by one act that is read before and after.
func (s *Life) shutOn(ctx context.Context, target string) error {
	held, err := work.TryHold(ctx, s.Store, leaseOn(target), s.Owner)
	if err != nil {
		return err
	}
	defer held.Release()
	list, err := s.Store.DueSuspended(held, target, s.Now(), accountsAtOnce)
	if err != nil {
		return err
	}
	c, err := s.Current(held)
	if err != nil || len(list) == 0 {
		return err
	}
	row, err := s.Store.Target(held, target)
	if err != nil {
		return err
	}
	results, err := s.tryOn(held, c, target, list)
	if err != nil {
		return err
	}
	for turn := 0; ; turn++ {
		err := s.keepResults(held, target, results, row.Comparisons, turn == readMost)
		if err == nil {
			break
		}
		if !errors.Is(err, errChanged) {
			return err
		}
		if row, err = s.Store.Target(held, target); err != nil {
			return err
		}
		s.readBack(held, target, results)
	}
	s.nudge()
	return nil // it is compared when the declaration says so, or behind
}

// result is what one try made of an account.
type result struct {
	store.SuspendedAccount
	object *model.Object // as it was read back
	last   bool          // it is the last that can administer the target
}

// tryOn tries to shut accounts on a target, ends their sessions, and asks the target whether it still lets them in.
func (s *Life) tryOn(ctx context.Context, c *declared.Current, target string, list []store.SuspendedAccount) ([]result, error) {
	out := make([]result, len(list))
	for i, a := range list {
		a.State, a.Words, a.Proof, a.Sessions = Open, "", "", 0
		out[i].SuspendedAccount = a
	}
	all := func(state, words string) []result {
		for i := range out {
			out[i].State, out[i].Words = state, words
		}
		return out
	}
	if c.Plan.Targets[target] == nil {
		return all(Open, "the target is no longer declared, so nobody can sign in there for us"), nil
	}
	acts, err := s.closing(ctx, target, out)
	if err != nil {
		return nil, err
	}
	spared, last, err := s.Keeps(ctx, c, acts)
	if err != nil {
		return nil, err
	}
	var todo []int
	for i := range acts {
		why := spared[i]
		if why == "" && last[i] != "" {
			x, err := s.Store.Suspension(ctx, out[i].Suspension)
			if err != nil {
				return nil, err
			}
			if out[i].last = x.Last; !x.Last {
				why = last[i] + "; or shut it all the same, our own login there stays: roost suspend " + acts[i].User + " --although-last"
			}
		}
		if why != "" {
			out[i].State, out[i].Words = Spared, why
			continue
		}
		todo = append(todo, i)
	}
	if len(todo) == 0 {
		return out, nil
	}
	session, err := s.SessionOn(ctx, target)
	if err != nil {
		for _, i := range todo {
			out[i].Words = err.Error()
		}
		return out, nil
	}
	defer session.Close()
	if todo = sure(ctx, session, c, out, todo); len(todo) > 0 {
		begun := make([]store.SuspendedAccount, len(todo))
		for k, i := range todo {
			begun[k] = out[i].SuspendedAccount
		}
		if err := s.Store.BeginSuspended(ctx, begun); err != nil {
			return nil, err
		}
		if err := s.close(ctx, session, acts, out, todo); err != nil {
			return nil, err
		}
		s.throwOut(ctx, session, out)
	}
	s.ask(ctx, session, out)
	return out, nil
}

// errChanged says that what was read back may be older than what is stored since.
var errChanged = errors.New("the target was changed meanwhile")

// readMost is how often accounts are read anew because others changed their target meanwhile.
const readMost = 3

// readBack reads accounts anew that were tried; where it cannot what was read before stays.
func (s *Life) readBack(ctx context.Context, target string, out []result) {
	session, err := s.SessionOn(ctx, target)
	if err != nil {
		return
	}
	defer session.Close()
	there, err := connect.Lookup(ctx, session, connect.About(accountsOf(out, func(r *result) bool { return r.object != nil })...))
	if err != nil {
		return
	}
	for i := range out {
		if o := there.Object(accountOf(&out[i])); o != nil {
			out[i].object = o
		}
	}
}

func accountOf(r *result) model.Named { return model.Named{Kind: model.Account, Name: r.Name} }

func accountsOf(out []result, which func(*result) bool) (names []model.Named) {
	for i := range out {
		if which(&out[i]) {
			names = append(names, accountOf(&out[i]))
		}
	}
	return names
}

// sure reads accounts that are only declared to be somebody's, and leaves those out
// that are not there, or whose number or mail says that they are somebody else's.
func sure(ctx context.Context, session connect.Session, c *declared.Current, out []result, todo []int) (rest []int) {
	guessed := func(r *result) bool { return r.Guessed && !r.Begun }
	var names []model.Named
	for _, i := range todo {
		if guessed(&out[i]) {
			names = append(names, accountOf(&out[i]))
		}
	}
	if names == nil {
		return todo
	}
	there, err := connect.Lookup(ctx, session, connect.About(names...))
	for _, i := range todo {
		r := &out[i]
		if !guessed(r) {
			rest = append(rest, i)
			continue
		}
		if err != nil {
			r.Words = err.Error()
			continue
		}
		o := there.Object(accountOf(r))
		person, known := c.Plan.Person(r.User)
		switch {
		case o == nil:
			r.State, r.Words = Absent, "there is no such account"
		case known && (differ(o, model.Number, person.Number()) || differ(o, model.Mail, person.Mail)):
			r.State, r.Words = Spared,
				"an account of that name is there, but its number or mail is not theirs: it may be somebody else's, so look at it"
		default:
			rest = append(rest, i)
		}
	}
	return rest
}

// differ says that a value is known on both sides, and is not the same.
func differ(o *model.Object, attribute, want string) bool {
	is := o.Attributes.One(attribute)
	return is != "" && want != "" && !strings.EqualFold(is, want)
}

// closing are the acts that shut accounts, from what was last seen of them.
func (s *Life) closing(ctx context.Context, target string, out []result) ([]model.Act, error) {
	acts := make([]model.Act, len(out))
	for i, a := range out {
		o, err := s.Store.Object(ctx, target, model.Account, a.Name)
		if err != nil && !errors.Is(err, store.ErrNone) {
			return nil, err
		}
		before := o.Attributes.One(model.Disabled)
		if before == "" || before == "yes" {
			before = "no"
		}
		acts[i] = shutting(a.SuspendedAccount, before)
	}
	return acts, nil
}

// close has the target shut accounts, and tells what became of each.
func (s *Life) close(ctx context.Context, session connect.Session, acts []model.Act, out []result, todo []int) error {
	batch, opening := make([]connect.Act, len(todo)), make([]model.Act, len(todo))
	for k, i := range todo {
		batch[k], opening[k] = connect.Act{Act: acts[i], Again: out[i].Begun}, opens(acts[i])
	}
	purpose, err := s.Purpose(ctx, acts[0].Target, opening)
	if err != nil {
		return err
	}
	for k, a := range connect.Apply(ctx, session, batch) {
		r := &out[todo[k]]
		r.object = a.Object
		switch a.Outcome {
		case connect.Done:
			if r.State = Shut; r.last {
				r.say(fmt.Sprintf("it was the last account of a person that could administer %s: our own login stays; give somebody "+
					"else a role that makes an administrator there", r.Target))
			}
		case connect.AlreadySo:
			if r.State = Shut; !r.Begun && purpose[r.Name] >= 0 { // what an earlier suspension shut is opened with this one
				r.Before, r.Words = Shut, "it was shut already"
			}
		default:
			r.Words = a.Words
			if a.Object == nil && a.Outcome == connect.Moved {
				r.State, r.Words = Absent, "there is no such account any more"
			}
		}
	}
	return nil
}

// shutting is the act that shuts an account.
func shutting(a store.SuspendedAccount, before string) model.Act {
	return model.Act{Target: a.Target, Verb: model.Disable, Object: model.Account, Name: a.Name, User: a.User,
		Changes: []model.Change{{Attribute: model.Disabled, Before: []string{before}, After: []string{"yes"}}}}
}

// opens is the act that would open what an act shuts.
func opens(a model.Act) model.Act {
	a.Verb = model.Enable
	return a
}

// throwOut ends the sessions of accounts that are shut now.
func (s *Life) throwOut(ctx context.Context, session connect.Session, out []result) {
	shut := map[string]*result{}
	for i := range out {
		if out[i].State == Shut {
			shut[out[i].Name] = &out[i]
		}
	}
	if len(shut) == 0 {
		return
	}
	list, err := connect.Watch(ctx, session)
	if errors.Is(err, errors.ErrUnsupported) {
		return // there is nothing like it
	}
	var names []string
	var whose []*result
	for _, o := range list {
		if r := shut[o.Attributes.One(model.HeldBy)]; r != nil {
			names, whose = append(names, o.Name), append(whose, r)
		}
	}
	if err != nil {
		for _, r := range shut {
			r.State = Open
			r.say("shut, but who is signed in cannot be seen: " + err.Error())
		}
		return
	}
	if len(names) == 0 {
		return
	}
	for i, a := range connect.End(ctx, session, names) {
		r := whose[i]
		if a.Outcome == connect.Done || a.Outcome == connect.AlreadySo {
			r.Sessions++
			continue
		}
		r.State = Open
		r.say(fmt.Sprintf("shut, but the session %s does not end: %s", names[i], a.Words))
	}
}

func (r *result) say(words string) { r.Words = strings.TrimPrefix(r.Words+"; "+words, "; ") }

// ask has the target say whether it lets accounts in that are shut. One that it
// does let in is not shut, whatever was read back.
func (s *Life) ask(ctx context.Context, session connect.Session, out []result) {
	var names []string
	var which []*result
	for i := range out {
		if out[i].State == Shut {
			names, which = append(names, out[i].Name), append(which, &out[i])
		}
	}
	for i, a := range connect.Admits(ctx, session, names) {
		r := which[i]
		r.Proof = string(a.State)
		r.say(a.Words)
		switch a.State {
		case connect.LetIn:
			r.State = Open
		case connect.NotTold:
			r.State = Unsure
		}
	}
}

// keepResults stores what tries made of accounts, each with its line in the record. It returns errChanged when a target of which
// comparisons were counted before was changed since, so that what was read back may be older than what is stored, unless anyway.
func (s *Life) keepResults(ctx context.Context, target string, results []result, comparisons int64, anyway bool) error {
	now := s.Now()
	strikes := s.Strikes(ctx, target)
	for i := range results {
		results[i].Words = strikes.Text(results[i].Words)
	}
	return s.Write(context.WithoutCancel(ctx), func(tx *store.Tx) ([]*store.Entry, error) {
		var entries []*store.Entry
		var read []model.Object
		purpose := map[int64][]string{} // by suspension
		for _, r := range results {
			r.TriedAt, r.DueAt, r.EndedAt = &now, nil, nil
			switch r.State {
			case Shut, Unsure:
				if r.EndedAt = &now; r.Before == "" {
					purpose[r.Suspension] = append(purpose[r.Suspension], opens(shutting(r.SuspendedAccount, "no")).Key())
				}
			case Open:
				due := now.Add(pauses.After(r.Tries + 1))
				r.DueAt = &due
			}
			x, err := tx.LockSuspension(ctx, r.Suspension)
			if err != nil {
				return nil, err
			}
			if err := tx.EndSuspended(ctx, r.SuspendedAccount); err != nil {
				return nil, err
			}
			if r.object != nil {
				read = append(read, *r.object)
			}
			words := fmt.Sprintf("%s: account %s", r.State, r.Name)
			if r.Sessions > 0 {
				words += ", " + door.Count(r.Sessions, "session", "sessions") + " ended"
			}
			if r.Words != "" {
				words += "; " + r.Words
			}
			if r.State == Spared && r.Tries > 0 {
				continue // it was told before, and is looked at anew after each survey
			}
			entries = append(entries, &store.Entry{At: now, Kind: "shut-out", Operator: x.Operator, Target: target, User: r.User,
				Because: x.Because, Words: door.ClipTo(words, 2000)})
		}
		if len(read) > 0 {
			counted, err := tx.Comparisons(ctx, []string{target})
			if err != nil {
				return nil, err
			}
			if counted[target] != comparisons && !anyway {
				return nil, &store.Refusal{Err: errChanged}
			}
			if err := tx.Beside(ctx, target); err != nil {
				return nil, err
			}
			if err := tx.PutObjects(ctx, target, read, nil, now); err != nil {
				return nil, err
			}
		}
		for id, keys := range purpose {
			if err := tx.NotePurpose(ctx, target, keys, -id, now); err != nil {
				return nil, err
			}
		}
		return entries, nil
	})
}

// triedFor is how long the declaration waits for accounts to be tried: what is
// shut when it says so is found to be as declared.
const triedFor = 3 * time.Second

// declaring is who may write into the declaration who is suspended, and who no longer.
const declaring = "suspend"

// keepDeclaring writes into the declaration who is suspended, so that nothing opens them again.
func (s *Life) keepDeclaring() {
	s.during(s.say, "suspensions to declare", func(ctx context.Context) error {
		if list, err := s.Store.UndeclaredSuspensions(ctx, s.Now().Add(-triedFor), 1); err != nil || len(list) == 0 {
			return err
		}
		held, err := work.TryHold(ctx, s.Store, declaring, s.Owner)
		if err != nil {
			return nil // another service does
		}
		defer held.Release()
		// What was due before may be declared, or have ended, since.
		list, err := s.Store.UndeclaredSuspensions(held, s.Now().Add(-triedFor), atOnceMost)
		if err != nil {
			return err
		}
		return s.declare(held, list)
	})
}

// declare writes suspensions into the declaration, those of one act as one revision.
func (s *Life) declare(ctx context.Context, list []store.Suspension) error {
	type act struct{ operator, because string }
	by := map[act][]store.Suspension{}
	var order []act
	for _, x := range list {
		a := act{x.Operator, x.Because}
		if by[a] == nil {
			order = append(order, a)
		}
		by[a] = append(by[a], x)
	}
	c, err := s.Current(ctx)
	if err != nil {
		return err
	}
	for _, a := range order {
		var edits []declare.Edit
		var ids []int64
		for _, x := range by[a] {
			if u := c.Declared.Users[x.User]; u != nil && u.Suspended.Since != "" {
				if err := s.Store.DeclareSuspensions(ctx, []int64{x.ID}, 0, fmt.Sprintf("it says so since %s (%s), and will when this ends",
					u.Suspended.Since, u.Suspended.Because)); err != nil {
					return err
				}
				continue
			}
			ids = append(ids, x.ID)
			edits = append(edits, declare.Edit{Section: "users", Name: x.User, Do: declare.Set, Key: "suspended",
				Value: map[string]any{"since": x.At.Format(time.DateOnly), "because": x.Because}})
		}
		if len(edits) == 0 {
			continue
		}
		who := door.Operator{Name: a.operator, Duties: []door.Duty{door.Look, door.Draft}} // it is the act of who suspended them
		r, err := s.Edit(ctx, who, 0, edits, a.because)
		why := ""
		if err != nil {
			p := door.ProblemOf(err)
			if p.Kind == door.Away || ctx.Err() != nil {
				return err // it is tried again
			}
			why = err.Error()
			s.Log.Error("a suspension is not declared", "users", len(ids), "error", err)
		}
		if err := s.Store.DeclareSuspensions(ctx, ids, r.Number, why); err != nil {
			return err
		}
	}
	return nil
}
