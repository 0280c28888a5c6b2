package connect

import (
	"errors"

	"hen-roost/internal/core/model"
)

// Batch is acts that are judged against one reading before, carried out stage by stage, and answered out of one reading after.
type Batch struct {
	Acts    []Act
	Answers []Answer
	Trouble map[int]error // what the target said of an act, by its place
	Lost    error         // the connection broke while something was under way: nothing more is begun

	schema model.Schema
	before View
	view   *Expected
	begun  []int
}

// Begin begins with what was read of all that the acts speak of.
func Begin(schema model.Schema, acts []Act, before View) *Batch {
	return &Batch{Acts: acts, Answers: make([]Answer, len(acts)), Trouble: map[int]error{}, schema: schema, before: before,
		view: Expect(before)}
}

// Stages hands the places of the acts of each stage that are ready to be carried out to do; the others are answered.
// What is adopted is ready too, and nothing is to be done for it.
func (b *Batch) Stages(do func(ready []int)) {
	for from := 0; from < len(b.Acts) && b.Lost == nil; {
		to := from + 1
		for to < len(b.Acts) && b.Acts[to].Stage == b.Acts[from].Stage {
			to++
		}
		var ready []int
		for i := from; i < to; i++ {
			standing, words := Judge(b.Acts[i], b.schema, b.view)
			if standing != Ready {
				b.Answers[i] = Found(b.Acts[i], standing, words, b.before)
				continue
			}
			ready = append(ready, i)
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

// Conclude answers what was begun out of what was read after. An error says that this is not known, nor whether what was never
// begun will be.
func (b *Batch) Conclude(after View, err error) []Answer {
	for i, a := range b.Acts {
		switch {
		case b.Answers[i].Outcome != "":
		case a.Verb == model.AdoptIt: // nothing was sent: an account that is adopted stands as it was read
			b.Answers[i] = Verify(a, b.schema, b.before, "")
		case err != nil:
			b.Answers[i] = Answer{Outcome: Unsure, Words: err.Error()}
		default:
			words := ""
			if b.Trouble[i] != nil {
				words = b.Trouble[i].Error()
			}
			b.Answers[i] = Verify(a, b.schema, after, words)
		}
	}
	return b.Answers
}
