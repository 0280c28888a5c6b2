package dialect

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"
)

const (
	answerMost = 64 << 20             // bytes of one answer
	still      = 5 * time.Millisecond // nothing more may come for so long after what looks like a prompt
	moreMost   = 1_000_000            // how often one answer may wait in its middle
	waitsMost  = 15                   // how long all of an answer may take, in waits: one that drips has somebody's turn meanwhile
)

// Refusal says that the system turned a login away.
type Refusal struct{ Said string }

func (r *Refusal) Error() string {
	if r.Said == "" {
		return "the login is refused"
	}
	return "the login is refused: " + r.Said
}

// ErrSilent says that a system did not answer in time.
var ErrSilent = errors.New("it does not answer")

// Talk is a conversation with a system. One goroutine holds it.
type Talk struct {
	file  *File
	in    io.Writer
	wait  time.Duration
	heard chan string // what comes; closed when nothing more does
	done  chan struct{}
	over  sync.Once
	err   error // why, once it is closed
	began bool
	twice bool // two prompts end the answer
	// Heard is told all that is typed and all that is answered to it, for recordings; secrets are left out.
	Heard func(said, answer string)
}

// NewTalk begins a conversation on a connection. wait is how long any single answer may take.
func NewTalk(f *File, conn io.ReadWriter, wait time.Duration) *Talk {
	t := &Talk{file: f, in: conn, wait: wait, heard: make(chan string, 16), done: make(chan struct{})}
	go func() {
		defer close(t.heard)
		buf := make([]byte, 32<<10)
		for {
			n, err := conn.Read(buf)
			if n > 0 {
				select {
				case t.heard <- string(buf[:n]):
				case <-t.done:
					return
				}
			}
			if err != nil {
				t.err = err
				return
			}
		}
	}()
	return t
}

// SignIn answers what is asked before the first prompt, and types what comes first. Its error is a *Refusal where the login is
// turned away.
func (t *Talk) SignIn(ctx context.Context, login string, secret []byte) error {
	s := t.file.Session
	vars := Vars{"login": login, "secret": string(secret)}
	if t.twice = s.Twice && len(s.SignIn) == 0; t.twice {
		if _, err := io.WriteString(t.in, "\n"); err != nil {
			return err
		}
	}
	answer, err := t.until(ctx, "", s.SignIn, vars)
	if err != nil {
		return err
	}
	if words, refused := t.refused(answer); refused {
		return &Refusal{words}
	}
	t.began = true
	for _, line := range s.Begin {
		if _, err := t.Say(ctx, line.Raw, nil, nil); err != nil {
			return err
		}
	}
	return nil
}

func (t *Talk) refused(text string) (words string, yes bool) {
	if t.file.Session.Refuse.Set() {
		for line := range strings.Lines(text) {
			if line = strings.TrimSpace(line); t.file.Session.Refuse.MatchString(line) {
				return line, true
			}
		}
	}
	return "", false
}

// Say types a line and returns what is answered, without the echo and the prompt. What it asks is answered as ask says.
func (t *Talk) Say(ctx context.Context, line string, ask []Exchange, vars Vars) (string, error) {
	if strings.ContainsAny(line, "\r\n") {
		return "", errors.New("a line break cannot be typed")
	}
	end := "\n"
	t.twice = t.file.Session.Twice && t.began && len(ask) == 0 && line != "" // what is asked would take it for its answer
	if t.twice {
		end = "\n\n"
	}
	if _, err := io.WriteString(t.in, line+end); err != nil {
		return "", err
	}
	answer, err := t.until(ctx, line, ask, vars)
	if t.Heard != nil {
		t.Heard(line, answer)
	}
	return answer, err
}

// until reads until the system waits at its prompt, and answers what it asks on the way.
func (t *Talk) until(ctx context.Context, said string, ask []Exchange, vars Vars) (string, error) {
	s := screen{wide: t.file.Session.Wide}
	asked, more := 0, 0
	quiet, all := time.NewTimer(t.wait), time.NewTimer(waitsMost*t.wait)
	defer quiet.Stop()
	defer all.Stop()
	for {
		settled := false
		if t.twice && s.twice() && t.file.Session.Prompt.MatchString(s.now()) {
			return t.said(s.lines[:len(s.lines)-1], said), nil
		}
		switch {
		case matching(ask, s.now()) != nil: // it was asked for: nothing that is listed can look so
			quiet.Reset(0)
			settled = true
		case t.waits(s.now()) && !(t.twice && t.file.Session.Prompt.MatchString(s.now())):
			quiet.Reset(still)
			settled = true
		default:
			quiet.Reset(t.wait)
		}
		select {
		case <-ctx.Done():
			return "", ctx.Err()
		case <-all.C:
			return "", fmt.Errorf("its answer has not come to an end within %s", waitsMost*t.wait)
		case text, open := <-t.heard:
			if !open && settled && t.file.Session.Prompt.Set() && t.file.Session.Prompt.MatchString(s.now()) {
				return t.said(s.whole(), said), nil // it was all said before the end
			}
			if !open {
				words := strings.Join(s.lines, "\n") + "\n" + s.now()
				if r, refused := t.refused(words); refused && !t.began {
					return "", &Refusal{r}
				}
				return "", fmt.Errorf("the conversation broke off: %w", cause(t.err))
			}
			if s.write(text); s.bytes > answerMost {
				return "", fmt.Errorf("its answer has more than %d MB", answerMost>>20)
			}
			continue
		case <-quiet.C:
		}
		if !settled {
			return "", fmt.Errorf("%w within %s; it waits at %q, which is no prompt", ErrSilent, t.wait, clip(s.now()))
		}
		now := s.now()
		if t.file.Session.Prompt.MatchString(now) {
			return t.said(s.whole(), said), nil
		}
		if x := matching(t.file.Session.More, now); x != nil {
			if more++; more > moreMost {
				return "", errors.New("its answer has no end")
			}
			s.forget()
			if err := t.reply(x, vars, ""); err != nil {
				return "", err
			}
			continue
		}
		x := matching(ask, now)
		if asked++; asked > 20 {
			if words, refused := t.refused(strings.Join(s.lines, "\n")); refused {
				return "", &Refusal{words}
			}
			return "", fmt.Errorf("it asks again and again: %q", clip(now))
		}
		if words, refused := t.refused(strings.Join(s.lines, "\n")); refused && !t.began { // it would ask for another login
			return "", &Refusal{words}
		}
		s.forget()
		end := "\n"
		if t.twice = t.file.Session.Twice && t.began && asked == len(ask); t.twice { // nothing more is asked
			end = "\n\n"
		}
		if err := t.reply(x, vars, end); err != nil {
			return "", err
		}
	}
}

func cause(err error) error {
	if err == nil {
		return io.ErrUnexpectedEOF
	}
	return err
}

func (t *Talk) waits(now string) bool {
	return t.file.Session.Prompt.Set() && t.file.Session.Prompt.MatchString(now) || matching(t.file.Session.More, now) != nil
}

func matching(list []Exchange, now string) *Exchange {
	if now == "" {
		return nil
	}
	if i := slices.IndexFunc(list, func(x Exchange) bool { return x.At.MatchString(now) }); i >= 0 {
		return &list[i]
	}
	return nil
}

// reply types what an exchange says. It is no word of a line: a password is typed as it is.
func (t *Talk) reply(x *Exchange, vars Vars, end string) error {
	text, err := x.Say.Plain(vars)
	if err != nil {
		return err
	}
	if strings.ContainsAny(text, "\r\n") {
		return errors.New("what is to be typed holds a line break")
	}
	_, err = io.WriteString(t.in, text+end)
	return err
}

// said is what was answered, without what was typed.
func (t *Talk) said(lines []string, typed string) string {
	return strings.Join(t.unechoed(lines, typed), "\n")
}

// unechoed leaves out of an answer the line that was typed, which a system may break where its lines end.
func (t *Talk) unechoed(lines []string, said string) []string {
	if !t.file.Session.Echo || said == "" {
		return lines
	}
	left := strings.ReplaceAll(said, " ", "")
	for i, l := range lines {
		l = strings.ReplaceAll(l, " ", "")
		if l == "" || !strings.HasPrefix(left, l) {
			return lines[i:]
		}
		if left = left[len(l):]; left == "" {
			return lines[i+1:]
		}
	}
	return nil
}

// endFor is how long what comes last may take to be typed.
const endFor = 300 * time.Millisecond

// End types what comes last, without waiting for what is answered. The connection is the caller's to close.
func (t *Talk) End() {
	t.over.Do(func() {
		typed := make(chan struct{})
		go func() {
			defer close(typed)
			for _, line := range t.file.Session.End {
				_, _ = io.WriteString(t.in, line.Raw+"\n")
			}
		}()
		select {
		case <-typed:
		case <-time.After(endFor): // nobody takes it
		}
		close(t.done)
	})
}

// Failure is what an answer says of a failure; "" for none.
func (f *File) Failure(answer string) string {
	for line := range strings.Lines(answer) {
		line = strings.TrimRight(line, "\r\n")
		for _, p := range f.Fails {
			if m := p.FindStringSubmatch(line); m != nil {
				if i := p.SubexpIndex("why"); i >= 0 && m[i] != "" {
					return m[i]
				}
				return strings.TrimSpace(line)
			}
		}
	}
	return ""
}
