package seen

import (
	"bytes"
	"context"
	"errors"
	"slices"
	"strings"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service/door"
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
	for _, kind := range door.KeysOf(s.Kinds) {
		if t, ok := s.Kinds[kind].(connect.Taught); ok {
			d, err := s.dialect(ctx, kind, t.Lesson())
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
	t, ok := s.Kinds[kind].(connect.Taught)
	if !ok {
		return DialectDetail{}, door.NotKnown("dialect", kind, slices.DeleteFunc(door.KeysOf(s.Kinds), func(k string) bool {
			_, taught := s.Kinds[k].(connect.Taught)
			return !taught
		}))
	}
	return s.dialect(ctx, kind, t.Lesson())
}

func (s *Seen) dialect(ctx context.Context, kind string, l connect.Lesson) (DialectDetail, error) {
	c, err := s.Current(ctx)
	if err != nil && door.ProblemOf(err).Kind != door.NotYet {
		return DialectDetail{}, err
	}
	out := DialectDetail{Dialect{kind, s.Kinds[kind].Schema().About, l.File, len(l.Recordings), append([]string{}, l.Faults...),
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
	for _, c := range s.Kinds {
		if t, ok := c.(connect.Taught); ok && t.Lesson().Text == text {
			return true
		}
	}
	return false
}

// recordingMost bounds a recording.
const recordingMost = 4 << 20

// triedMost is how many accounts are named.
const triedMost = 20

// TryDialect looks at a target with a dialect that nobody relies on yet. What it types is the file's to say, so that it takes who
// may administer. The target is one that is declared, of whatever kind.
func (s *Seen) TryDialect(ctx context.Context, who door.Operator, target, file, text string) (TriedDialect, error) {
	out := TriedDialect{Objects: map[string]int{}, Accounts: []string{}}
	if err := who.May(door.Administer); err != nil {
		return out, err
	}
	if s.Teach == nil {
		return out, door.Clashing("this service cannot be taught dialects")
	}
	c, err := s.Current(ctx)
	if err != nil {
		return out, err
	}
	if _, err := s.targetNames(c, []string{target}); err != nil {
		return out, err
	}
	pupil, err := s.Teach(file, []byte(text))
	if err != nil {
		return out, door.Wrong("text", "%v", err)
	}
	if pupil.Schema().Runs != "" && !s.lesson(text) { // an administrator of Hen Roost is none of the host that it is run on
		return out, door.Clashing("%s has commands run on a host; put it into the folder of dialects first, and start the service anew",
			file)
	}
	_, access, err := s.Reach(ctx, target)
	if err != nil {
		return out, err
	}
	if !typesAsInstalled(pupil, s.Kinds[c.KindOf(target)]) {
		return out, door.Clashing("%s signs in otherwise than what is installed for targets of kind %s, and our secret is typed nowhere "+
			"else; put the file into the folder of dialects and start the service anew, then declare the target of its kind", file,
			c.KindOf(target))
	}
	strikes := access.Strikes()
	_, err = work.Survey(ctx, pupil, access, work.Sink{Put: func(list []model.Object) error {
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
		return out, door.Clashing("%s shows the key %s, which nobody has accepted yet", target, key.Print)
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
	if t, taught := installed.(connect.Taught); taught {
		return pupil.SignsIn() == t.SignsIn()
	}
	return pupil.SignsIn() == connect.SignsInBySSH && installed.Schema().Leads // as hosts do
}
