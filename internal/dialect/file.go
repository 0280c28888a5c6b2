// Package dialect is the language in which a system that is run by typing at it is taught to Hen Roost: one file says how to
// reach it, what to type to list, make and change what it holds, and how its answers are read. The format is our own; it is
// described, with an example worked out, in docs/dialects.md.
//
// The package knows no network: it reads files, makes what is typed out of values, reads answers, and holds conversations on
// whatever is handed to it. Recordings of conversations are replayed by it, so that a file can be checked without its system.
package dialect

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"hen-roost/internal/core/model"
)

// File is one dialect. Read makes one; it is not changed afterwards, and may be used by several goroutines.
type File struct {
	Version int      `yaml:"dialect"`
	Kind    string   `yaml:"kind"`  // of target, that it teaches
	About   string   `yaml:"about"` // what such a system is
	Reach   Reach    `yaml:"reach"`
	Needs   []string `yaml:"settings"` // that a target must have; ${settings.…} is their values
	Session Session
	Quote   Quote
	Fails   []Pattern         `yaml:"fails"` // lines of an answer that tell of failure; a part named why says why
	Fold    bool              `yaml:"fold-names"`
	System  []string          `yaml:"system"`  // patterns of names that such systems have for themselves
	Factory []string          `yaml:"factory"` // and that they are delivered with
	Strike  []Pattern         `yaml:"strike"`  // what is struck out of recordings: what nobody is to read
	Target  *Listing          `yaml:"target"`  // what the system tells of itself
	Holds   map[string]*Holds `yaml:"holds"`   // by kind of object
	Signed  *Signed           `yaml:"signed-in"`
	History *Listing          `yaml:"history"` // what was changed there, the oldest first: name, at, by, words, and account: whose
	LetsIn  *LetsIn           `yaml:"lets-in"`
	Actions *Actions          `yaml:"actions"`  // what they take
	Mode    *Mode             `yaml:"changing"` // in which alone something can be changed
	Draft   *Draft            `yaml:"candidate"`
	Job     *Job              `yaml:"job"`

	name   string
	schema model.Schema
}

// Reach says how to come to such a system.
type Reach struct {
	Over string `yaml:"over"` // ssh; tcp; host: by programs on the host that the target is reached via; here: by programs on our own
	As   string `yaml:"as"`   // exec: a command each; or session: one conversation
}

// Session is how a conversation goes.
type Session struct {
	SignIn []Exchange `yaml:"sign-in"` // over TCP: what is asked before the first prompt
	Refuse Pattern    `yaml:"refuses"` // what is said to a login that is turned away
	Prompt Pattern    `yaml:"prompt"`  // the line on which it waits to be told something
	More   []Exchange `yaml:"more"`    // where it waits in the middle of an answer
	Echo   bool       `yaml:"echo"`    // it repeats what is typed
	Twice  bool       `yaml:"twice"`   // an empty line is typed behind each: a second prompt shows that the first was one
	Wide   int        `yaml:"wide"`    // characters at which it breaks a line, which goes on in the next; 0: it breaks none
	Begin  []Text     `yaml:"begin"`   // typed at first
	End    []Text     `yaml:"end"`     // and at last
}

// SignsIn says how such a system is come to and where our secret is typed in it: "ssh" where SSH alone is told it.
func (f *File) SignsIn() string {
	out := f.Reach.Over
	for _, x := range slices.Concat(f.Session.SignIn, f.Session.More) {
		if strings.Contains(x.Say.Raw, "secret") {
			out += fmt.Sprintf("; at %q it types %q", x.At.String(), x.Say.Raw)
		}
	}
	return out
}

// LetsIn is how the system is asked whether it would let somebody in.
type LetsIn struct {
	Say Template `yaml:"say"`
	Yes Pattern  `yaml:"yes"` // a line of the answer
	No  Pattern  `yaml:"no"`  // a line of the answer, perhaps with why
}

// Told is what an answer tells: yes, no and why, or nothing.
func (l *LetsIn) Told(answer string) (in, why string) {
	for line := range strings.Lines(answer) {
		line = strings.TrimRight(line, "\r\n")
		if m := l.No.FindStringSubmatch(line); m != nil {
			if i := l.No.SubexpIndex("why"); i >= 0 {
				why = m[i]
			}
			return "no", why
		}
		if l.Yes.MatchString(line) {
			return "yes", ""
		}
	}
	return "", ""
}

// Mode is what must be entered before anything is changed, and left afterwards.
type Mode struct {
	Enter []Text `yaml:"enter"`
	Leave []Text `yaml:"leave"`
}

// Exchange is something that the system asks, and what is typed then.
type Exchange struct {
	At  Pattern  `yaml:"at"`
	Say Template `yaml:"say"`
}

// Quote says how a value is made one word of what is typed.
type Quote struct {
	Rule  string  `yaml:"rule"`  // double, doubled, shell or never
	Plain Pattern `yaml:"plain"` // values that need no quotes
	Only  Pattern `yaml:"only"`  // values that can be said at all

	options bool // words that begin with - are no values, unless -- stands before them
}

// Holds is how objects of one kind are listed, made and changed.
type Holds struct {
	Name       Pattern              `yaml:"name"` // what a new one must match
	About      string               `yaml:"about"`
	Attributes map[string]Attribute `yaml:"attributes"`
	Members    []string             `yaml:"members"` // of a set: kinds of objects that can be in it
	Watched    bool                 `yaml:"watched"`
	Mighty     []string             `yaml:"mighty"` // of rights: those that let somebody administer the system
	OneOf      []string             `yaml:"one-of"` // of rights: an account has but one of these, the strongest first
	Names      []string             `yaml:"names"`  // of sets that the system always has; then they need no list
	List       []*Listing           `yaml:"list"`
	Create     []Command            `yaml:"create"`
	Set        map[string][]Command `yaml:"set"`
	Then       []Command            `yaml:"then"` // typed once one that was made has what it is to have
	Remove     []Command            `yaml:"remove"`
	Disable    []Command            `yaml:"disable"`
	Enable     []Command            `yaml:"enable"`
	Join       []Command            `yaml:"join"`
	Leave      []Command            `yaml:"leave"`
}

// Attribute is one attribute of an object.
type Attribute struct {
	About string `yaml:"about"`
	Many  bool   `yaml:"many"`
	From  string `yaml:"from"` // the user's field that it is, unless a grant says otherwise
	Fold  bool   `yaml:"fold"`

	Mighty []string `yaml:"mighty"` // of accounts: values with which somebody administers the system
}

// Listing is a command whose answer tells of objects.
type Listing struct {
	Say  Template              `yaml:"say"`
	Read Reading               `yaml:"read"`
	Is   map[string]Expression `yaml:"is"`   // attributes of an object, worked out of a row; name is its name
	When Expression            `yaml:"when"` // rows that are one; none: all
	In   map[string]Expression `yaml:"in"`   // by kind of set: those that it is in

	one bool // all rows tell of one thing
}

// Command is something that is typed to change something.
type Command struct {
	Say    Template   `yaml:"say"`
	When   Expression `yaml:"when"`   // it is typed only if so
	Answer []Exchange `yaml:"answer"` // what it asks
	Input  Template   `yaml:"input"`  // given to it on standard input; of exec
	Done   Pattern    `yaml:"done"`   // a line that it answers where it did something; none: whatever does not fail
	Many   int        `yaml:"many"`   // how many names it takes at once, as names
	Each   Pattern    `yaml:"each"`   // of many: a line that tells of one, by the parts name and why, that it was not done
}

// Signed is how it is seen who is signed in, and how that ends.
type Signed struct {
	List *Listing  `yaml:"list"`
	End  []Command `yaml:"end"`
}

// Draft is how a candidate is made, looked at and taken.
type Draft struct {
	Begin   []Text   `yaml:"begin"`
	Differs Template `yaml:"differs"` // tells the difference
	Check   Template `yaml:"check"`
	Keep    Template `yaml:"keep"`    // takes it, with words
	Trial   Template `yaml:"trial"`   // takes it for so many minutes, with words
	Confirm Template `yaml:"confirm"` // makes what is on trial stay
	Drop    Template `yaml:"drop"`    // throws the candidate away, or ends the trial
	State   *Listing `yaml:"state"`   // one row: trial (yes or no), by and words of whose candidate is open
	Minutes int      `yaml:"minutes"` // of a trial; none: 2
}

// Actions are what can be done on such a system, and which permissions that takes.
type Actions struct {
	Table    []Action `yaml:"table"`    // the first that fits counts
	Ask      *Listing `yaml:"ask"`      // the system is asked, with ${action}: a row is a permission, as name
	Given    string   `yaml:"given-by"` // the attribute of accounts and of sets that tells which permissions they give
	Examples []string `yaml:"examples"`
	AtOnce   bool     `yaml:"at-once"` // what is given counts at once for who is signed in; else from the next sign-in
}

// Action is some actions, and the permissions that each of them takes: all of these.
type Action struct {
	Is    Pattern  `yaml:"action"`
	Takes []string `yaml:"takes"`
}

// Job is how many statements are handed in as one, and its output taken apart.
type Job struct {
	Hand   Command `yaml:"hand"`   // hands a job in, its statements on standard input
	Number Pattern `yaml:"number"` // a line of the answer that tells its number, as the part job
	Ready  Command `yaml:"ready"`  // asks whether it has run
	Is     Pattern `yaml:"is"`     // a line of that answer when it has
	Output Command `yaml:"output"` // tells its output
	Each   Pattern `yaml:"each"`   // a line of that which begins the output of a statement, by the part n, counted from 1
	Before Text    `yaml:"before"` // what stands before each statement, for the output to tell it apart; may hold ${n}
}

// programs says whether such a system is run by programs.
func (r Reach) programs() bool { return r.Over == "host" || r.Over == "here" }

// Schema is what such a target is, and what of it can be set.
func (f *File) Schema() model.Schema { return f.schema }

// Name is what the file is called.
func (f *File) Name() string { return f.name }

// Pattern is a regular expression (RE2) of the file.
type Pattern struct {
	*regexp.Regexp
	Line int
}

// Set says whether there is one.
func (p Pattern) Set() bool { return p.Regexp != nil }

// inLine says whether a line of an answer matches.
func (p Pattern) inLine(answer string) bool {
	for line := range strings.Lines(answer) {
		if p.MatchString(strings.TrimRight(line, "\r\n")) {
			return true
		}
	}
	return false
}

// Text is a text of the file.
type Text struct {
	Raw  string
	Line int
}

// Together is the command that carries out a verb for many at once, if there is one.
func (h *Holds) Together(v model.Verb) (Command, bool) {
	if h == nil {
		return Command{}, false
	}
	if list := h.Commands(v); len(list) == 1 && list[0].Many > 1 {
		return list[0], true
	}
	return Command{}, false
}

// Commands are those that carry out a verb that has no values.
func (h *Holds) Commands(v model.Verb) []Command {
	return map[model.Verb][]Command{model.Remove: h.Remove, model.Disable: h.Disable, model.Enable: h.Enable, model.JoinIt: h.Join,
		model.LeaveIt: h.Leave}[v]
}
