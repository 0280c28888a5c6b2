package seen

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
	"hen-roost/internal/work"
)

// Dialect is a kind of target that a file teaches.
type Dialect struct {
	Kind       string   `json:"kind"`
	About      string   `json:"about,omitempty"`
	File       string   `json:"file"`
	Recordings int      `json:"recordings" doc:"how many are beside it"`
	Faults     []string `json:"faults" doc:"what is wrong by its recordings, and with hostile values"`
	Targets    []string `json:"targets" doc:"those of the kind"`
}

// DialectDetail is a dialect with its text.
type DialectDetail struct {
	Dialect
	Text   string      `json:"text"`
	Beside []Recording `json:"beside" doc:"its recordings"`
}

// Recording is a conversation that was recorded.
type Recording struct {
	File string `json:"file"`
	Text string `json:"text"`
}

// Dialects lists the kinds of target that files teach.
func (s *Seen) Dialects(ctx context.Context, who door.Operator) ([]Dialect, error) {
	out := []Dialect{}
	if err := who.May(door.Look); err != nil {
		return out, err
	}
	for _, kind := range door.KeysOf(s.Kinds()) {
		if lesson := s.Kinds().Knows(kind).Lesson; lesson != nil {
			d, err := s.dialect(ctx, kind, *lesson)
			if err != nil {
				return out, err
			}
			out = append(out, d.Dialect)
		}
	}
	return out, nil
}

// Dialect tells one, with its text and its recordings.
func (s *Seen) Dialect(ctx context.Context, who door.Operator, kind string) (DialectDetail, error) {
	if err := who.May(door.Look); err != nil {
		return DialectDetail{}, err
	}
	lesson := s.Kinds().Knows(kind).Lesson
	if lesson == nil {
		return DialectDetail{}, door.NotKnown("dialect", kind, slices.DeleteFunc(door.KeysOf(s.Kinds()), func(k string) bool {
			return s.Kinds().Knows(k).Lesson == nil
		}))
	}
	return s.dialect(ctx, kind, *lesson)
}

func (s *Seen) dialect(ctx context.Context, kind string, l connect.Lesson) (DialectDetail, error) {
	c, err := s.Current(ctx)
	if err != nil && door.ProblemOf(err).Kind != door.NotYet {
		return DialectDetail{}, err
	}
	out := DialectDetail{Dialect{kind, s.Kinds()[kind].Schema().About, l.File, len(l.Recordings), append([]string{}, l.Faults...),
		[]string{}},
		l.Text, []Recording{}}
	for _, r := range l.Recordings {
		out.Beside = append(out.Beside, Recording(r))
	}
	if err == nil {
		for _, name := range door.KeysOf(c.Declared.Targets) {
			if c.Declared.Targets[name].Kind == kind {
				out.Targets = append(out.Targets, name)
			}
		}
	}
	return out, nil
}

// TriedDialect is what a dialect that was tried on a target made of its answers.
type TriedDialect struct {
	Objects   map[string]int `json:"objects" doc:"how many of each kind were read"`
	Accounts  []string       `json:"accounts" doc:"names of some"`
	Recording string         `json:"recording" doc:"the conversation, to be put beside the file, with our secret struck out"`
}

// lesson says whether a text is that of a dialect which the service was given.
func (s *Seen) lesson(text string) bool {
	for _, c := range s.Kinds() {
		if l := c.Knows().Lesson; l != nil && l.Text == text {
			return true
		}
	}
	return false
}

// recordingMost bounds a recording.
const recordingMost = 4 << 20

// triedMost is how many accounts are named.
const triedMost = 20

// TryRequest says what to look at with a dialect that nobody relies on yet.
type TryRequest struct {
	File, Text string
	Target     string // one that is declared; "" for a system that is not, which the others are of
	Address    string
	As         string
	Secret     string
	Key        string // fingerprint of its key, as somebody has compared it there
}

// TryDialect looks at a system with a dialect that nobody relies on yet. What it types is the file's to say, so that it takes who
// may administer. The system is a declared target, whose secret is typed where it is typed already, or one that is not declared,
// with a secret that is given and kept nowhere.
func (s *Seen) TryDialect(ctx context.Context, who door.Operator, q TryRequest) (TriedDialect, error) {
	out := TriedDialect{Objects: map[string]int{}, Accounts: []string{}}
	if err := who.May(door.Administer); err != nil {
		return out, err
	}
	if s.Teach == nil {
		return out, door.Clashing("this service cannot be taught dialects")
	}
	pupil, err := s.Teach(q.File, []byte(q.Text))
	if err != nil {
		return out, door.Wrong("text", "%v", err)
	}
	runs := pupil.Schema().Runs != ""
	if runs && (q.Target == "" || !s.lesson(q.Text)) { // an administrator of Hen Roost is none of the host that it is run on
		return out, door.Clashing("%s has commands run on a host; put it into the folder of dialects first, and try it on a declared "+
			"target", q.File)
	}
	var access connect.Access
	switch {
	case q.Target != "":
		if access, err = s.declaredTry(ctx, pupil, q); err != nil {
			return out, err
		}
	case q.Address == "" || q.As == "" || q.Secret == "":
		return out, door.Wrong("target", "name a declared target, or the address, login and secret of a system that is not declared")
	default:
		access = connect.Access{Target: q.Address, Address: q.Address, As: q.As, Secret: []byte(q.Secret), Key: q.Key, Wait: s.Wait}
	}
	if err := s.Write(ctx, func(*store.Tx) ([]*store.Entry, error) {
		return []*store.Entry{{At: s.Now(), Kind: "dialect", Operator: who.Name, Target: q.Target,
			Words: door.ClipTo(fmt.Sprintf("looks at %s as %s with %s", access.Target, access.As, q.File), 2000)}}, nil
	}); err != nil {
		return out, err
	}
	return s.tryOn(ctx, pupil, access)
}

// declaredTry says how a declared target is reached by a dialect that is tried, if that types its secret where it is typed already.
func (s *Seen) declaredTry(ctx context.Context, pupil connect.Pupil, q TryRequest) (connect.Access, error) {
	c, err := s.Current(ctx)
	if err != nil {
		return connect.Access{}, err
	}
	if _, err := s.targetNames(c, []string{q.Target}); err != nil {
		return connect.Access{}, err
	}
	_, access, err := s.Reach(ctx, q.Target)
	if err == nil && !typesAsInstalled(pupil, s.Kinds()[c.KindOf(q.Target)]) {
		err = door.Clashing("%s signs in otherwise than what is installed for targets of kind %s, and our secret is typed nowhere else; "+
			"try it with --address, --as and a secret of its own, or put the file into the folder of dialects and declare the target of "+
			"its kind", q.File, c.KindOf(q.Target))
	}
	return access, err
}

// tryOn looks at a system, and records what it says.
func (s *Seen) tryOn(ctx context.Context, pupil connect.Pupil, access connect.Access) (TriedDialect, error) {
	out := TriedDialect{Objects: map[string]int{}, Accounts: []string{}}
	strikes := access.Strikes()
	_, err := work.Survey(ctx, pupil, access, work.Sink{Put: func(list []model.Object) error {
		for _, o := range list {
			if out.Objects[o.Kind.String()]++; o.Kind == model.Account && len(out.Accounts) < triedMost {
				out.Accounts = append(out.Accounts, o.Name)
			}
		}
		return nil
	}})
	if err == nil {
		var b []byte
		b, err = pupil.Record(ctx, access)
		if len(b) > recordingMost {
			return out, door.Clashing("the recording has more than 4 MB; record a smaller system")
		}
		out.Recording = strikes.Text(string(bytes.ToValidUTF8(b, []byte("?"))))
	}
	var key *connect.KeyError
	if errors.As(err, &key) && key.Accepted == "" {
		return out, door.Clashing("%s shows the key %s, which nobody has accepted yet; compare it there, then accept it, or give it "+
			"with --key", access.Target, key.Print)
	}
	if err != nil {
		return out, door.Clashing("%s", strikes.Text(strings.TrimSpace(err.Error())))
	}
	return out, nil
}

// typesAsInstalled says whether a dialect that is tried types our secret only where the connector that is installed for the
// target's kind does.
func typesAsInstalled(pupil connect.Pupil, installed connect.Connector) bool {
	if installed == nil {
		return false
	}
	if l := installed.Knows().Lesson; l != nil {
		return pupil.Knows().Lesson.SignsIn == l.SignsIn
	}
	return pupil.Knows().Lesson.SignsIn == connect.SignsInBySSH && installed.Schema().Leads // as hosts do
}
