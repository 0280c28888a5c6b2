package dialect

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
	language "hen-roost/internal/dialect"
)

// whole is a session with a system that has a candidate.
type whole struct{ *session }

// ourWords is how the words of our commits begin.
const ourWords = "Hen Roost "

// wordsMost is how long the words of a commit are at the most.
const wordsMost = 100

// words are those of a commit: a mark by which it is known again and, where the system takes them, why it is made.
func (w whole) words() string {
	mark := ourWords + rand.Text()[:12]
	why := []rune(connect.Printable(w.access.Words))
	if len(why) == 0 {
		return mark
	}
	whole := mark + ", " + strings.TrimSpace(string(why[:min(len(why), wordsMost-len(mark)-2)]))
	if _, err := w.file.Quote.Word(whole); err != nil || w.file.Quote.Rule == "never" {
		return mark
	}
	return whole
}

// line types a line of the candidate's, and says what the system said where it did not.
func (s *session) line(ctx context.Context, t language.Template, vars language.Vars) (string, error) {
	if !t.Set() {
		return "", nil
	}
	line, err := t.Typed(vars, s.file.Quote)
	if err != nil {
		return "", err
	}
	answer, err := s.say(ctx, line, nil, vars, "")
	if err == nil {
		if why := s.file.Failure(answer); why != "" {
			err = failed(connect.Printable(why))
		}
	}
	return answer, err
}

// begin opens the candidate, unless somebody else has it open.
func (s *session) begin(ctx context.Context) error {
	if l := s.file.Draft.State; l != nil {
		list, err := s.found(ctx, l)
		if err != nil {
			return err
		}
		for _, f := range list {
			if trial := f.Has["trial"]; len(trial) == 1 && trial[0] == "yes" {
				return failed("a change is on trial there; it ends by itself")
			}
			by := f.Has["by"]
			if len(by) == 1 && by[0] == s.access.As { // what an earlier conversation left in it is nothing to go on with
				if _, err := s.line(ctx, s.file.Draft.Drop, s.vars()); err != nil {
					return err
				}
			} else if len(by) == 1 {
				return failed("its candidate is open by " + connect.Printable(by[0]) + "; ask them to keep it or to drop it")
			}
		}
	}
	return s.lines(ctx, s.file.Draft.Begin)
}

// staged is a batch as it stands in a candidate.
type staged struct {
	*batch
	kinds   map[model.ObjectKind]bool
	before  *seen
	changed bool  // something stands in the candidate
	no      error // why it cannot be opened
}

// stage judges acts, and types those that are ready into the candidate.
func (w whole) stage(ctx context.Context, acts []connect.Act) (*staged, error) {
	kinds := w.kindsOf(acts)
	before, err := w.list(ctx, kinds)
	if err != nil {
		return nil, err
	}
	x := &staged{batch: &batch{Batch: connect.Begin(w.file.Schema(), acts, before), session: w.session}, kinds: kinds, before: before}
	x.Stages(func(ready []int) {
		if !slices.ContainsFunc(ready, func(i int) bool { return acts[i].Verb != model.AdoptIt }) || x.no != nil {
			return
		}
		if !x.changed {
			if x.no = w.begin(ctx); language.Broken(x.no) {
				x.Lost = x.no
			}
			x.changed = x.no == nil
		}
		if x.no == nil {
			x.carry(ctx, ready)
		}
	})
	return x, nil
}

// drop throws the candidate away, or ends its trial.
func (w whole) drop(ctx context.Context) error {
	_, err := w.line(ctx, w.file.Draft.Drop, w.vars())
	return err
}

// apply is Apply in a candidate that is kept at once.
func (w whole) apply(ctx context.Context, acts []connect.Act) []connect.Answer {
	x, err := w.stage(ctx, acts)
	if err != nil {
		return connect.All(acts, connect.Unsure, w.fail("read", err).Error())
	}
	if x.no != nil && x.Lost == nil {
		return x.answers(x.before, x.no.Error())
	}
	if x.changed && x.Lost == nil {
		vars := w.vars()
		vars["words"] = w.words()
		if _, err := w.line(ctx, w.file.Draft.Keep, vars); language.Broken(err) {
			x.Lost = err
		} else if err != nil {
			if lost := w.drop(ctx); !language.Broken(lost) {
				return x.answers(x.before, err.Error())
			} else {
				x.Lost = lost
			}
		}
	}
	after, err := x.before, x.Lost
	if x.changed && err == nil {
		after, err = w.list(ctx, x.kinds)
	}
	if err != nil {
		err = w.fail("change", err)
	}
	return x.Conclude(after, err)
}

// answers concludes with what was read before: nothing was changed, and words say why.
func (x *staged) answers(v *seen, words string) []connect.Answer {
	for i, a := range x.Acts {
		if x.Trouble[i] == nil && a.Verb != model.AdoptIt {
			x.Trouble[i] = errors.New(words)
		}
	}
	return x.Conclude(v, nil)
}

// none answers that nothing of a batch was done: one act with why it cannot be, those that could have been as not tried.
func (x *staged) none(why string) []connect.Answer {
	answers := x.answers(x.before, "")
	for i := range answers {
		if x.Acts[i].Verb != model.AdoptIt && answers[i].Outcome == connect.Failed && (x.Trouble[i] == nil || x.Trouble[i].Error() == "") {
			answers[i] = connect.Answer{Outcome: connect.NotTried, Words: why}
		}
	}
	return answers
}

// Whole implements connect.Trial.
func (w whole) Whole(ctx context.Context, acts []connect.Act, tell func(connect.Mark) error) []connect.Answer {
	x, err := w.stage(ctx, acts)
	unsure := func(err error) []connect.Answer {
		return connect.All(acts, connect.Unsure, w.fail("change", err).Error())
	}
	switch {
	case err != nil:
		return unsure(err)
	case x.Lost != nil:
		return unsure(x.Lost)
	case x.no != nil:
		return x.none(x.no.Error())
	case !x.changed:
		return x.Conclude(x.before, nil)
	}
	trial := false
	back := func(why string) []connect.Answer {
		if err := w.drop(ctx); language.Broken(err) || trial && err != nil { // then it goes back by itself, and not before
			return unsure(err)
		}
		return x.none(why)
	}
	if bad := x.bad(); bad != "" {
		return back("the target takes all of it or nothing: " + bad)
	}
	if _, err := w.line(ctx, w.file.Draft.Check, w.vars()); language.Broken(err) {
		return unsure(err)
	} else if err != nil {
		return back("the target's own check: " + err.Error())
	}
	minutes := cmp.Or(w.file.Draft.Minutes, 2)
	vars := w.vars()
	vars["words"], vars["minutes"] = w.words(), strconv.Itoa(minutes)
	mark := connect.Mark{Until: time.Now().Add(time.Duration(minutes)*time.Minute + 5*time.Second), Token: vars["words"].(string)}
	if err := tell(mark); err != nil {
		return back(err.Error())
	}
	if _, err := w.line(ctx, w.file.Draft.Trial, vars); language.Broken(err) {
		return unsure(err)
	} else if err != nil {
		return back(err.Error())
	}
	trial = true
	after, other, why := w.prove(ctx, x.kinds)
	if other != nil {
		defer other.Close()
	}
	if why == "" {
		found := slices.Clone(x.Answers)
		answers := x.Conclude(after, nil)
		if bad := slices.IndexFunc(answers, func(a connect.Answer) bool {
			return a.Outcome == connect.Failed ||
				a.Outcome == connect.Moved
		}); bad >= 0 {
			why = "the target takes all of it or nothing: " + answers[bad].Words
		} else if _, err := other.line(ctx, w.file.Draft.Confirm, vars); err == nil {
			return answers
		} else if language.Broken(err) {
			return unsure(err)
		} else {
			why = "gone back: after it our own login could not confirm it: " + err.Error()
		}
		x.Answers = found
	}
	return back(why)
}

// bad is why not all of a batch can be, "" when it can.
func (x *staged) bad() string {
	for i, a := range x.Acts {
		if x.Trouble[i] != nil {
			return fmt.Sprintf("%s %s: %v", a.Verb, a.Name, x.Trouble[i])
		}
		if o := x.Answers[i].Outcome; o == connect.Moved || o == connect.Failed {
			return fmt.Sprintf("%s %s: %s", a.Verb, a.Name, x.Answers[i].Words)
		}
	}
	return ""
}

// proofTries is how often our own login is tried while a change is on trial.
const proofTries = 3

// prove has our own login let in anew while a change is on trial, and reads on that connection what was changed. why says what
// keeps the change from being confirmed.
func (w whole) prove(ctx context.Context, kinds map[model.ObjectKind]bool) (after *seen, other *session, why string) {
	var err error
	for range proofTries {
		if other, err = (Connector{File: w.file}).signIn(ctx, w.access, w.access.As, w.access.Secret); err == nil || errors.As(err,
			new(*connect.Refused)) {
			break
		}
	}
	if err != nil {
		return nil, nil, "gone back: after it our own login was let in no more: " + connect.Printable(err.Error())
	}
	if after, err = other.list(ctx, kinds); err != nil {
		return nil, other, "gone back: after it our own login could not read it: " + connect.Printable(err.Error())
	}
	return after, other, ""
}

// Settle implements connect.Trial: a trial of ours that still runs is ended.
func (w whole) Settle(ctx context.Context, mark connect.Mark) error {
	list, err := w.found(ctx, w.file.Draft.State)
	if err != nil {
		return w.fail("end the trial", err)
	}
	for _, f := range list {
		if trial := f.Has["trial"]; len(trial) == 0 || trial[0] != "yes" {
			continue
		}
		past, err := w.past(ctx)
		if err != nil {
			return w.fail("end the trial", err)
		}
		if n := len(past); n > 0 && past[n-1].words != mark.Token {
			continue // it is somebody else's
		}
		if err := w.drop(ctx); err != nil {
			return w.fail("end the trial", err)
		}
	}
	return nil
}

// Preview implements connect.Offers: the system's own difference of a candidate that is thrown away.
func (w whole) Preview(ctx context.Context, acts []connect.Act) ([]string, error) {
	x, err := w.stage(ctx, acts)
	if err == nil {
		err = errors.Join(x.Lost, x.no)
	}
	if err != nil {
		return nil, w.fail("look at a candidate", err)
	}
	if bad := x.bad(); bad != "" {
		return nil, w.fail("look at a candidate", errors.Join(errors.New("it takes all of it or nothing: "+bad), w.drop(ctx)))
	}
	if !x.changed {
		return nil, nil
	}
	text, err := w.line(ctx, w.file.Draft.Differs, w.vars())
	if err = errors.Join(err, w.drop(ctx)); err != nil {
		return nil, w.fail("look at a candidate", err)
	}
	var out []string
	for line := range strings.Lines(text) {
		if line = connect.Printable(strings.TrimRight(line, "\r\n")); strings.TrimSpace(line) != "" {
			out = append(out, line)
		}
	}
	return out, nil
}
