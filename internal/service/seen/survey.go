package seen

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/drift"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
	"hen-roost/internal/work"
)

// States of a target, as the last attempt to survey it left them.
const (
	NotSurveyed = "not surveyed"
	Surveyed    = "surveyed"
	OutOfReach  = "out of reach"
	KeyUnknown  = "key not accepted"
	KeyChanged  = "key changed"
	Refused     = "login refused"
	NoSecret    = "secret not set" // nobody went there: what our login signs in with is not set
	NotApproved = "not approved"   // it is new: see roost revision pending
	Busy        = "busy"           // of one attempt only: a round, or another survey, works on it
)

// deadFor is how long a survey waits for a target that did not answer the last time.
const deadFor = 5 * time.Second

// busyFor is how long a survey waits for whoever works on its target. Tests wait less.
var busyFor = 20 * time.Second

// SurveyResult is how the survey of one target went.
type SurveyResult struct {
	Target   string `json:"target"`
	State    string `json:"state"`
	Words    string `json:"words,omitempty"`
	Print    string `json:"print,omitempty" doc:"fingerprint of a key that waits for acceptance"`
	Accounts int    `json:"accounts"`
	Changed  int    `json:"changed" doc:"objects that are otherwise than the survey before saw them"`
	Findings int    `json:"findings"`
	Fresh    int    `json:"fresh" doc:"findings not seen before"`
	TookMS   int64  `json:"took-ms"`
}

// Survey reads the named targets, or all, several at once, and compares each
// with the declaration. told hears of each target as it ends; it may be nil.
func (s *Seen) Survey(ctx context.Context, who door.Operator, names []string, told func(SurveyResult)) ([]SurveyResult, error) {
	if err := who.May(door.Run); err != nil {
		return nil, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return nil, err
	}
	if names, err = s.targetNames(c, names); err != nil {
		return nil, err
	}
	var mu sync.Mutex
	var out []SurveyResult
	one := func(ctx context.Context, name string) {
		slot, err := s.slots.Take(ctx, c.KindOf(name))
		if err != nil {
			return
		}
		r := s.surveyOne(ctx, name, slot)
		slot.Leave()
		mu.Lock()
		defer mu.Unlock()
		out = append(out, r)
		if told != nil {
			told(r)
		}
	}
	work.Each(ctx, names, beginMost, one)
	if ctx.Err() != nil {
		return out, ctx.Err()
	}
	slices.SortFunc(out, func(a, b SurveyResult) int { return strings.Compare(a.Target, b.Target) })
	return out, s.recordSurvey(ctx, who, out)
}

// beginMost is how many surveys may have begun at once; how many of them are at work the slots say.
const beginMost = 1200

// targetNames checks names, or returns all.
func (s *Seen) targetNames(c *declared.Current, names []string) ([]string, error) {
	all := slices.Sorted(maps.Keys(c.Plan.Targets))
	if len(names) == 0 {
		return all, nil
	}
	for _, n := range names {
		if c.Plan.Targets[n] == nil {
			return nil, door.NotKnown("target", n, all)
		}
	}
	slices.Sort(names)
	return slices.Compact(names), nil
}

func (s *Seen) surveyOne(ctx context.Context, name string, slot *work.Slot) SurveyResult {
	return s.surveyBy(ctx, name, slot, s.surveyInto)
}

// SurveyAfter surveys a target on which the caller works, and holds the lease, at the end of that work. slot may be nil.
func (s *Seen) SurveyAfter(ctx context.Context, name string, slot *work.Slot) SurveyResult {
	return s.surveyBy(ctx, name, slot, s.readInto)
}

func (s *Seen) surveyBy(ctx context.Context, name string, slot *work.Slot,
	into func(context.Context, string, *work.Slot) (sighted, error)) SurveyResult {
	began := time.Now()
	r := SurveyResult{Target: name}
	seen, err := into(ctx, name, slot)
	r.Accounts, r.Changed = seen.accounts, len(seen.changed)
	r.TookMS = time.Since(began).Milliseconds()
	if errors.Is(err, work.ErrHeld) {
		r.State, r.Words = Busy, fmt.Sprintf("%s: a round or another survey has worked on it for %s; try again when it is done", name,
			busyFor)
		return r
	}
	row, rerr := s.Store.Target(ctx, name)
	now := s.Now()
	row.TriedAt, row.TookMS = &now, int(r.TookMS)
	r.State = stateAfter(err, &row)
	if r.State == KeyUnknown || r.State == KeyChanged {
		row.OfferedFor = seen.place
	}
	row.State = r.State
	row.Words = ""
	if err != nil {
		r.Words = err.Error()
		row.Words = door.ClipTo(r.Words, 2000)
		r.Print = row.Print
	} else {
		row.SurveyedAt, row.SeenAt = &now, seen.place
		row.Accounts, row.Mark, row.MarkOf = r.Accounts, seen.Mark, seen.markOf
		if seen.Whole {
			row.WholeAt = &now
		}
	}
	if rerr == nil {
		rerr = s.Store.Tx(ctx, func(tx *store.Tx) error { return tx.PutTarget(ctx, row) })
	}
	if err == nil && rerr == nil { // who was kept from being shut by a guard may not be any more
		rerr = s.Store.LookAgain(ctx, name, now)
	}
	if err == nil && rerr == nil {
		rerr = s.compareSeen(ctx, row, seen, &r)
		r.TookMS = time.Since(began).Milliseconds() // what whoever waits has waited for
	}
	if rerr != nil {
		r.Words = door.ProblemOf(rerr).Words
		s.Log.Error("survey not stored", "target", name, "error", rerr)
	}
	return r
}

// compareSeen compares a target that was surveyed, unless neither it nor the
// declaration is otherwise than when it was compared last.
func (s *Seen) compareSeen(ctx context.Context, row store.Target, seen sighted, r *SurveyResult) error {
	c, err := s.Current(ctx)
	if err != nil {
		return err
	}
	if r.Changed == 0 && row.Compared == c.Revision && row.ComparedOn != nil && row.ComparedOn.Format(time.DateOnly) == c.Plan.Day {
		r.Findings, err = s.Store.FindingsOn(ctx, []string{row.Name})
		return err
	}
	if row.Compared == c.Revision && row.ComparedOn != nil && row.ComparedOn.Format(time.DateOnly) == c.Plan.Day {
		done, err := s.compareChanged(ctx, c, row, seen.changed, r)
		if done || err != nil {
			return err
		}
	}
	r.Findings, r.Fresh, err = s.Compare(ctx, row.Name)
	return err
}

// stateAfter says in what state an attempt leaves a target, and keeps a key that waits for acceptance.
func stateAfter(err error, row *store.Target) string {
	var key *connect.KeyError
	var refused *connect.Refused
	switch {
	case err == nil:
		row.Offered, row.Print, row.OfferedFor = "", "", ""
		return Surveyed
	case errors.Is(err, errUnapproved):
		return NotApproved
	case errors.Is(err, errNoSecret):
		return NoSecret
	case errors.As(err, &key):
		row.Offered, row.Print = key.Offered, key.Print
		if key.Accepted == "" {
			return KeyUnknown
		}
		return KeyChanged
	case errors.As(err, &refused):
		return Refused
	default:
		return OutOfReach
	}
}

// sighted is what a survey left in the store.
type sighted struct {
	work.Seen
	markOf   string
	place    string // of the target, see PlaceOf
	changed  []model.Named
	accounts int // of people, now
	more     int // of them, than before
}

// wholeEvery is how often everything is read of a target that can tell what changed.
const wholeEvery = 24 * time.Hour

// surveyInto reads the target and stores what it holds.
func (s *Seen) surveyInto(ctx context.Context, name string, slot *work.Slot) (out sighted, err error) {
	held, err := work.Hold(ctx, s.Store, "target/"+name, s.Owner, busyFor)
	if err != nil {
		return out, err
	}
	defer held.Release()
	return s.readInto(ctx, name, slot)
}

// surveysMost is how often a target is read anew because acts beside the survey changed it.
const surveysMost = 3

// readInto is surveyInto for who holds the lease. What was changed beside it, as suspensions do, is read anew.
func (s *Seen) readInto(ctx context.Context, name string, slot *work.Slot) (out sighted, err error) {
	for range surveysMost {
		var again bool
		one, err := s.readOnce(ctx, name, slot, &again)
		if !one.Whole {
			one.accounts, one.more = one.accounts+out.more, one.more+out.more
		}
		for _, n := range out.changed {
			if !slices.Contains(one.changed, n) {
				one.changed = append(one.changed, n)
			}
		}
		if out = one; err != nil || !again {
			return out, err
		}
	}
	return out, nil // it stays due
}

func (s *Seen) readOnce(ctx context.Context, name string, slot *work.Slot, again *bool) (out sighted, err error) {
	c, access, err := s.Reach(ctx, name)
	if err != nil {
		return out, err
	}
	row, err := s.Store.Target(ctx, name)
	if err != nil {
		return out, err
	}
	if row.State == OutOfReach {
		access.Wait = min(access.Patience(), deadFor) // it did not answer the last time either
	}
	out.markOf = readBy(access)
	if cur, err := s.Current(ctx); err == nil { // what else reads a target, as guards do, has no use for homes
		if d := cur.Plan.Targets[name]; d != nil && d.Address == access.Address {
			access.Homes, out.place = d.Target.Homes.Stale > 0, PlaceOf(d)
		}
	}
	if slot != nil {
		access = slot.Through(access)
	}
	mark := row.Mark
	if row.MarkOf != out.markOf || row.WholeAt == nil || s.Now().Sub(*row.WholeAt) > wholeEvery {
		mark = ""
	}
	var seen *store.Sighting
	out.Seen, err = work.Survey(ctx, c, access, work.Sink{
		Mark: mark,
		Begin: func(whole bool) (err error) {
			if seen = s.Store.SightSome(name, s.Now()); whole {
				seen, err = s.Store.Sight(ctx, name, s.Now())
			}
			return err
		},
		Put:    func(objects []model.Object) error { return seen.Put(ctx, objects) },
		Gone:   func(gone []connect.Gone) error { return goneFrom(ctx, seen, gone) },
		Trials: func() ([]connect.Mark, error) { return s.trialsOn(ctx, name) },
	})
	if err != nil {
		return out, err
	}
	if out.changed, err = seen.Done(ctx); err == nil {
		*again, err = s.Store.DoneSurvey(ctx, name, row.SurveyDue)
	}
	if out.accounts, out.more = out.Accounts, seen.More; !out.Whole {
		out.accounts = row.Accounts + seen.More
	}
	return out, err
}

// readBy is a hash of what a target is read by: a mark counts for that alone.
func readBy(a connect.Access) string {
	h := sha256.New()
	for _, k := range door.KeysOf(a.Settings) {
		fmt.Fprintf(h, "%q=%q ", k, a.Settings[k])
	}
	fmt.Fprintf(h, "%q %q %q", a.Address, a.As, a.Key)
	return hex.EncodeToString(h.Sum(nil))
}

func goneFrom(ctx context.Context, seen *store.Sighting, gone []connect.Gone) error {
	var names []model.Named
	ids := map[model.ObjectKind][]string{}
	for _, g := range gone {
		if g.Unique != "" {
			ids[g.Kind] = append(ids[g.Kind], g.Unique)
		} else {
			names = append(names, g.Named)
		}
	}
	return seen.Gone(ctx, names, ids)
}

// trialsOn are the changes that may be on trial on a target.
func (s *Seen) trialsOn(ctx context.Context, target string) ([]connect.Mark, error) {
	list, err := s.Store.TrialsOn(ctx, target)
	out := make([]connect.Mark, len(list))
	for i, t := range list {
		out[i] = connect.Mark{Token: t.Token, Until: t.Until}
	}
	return out, err
}

// contestFor is for how long something put right is remembered, to notice when it comes back.
const contestFor = 14 * 24 * time.Hour

// outcome is what a comparison finds.
type outcome struct {
	Findings []model.Finding
	loose    []uint64
	people   int // accounts that are not the target's own
}

// Differences compares what a target was last seen to hold with what is desired
// of it. known, nil for nothing, is what comparisons before found right.
func (s *Seen) Differences(ctx context.Context, d *resolve.Desired, known *drift.Known) (outcome, error) {
	name := d.Target.Name
	accounts, others, links, err := s.Store.Holding(ctx, name)
	if err != nil {
		return outcome{}, err
	}
	said, err := s.Store.Decisions(ctx, name)
	if err != nil {
		return outcome{}, err
	}
	decisions := make([]model.Decision, len(said))
	for i, x := range said {
		decisions[i] = x.Plain()
	}
	mended, err := s.Store.MendedOn(ctx, name, s.Now().Add(-contestFor))
	if err != nil {
		return outcome{}, err
	}
	var shut map[string]time.Time
	if d.Target.Removal.Keep > 0 {
		if shut, err = s.Store.ShutSince(ctx, name); err != nil {
			return outcome{}, err
		}
	}
	var out outcome
	for i := range accounts {
		if !accounts[i].System {
			out.people++
		}
	}
	out.Findings, out.loose = drift.Loose(drift.Input{Desired: d, Accounts: accounts, InOrder: true, Others: others, Links: links,
		Decisions: decisions, Known: known, Shut: shut})
	drift.Contest(out.Findings, putRight(mended))
	return out, nil
}

// errStale says that somebody else stored a comparison while this one was made.
var errStale = errors.New("compared by somebody else meanwhile")

// Compare finds a target's drift from what it was last seen to hold. It runs to
// its end whatever becomes of who asked for it, and never puts an older
// comparison in the place of a newer one: comparisons are numbered.
func (s *Seen) Compare(ctx context.Context, name string) (findings, fresh int, err error) {
	return s.compare(ctx, name, shown{})
}

// compare is Compare; what was found before, and still holds, is not looked for again.
func (s *Seen) compare(ctx context.Context, name string, before shown) (findings, fresh int, err error) {
	ctx = context.WithoutCancel(ctx)
	for {
		c, err := s.Current(ctx)
		if err != nil {
			return 0, 0, err
		}
		row, err := s.Store.Target(ctx, name)
		if err != nil {
			return 0, 0, err
		}
		findings, fresh, err = s.compareOnce(ctx, c, row, before)
		if !errors.Is(err, errStale) {
			return findings, fresh, err
		}
		if s.Life.Err() != nil {
			return 0, 0, s.Life.Err()
		}
	}
}

// compareOnce is compare with a revision, as long as nobody has compared the target since row was read.
func (s *Seen) compareOnce(ctx context.Context, c *declared.Current, row store.Target, was shown) (findings, fresh int, err error) {
	name := row.Name
	desired := c.Plan.Targets[name]
	if desired == nil || row.SurveyedAt == nil {
		return 0, 0, nil
	}
	x, found := was.of(c, row)
	if !found {
		known, done := s.known.of(name)
		x, err = s.Differences(ctx, desired, known)
		done()
	}
	if err != nil {
		return 0, 0, err
	}
	before, err := s.Store.SeenFindings(ctx, name)
	if err != nil {
		return 0, 0, err
	}
	counts := map[string]int{}
	for _, f := range x.Findings {
		counts[string(f.Kind)]++
	}
	err = s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		if now, err := tx.Comparisons(ctx, []string{name}); err != nil {
			return nil, err
		} else if now[name] != row.Comparisons {
			return nil, &store.Refusal{Err: errStale}
		}
		if err := tx.CountAccounts(ctx, name, x.people); err != nil {
			return nil, err
		}
		if err := tx.NoteCompared(ctx, name, c.Revision, c.Plan.Day); err != nil {
			return nil, err
		}
		if err := tx.PutLoose(ctx, name, x.loose); err != nil {
			return nil, err
		}
		if err := tx.CameBack(ctx, name, cameBack(x.Findings, before), s.Now()); err != nil {
			return nil, err
		}
		if err := tx.CountDay(ctx, name, s.Now(), counts); err != nil {
			return nil, err
		}
		if fresh, err = tx.PutFindings(ctx, name, x.Findings, s.Now()); err != nil || fresh == 0 {
			return nil, err
		}
		e := freshEntry(s.Now(), name, fresh)
		e.Words += fmt.Sprintf(", %s in all", door.Count(len(x.Findings), "finding", "findings"))
		return []*store.Entry{e}, nil
	})
	return len(x.Findings), fresh, err
}

// Behind are those of the targets that were surveyed and whose findings are of another revision or day.
func Behind(c *declared.Current, known map[string]store.Target, targets []string) (names []string) {
	if len(targets) == 0 {
		targets = door.KeysOf(c.Plan.Targets)
	}
	for _, name := range targets {
		t := known[name]
		if t.SurveyedAt != nil && (t.Compared != c.Revision || t.ComparedOn == nil || t.ComparedOn.Format(time.DateOnly) != c.Plan.Day) {
			names = append(names, name)
		}
	}
	return names
}

// CatchUp compares the chosen targets, none chosen for all, whose findings are
// of another revision or day, and returns the revision that all are of then.
func (s *Seen) CatchUp(ctx context.Context, targets []string) (*declared.Current, error) {
	for {
		c, known, err := s.Standing(ctx)
		if err != nil {
			return nil, err
		}
		names := Behind(c, known, targets)
		if len(names) == 0 {
			return c, nil
		}
		err = sideBySide(names, func(name string) error {
			_, _, err := s.Compare(ctx, name)
			return errors.Join(err, ctx.Err())
		})
		if err != nil {
			return nil, err
		}
	}
}

func freshEntry(at time.Time, target string, fresh int) *store.Entry {
	return &store.Entry{At: at, Kind: "drift", Operator: door.Itself.Name, Target: target,
		Words: fmt.Sprintf("found %s on %s", door.Count(fresh, "new finding", "new findings"), target)}
}

func (s *Seen) recordSurvey(ctx context.Context, who door.Operator, results []SurveyResult) error {
	var entries []*store.Entry
	answered, fresh := 0, 0
	for _, r := range results {
		if r.State == Surveyed {
			answered++
			fresh += r.Fresh
			continue
		}
		entries = append(entries, &store.Entry{At: s.Now(), Kind: "survey", Operator: who.Name, Target: r.Target,
			Words: door.ClipTo(r.State+": "+r.Words, 2000)})
	}
	entries = append(entries, &store.Entry{At: s.Now(), Kind: "survey", Operator: who.Name,
		Words: fmt.Sprintf("surveyed %d of %s; %s", answered, door.Count(len(results), "target", "targets"),
			door.Count(fresh, "new finding", "new findings"))})
	return s.Write(ctx, func(*store.Tx) ([]*store.Entry, error) { return entries, nil })
}

// AcceptKey accepts the identity key a target showed. print must be its
// fingerprint, so that what is accepted is what the operator saw.
func (s *Seen) AcceptKey(ctx context.Context, who door.Operator, name, print string) error {
	if err := who.May(door.Administer); err != nil {
		return err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return err
	}
	if _, err := s.targetNames(c, []string{name}); err != nil {
		return err
	}
	row, err := s.Store.Target(ctx, name)
	if err != nil {
		return err
	}
	switch {
	case row.Offered == "":
		return door.Clashing("%s shows no key that waits for acceptance; survey it first: roost survey %s", name, name)
	case print != row.Print:
		return door.Clashing("%s shows the key %s, not %s; nothing was accepted", name, row.Print, print)
	}
	place := PlaceOf(c.Plan.Targets[name])
	if row.OfferedFor != place {
		return door.Clashing("%s was moved to another address since it showed that key; survey it again: roost survey %s", name, name)
	}
	words := fmt.Sprintf("accepted the key %s of %s", print, name)
	if row.Accepted != "" {
		words += ", in place of another"
	}
	row.Accepted, row.For, row.Offered, row.OfferedFor, row.Print, row.State, row.Words = row.Offered, place, "", "", "", NotSurveyed, ""
	return s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		return []*store.Entry{{At: s.Now(), Kind: "key", Operator: who.Name, Target: name, Words: words}}, tx.PutTarget(ctx, row)
	})
}

// Standing is what is declared and, by target, how far it was surveyed and compared.
func (s *Seen) Standing(ctx context.Context) (*declared.Current, map[string]store.Target, error) {
	c, err := s.Current(ctx)
	if err != nil {
		return nil, nil, err
	}
	known, err := s.Store.Targets(ctx)
	return c, known, err
}
