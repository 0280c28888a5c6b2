package dialect

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"strconv"
	"strings"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/candidate"
	language "hen-roost/internal/dialect"
)

// draft is a session with a system that takes changes into a candidate, as the file says. It is a candidate.System.
type draft struct{ *session }

var _ candidate.System = draft{}

// ourWords is how the words of our commits begin.
const ourWords = "Hen Roost "

// wordsMost is how long the words of a commit are at the most.
const wordsMost = 100

// words are those of a commit: a mark by which it is known again and, where the system takes them, why it is made.
func (d draft) words() string {
	mark := ourWords + rand.Text()[:12]
	why := []rune(connect.Printable(d.access.Words))
	if len(why) == 0 {
		return mark
	}
	whole := mark + ", " + strings.TrimSpace(string(why[:min(len(why), wordsMost-len(mark)-2)]))
	if _, err := d.file.Quote.Word(whole); err != nil || d.file.Quote.Rule == "never" {
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

// with are the variables of a line about a commit.
func (d draft) with(words string) language.Vars {
	vars := d.vars()
	vars["words"], vars["minutes"] = words, strconv.Itoa(d.minutes())
	return vars
}

func (d draft) minutes() int { return cmp.Or(d.file.Draft.Minutes, 2) }

// Begin implements candidate.System.
func (d draft) Begin(ctx context.Context, acts []connect.Act) (connect.Carrier, error) {
	b, err := d.begun(ctx, acts)
	if err != nil {
		return nil, err
	}
	return drafted{b}, nil
}

// drafted is a batch in a candidate: our own login is proved with all of it.
type drafted struct{ *batch }

// ReadBack implements connect.Carrier.
func (b drafted) ReadBack(ctx context.Context, x *connect.Batch) (connect.View, error) {
	v, err := x.After(func([]connect.Act) (connect.View, error) { return b.list(ctx, b.kinds) })
	if err != nil {
		return nil, b.fail("change", err)
	}
	return v, nil
}

// Open implements candidate.System, unless somebody else has the candidate open.
func (d draft) Open(ctx context.Context) error {
	if l := d.file.Draft.State; l != nil {
		list, err := d.found(ctx, l)
		if err != nil {
			return err
		}
		for _, f := range list {
			if trial := f.Has["trial"]; len(trial) == 1 && trial[0] == "yes" {
				return failed("a change is on trial there; it ends by itself")
			}
			by := f.Has["by"]
			if len(by) == 1 && by[0] == d.access.As { // what an earlier conversation left in it is nothing to go on with
				if err := d.Drop(ctx); err != nil {
					return err
				}
			} else if len(by) == 1 {
				return failed("its candidate is open by " + connect.Printable(by[0]) + "; ask them to keep it or to drop it")
			}
		}
	}
	return d.lines(ctx, d.file.Draft.Begin)
}

// Difference implements candidate.System.
func (d draft) Difference(ctx context.Context) ([]string, error) {
	text, err := d.line(ctx, d.file.Draft.Differs, d.vars())
	var out []string
	for line := range strings.Lines(text) {
		if line = connect.Printable(strings.TrimRight(line, "\r\n")); strings.TrimSpace(line) != "" {
			out = append(out, line)
		}
	}
	return out, err
}

// Check implements candidate.System.
func (d draft) Check(ctx context.Context) error {
	_, err := d.line(ctx, d.file.Draft.Check, d.vars())
	return err
}

// Keep implements candidate.System.
func (d draft) Keep(ctx context.Context) error {
	_, err := d.line(ctx, d.file.Draft.Keep, d.with(d.words()))
	return err
}

// Drop implements candidate.System.
func (d draft) Drop(ctx context.Context) error {
	_, err := d.line(ctx, d.file.Draft.Drop, d.vars())
	return err
}

// Mark implements candidate.System: a trial is known by the words of its commit.
func (d draft) Mark() connect.Mark {
	return connect.Mark{Until: time.Now().Add(time.Duration(d.minutes())*time.Minute + 5*time.Second), Token: d.words()}
}

// Try implements candidate.System.
func (d draft) Try(ctx context.Context, mark connect.Mark) error {
	_, err := d.line(ctx, d.file.Draft.Trial, d.with(mark.Token))
	return err
}

// proofTries is how often our own login is tried while a change is on trial.
const proofTries = 3

// Again implements candidate.System.
func (d draft) Again(ctx context.Context) (candidate.Second, error) {
	var other *session
	var err error
	for range proofTries {
		if other, err = (Connector{File: d.file}).signIn(ctx, d.access, d.access.As, d.access.Secret); err == nil || errors.As(err,
			new(*connect.Refused)) {
			break
		}
	}
	if err != nil {
		return nil, err
	}
	return second{draft{other}}, nil
}

// second is a session while a change is on trial.
type second struct{ draft }

// Read implements candidate.Second.
func (s second) Read(ctx context.Context, acts []connect.Act) (connect.View, error) {
	return s.list(ctx, s.kindsOf(acts))
}

// Confirm implements candidate.Second.
func (s second) Confirm(ctx context.Context, mark connect.Mark) error {
	_, err := s.line(ctx, s.file.Draft.Confirm, s.with(mark.Token))
	return err
}

// Runs implements candidate.System.
func (d draft) Runs(ctx context.Context, mark connect.Mark) (bool, error) {
	list, err := d.found(ctx, d.file.Draft.State)
	if err != nil {
		return false, err
	}
	for _, f := range list {
		if trial := f.Has["trial"]; len(trial) == 0 || trial[0] != "yes" {
			continue
		}
		past, err := d.past(ctx)
		if n := len(past); err != nil || n == 0 || past[n-1].words == mark.Token { // with other words another operator began it
			return err == nil, err
		}
	}
	return false, nil
}

// Broken implements candidate.System.
func (draft) Broken(err error) bool { return language.Broken(err) }

// Fail implements candidate.System.
func (d draft) Fail(op string, err error) error { return d.fail(op, err) }
