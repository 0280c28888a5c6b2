package connect

import (
	"context"
	"errors"

	"hen-roost/internal/core/model"
)

// Carrier carries out acts on a target, and is a view of what they speak of as it was read before.
type Carrier interface {
	View
	// Judge says where the target stands towards an act once those before it are carried out, which expected shows. See
	// the function Judge.
	Judge(act Act, expected View) (Standing, string)
	// Carry carries out the acts of one stage that are ready, told by their places. What the target says against one is its
	// trouble; when the connection is lost the batch is, and nothing more is begun. What is adopted is ready too, and
	// nothing is to be done for it.
	Carry(ctx context.Context, b *Batch, ready []int)
	// ReadBack ends what was begun, and reads what the acts that were sent speak of. It is called once, whatever became of
	// them; see Batch.After. An error says that what became of them is not known.
	ReadBack(ctx context.Context, b *Batch) (View, error)
	// Answer says what became of an act by what was read back, and by what the target said against it; nil: nothing. See
	// the function Verify.
	Answer(act Act, after View, trouble error) Answer
}

// Apply carries out acts in the given order and returns an answer for each,
// in the same order; it never returns fewer, and keeps nothing of acts. No two
// of them change the same of one object, or change one that another removes. Each
// is judged against what the target holds at that moment, and answered out of what it holds when all
// were carried out. When ctx ends, what has begun may or may
// not hold: those acts are answered Unsure, and the session can do nothing
// more than Close. Unsure means that the act may have been carried out: open
// anew and apply it again with Again set.
func Apply(ctx context.Context, s Session, acts []Act) []Answer {
	c, err := s.Begin(ctx, acts)
	var no *Declined
	switch {
	case errors.As(err, &no):
		return All(acts, Failed, err.Error())
	case err != nil:
		return All(acts, Unsure, err.Error())
	}
	b := NewBatch(acts, c)
	b.Stages(func(ready []int) { c.Carry(ctx, b, ready) })
	after, err := c.ReadBack(ctx, b)
	return b.Conclude(after, err)
}

// Lookup reads what acts speak of, by name, and carries none of them out.
func Lookup(ctx context.Context, s Session, acts []Act) (View, error) {
	c, err := s.Begin(ctx, acts)
	if err != nil {
		return nil, err
	}
	b := NewBatch(acts, c)
	for i, a := range acts {
		if a.Moves() { // who is in a set may be told by what is read after alone
			b.begun = append(b.begun, i)
		}
	}
	return c.ReadBack(ctx, b)
}

// About are acts that speak of objects, and ask nothing of them.
func About(names ...model.Named) []Act {
	acts := make([]Act, len(names))
	for i, n := range names {
		acts[i] = Act{Act: model.Act{Object: n.Kind, Name: n.Name}}
	}
	return acts
}

// Declined says that a target takes no acts now, and why: nothing was begun.
type Declined struct{ Err error }

func (d *Declined) Error() string { return d.Err.Error() }
func (d *Declined) Unwrap() error { return d.Err }

// Usual judges and answers as most kinds of target have it, by their schema.
type Usual struct{ Schema model.Schema }

// Judge implements Carrier.
func (u Usual) Judge(act Act, expected View) (Standing, string) {
	return Judge(act, u.Schema, expected)
}

// Answer implements Carrier.
func (u Usual) Answer(act Act, after View, trouble error) Answer {
	words := ""
	if trouble != nil {
		words = trouble.Error()
	}
	return Verify(act, u.Schema, after, words)
}

// Batch is acts that are judged against one reading before, carried out stage by stage, and answered out of one reading after.
type Batch struct {
	Acts    []Act
	Answers []Answer
	Trouble map[int]error // what the target said of an act, by its place
	Lost    error         // the connection broke while something was under way: nothing more is begun

	carrier Carrier
	view    *Expected
	begun   []int
}

// NewBatch is a batch of which nothing is begun.
func NewBatch(acts []Act, c Carrier) *Batch {
	return &Batch{Acts: acts, Answers: make([]Answer, len(acts)), Trouble: map[int]error{}, carrier: c, view: Expect(c)}
}

// Expected is the target as it will be when what was begun is carried out.
func (b *Batch) Expected() View { return b.view }

// Stages hands the places of the acts of each stage that are ready to be carried out to do; the others are answered.
func (b *Batch) Stages(do func(ready []int)) {
	for from := 0; from < len(b.Acts) && b.Lost == nil; {
		to := from + 1
		for to < len(b.Acts) && b.Acts[to].Stage == b.Acts[from].Stage {
			to++
		}
		var ready []int
		for i := from; i < to; i++ {
			standing, words := b.carrier.Judge(b.Acts[i], b.view)
			switch standing {
			case Ready:
				ready = append(ready, i)
			case Barred:
				b.Answers[i] = Answer{Outcome: Failed, Words: words}
			default:
				b.Answers[i] = Found(b.Acts[i], standing, words, b.carrier)
			}
		}
		for _, i := range ready {
			b.view.Take(b.Acts[i].Act)
		}
		b.begun = append(b.begun, ready...)
		do(ready)
		from = to
	}
}

// Refuse says of acts why none of them is asked of the target.
func (b *Batch) Refuse(places []int, why string) {
	for _, i := range places {
		if b.Acts[i].Verb != model.AdoptIt {
			b.Trouble[i] = errors.New(why)
		}
	}
}

// Sent are the acts of which the target was asked something.
func (b *Batch) Sent() (out []Act) {
	for _, i := range b.begun {
		if b.Acts[i].Verb != model.AdoptIt {
			out = append(out, b.Acts[i])
		}
	}
	return out
}

// After reads what was sent once more, unless nothing was, or the connection is lost.
func (b *Batch) After(read func(sent []Act) (View, error)) (View, error) {
	sent := b.Sent()
	switch {
	case b.Lost != nil:
		return nil, b.Lost
	case sent == nil:
		return b.carrier, nil
	}
	return read(sent)
}

// Conclude answers what was begun out of what was read after. An error says that this is not known, nor whether what was never
// begun will be.
func (b *Batch) Conclude(after View, err error) []Answer {
	touched := map[model.Named]bool{}
	for _, a := range b.Sent() {
		touched[a.Of()] = true
	}
	for i, a := range b.Acts {
		switch {
		case b.Answers[i].Outcome != "":
		case a.Verb == model.AdoptIt && !touched[a.Of()]: // nothing was sent: an account that is adopted stands as it was read
			b.Answers[i] = b.carrier.Answer(a, b.carrier, b.Trouble[i])
		case err != nil:
			b.Answers[i] = Answer{Outcome: Unsure, Words: err.Error()}
		default:
			b.Answers[i] = b.carrier.Answer(a, after, b.Trouble[i])
		}
	}
	return b.Answers
}
