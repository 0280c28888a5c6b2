package rounds

import (
	"encoding/json"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/round"
	"hen-roost/internal/store"
	"hen-roost/internal/work"
)

// batchEnd is all that is to be stored at the end of a batch.
type batchEnd struct {
	store.Ending
	entries []*store.Entry
}

// ending works out what the results of a batch on one target leave to be
// stored: outcomes, what was read back, whose accounts are now, what was put
// right, and the entries of the record. It asks nobody.
func ending(r store.Round, results []work.Result, schema model.Schema, at time.Time) batchEnd {
	e := batchEnd{Ending: store.Ending{Round: r.ID, Target: results[0].Target, At: at, Steps: make([]store.Step, len(results))},
		entries: make([]*store.Entry, len(results))}
	read := lastRead{seen: map[model.Named]*model.Object{}}
	for i, res := range results {
		e.Steps[i] = store.Step{Seq: res.Seq, Outcome: string(res.Outcome), Words: res.Words}
		e.entries[i] = stepEntry(r, res, at)
		read.take(res)
		switch {
		case res.Outcome != connect.Done:
		case r.Bulk || r.Undoes != 0: // changed on purpose: what differs after it is not contested
			for _, part := range res.Act.Act.Parts() {
				e.Forget = append(e.Forget, part.Key(), opposite(part).Key(), making(part).Key())
			}
			if r.Bulk && round.Shuts(res.Act.Act) {
				e.Purpose = append(e.Purpose, opposite(res.Act.Act).Key())
			}
		case res.Verb == model.AdoptIt: // nothing was put right that could come back
		default:
			for _, part := range res.Act.Act.Parts() {
				e.Mended = append(e.Mended, part.Key())
			}
		}
		if res.Answer.In != nil {
			e.Moves = append(e.Moves, store.Move{Set: res.Of(), Member: model.Named{Kind: res.MemberKind, Name: res.Member},
				In: *res.Answer.In})
		}
		if res.Verb == model.Remove && res.Outcome == connect.Done && res.Act.After().One(model.Home) == model.HomeSealed {
			e.Archives = append(e.Archives, awaited(res, at))
		}
		if round.Removes(res.Act.Act) && res.Outcome == connect.Done {
			e.Removed = append(e.Removed, res.Act.Act)
		}
		owner(res, schema, &e.Ending)
		e.Handed = append(e.Handed, handed(res)...)
	}
	e.Read, e.Gone = read.sorted()
	return e
}

// awaited is the home that went with a step, and waits on its target to be fetched.
func awaited(res work.Result, at time.Time) store.Archive {
	before := res.Act.Before()
	a := store.Archive{Target: res.Target, Account: res.Name, Number: before.One(model.Number), User: res.User, At: at}
	if res.Act.Object == model.HomeKind {
		a.Account = before.One(model.HeldBy)
	}
	return a
}

// lastRead are objects as they were read back last: one changes from step to step of a batch.
type lastRead struct {
	seen  map[model.Named]*model.Object // nil: removed
	order []model.Named
}

func (l *lastRead) take(res work.Result) {
	for _, o := range res.Answer.Made {
		l.put(model.Named{Kind: o.Kind, Name: o.Name}, &o)
	}
	for _, n := range res.Answer.Gone {
		l.put(n, nil)
	}
	n, o := res.Of(), res.Answer.Object
	removed := res.Verb == model.Remove && o == nil && held(string(res.Outcome))
	if o == nil && !removed {
		return
	}
	l.put(n, o)
}

func (l *lastRead) put(n model.Named, o *model.Object) {
	if _, known := l.seen[n]; !known {
		l.order = append(l.order, n)
	}
	l.seen[n] = o
}

// sorted returns those that are there, and those that are gone.
func (l *lastRead) sorted() (there []model.Object, gone []model.Named) {
	for _, n := range l.order {
		if o := l.seen[n]; o != nil {
			there = append(there, *o)
		} else {
			gone = append(gone, n)
		}
	}
	return there, gone
}

// owner notes whose an account is after a step that gave it to somebody, or took it away.
func owner(res work.Result, schema model.Schema, e *store.Ending) {
	if !held(string(res.Outcome)) || res.Moves() || res.Act.Object != model.Account || res.User == "" {
		return
	}
	_, rest := schema.Account().Login(res.Name)
	l := model.Link{Target: res.Target, User: res.User, Name: res.Name, Rest: rest}
	from, to := "", res.User // whose it was, where it was somebody's, and is
	if after := res.After(); res.Verb == model.AdoptIt && after.Has(model.Owner) {
		from, to = owned(res.Before().Get(model.Owner)), owned(after.Get(model.Owner))
	}
	if res.Verb == model.Remove {
		from, to = res.User, ""
	}
	if from != "" && from != to {
		l.User = from
		e.Taken = append(e.Taken, l)
	}
	if to != "" && (res.Verb == model.AdoptIt || res.Verb == model.Create) && res.Answer.Object != nil {
		l.User, l.Unique = to, res.Answer.Object.Unique
		e.Given = append(e.Given, l)
	}
}

// owned is who an account belongs to; "" for nobody.
func owned(v []string) string {
	if len(v) != 1 || v[0] == round.Nobody {
		return ""
	}
	return v[0]
}

// handed is what became of the sealed values that a step sets.
func handed(res work.Result) (out []store.HandedOut) {
	for _, c := range res.Changes {
		if c.Sealed == "" {
			continue
		}
		h := store.HandedOut{Sealed: c.Sealed, Target: res.Target, Name: res.Name, State: store.NotHanded, Words: res.Words}
		switch {
		case res.Outcome == connect.Done && res.Proof == connect.Proved:
			h.State = store.HandedProved
		case res.Outcome == connect.Done:
			if h.State = store.Handed; c.Attribute == model.PasswordHash {
				h.Words = string(connect.NotProved) + ": nobody here knows what it is the hash of"
			}
		case res.Outcome == connect.OutOfReach && res.Again: // it may be set
			h.State = store.HandedUnsure
		case h.Words == "":
			h.Words = string(res.Outcome)
		}
		out = append(out, h)
	}
	return out
}

// opposite is the act that would put right what this one changes.
func opposite(a model.Act) model.Act {
	if v, ok := map[model.Verb]model.Verb{model.JoinIt: model.LeaveIt, model.LeaveIt: model.JoinIt, model.Disable: model.Enable,
		model.Enable: model.Disable}[a.Verb]; ok {
		a.Verb = v
	}
	return a
}

// making is the act that would make again what an act takes away: what it removes, or what it calls otherwise.
func making(a model.Act) model.Act {
	if was := a.Formerly(); was != "" {
		a.Name = was
	}
	if a.Verb == model.Remove {
		a.Verb = model.Create
	}
	return a
}

func stepEntry(r store.Round, res work.Result, now time.Time) *store.Entry {
	body, _ := json.Marshal(struct {
		Step    int            `json:"step"`
		Outcome string         `json:"outcome"`
		Before  map[string]any `json:"before,omitempty"`
		After   map[string]any `json:"after,omitempty"`
	}{res.Seq, string(res.Outcome), side(res.Act.Changes, true), side(res.Act.Changes, false)})
	words := round.Say(res.Act.Act) + ": " + string(res.Outcome)
	if res.Words != "" {
		words += ", " + res.Words
	}
	return &store.Entry{At: now, Kind: "step", Operator: r.RunBy, Target: res.Target, User: res.User, Round: r.ID, Because: r.Because,
		Words: words, Body: body}
}

func side(changes []model.Change, before bool) map[string]any {
	out := map[string]any{}
	for _, c := range changes {
		v := c.After
		if c.Sealed != "" {
			v = []string{"(sealed)"}
		}
		if before {
			v = c.Before
		}
		if v != nil {
			out[c.Attribute] = v
		}
	}
	return out
}
