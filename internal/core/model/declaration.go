package model

import (
	"slices"
	"strconv"
	"time"
)

// Location is where something stands in a declaration file. Line and column count from 1.
type Location struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column,omitempty"`
}

func (p Location) String() string {
	if p.File == "" {
		return ""
	}
	return p.File + ":" + strconv.Itoa(p.Line) + ":" + strconv.Itoa(p.Column)
}

// Part is a stretch of a declaration file that is read by itself, and kept as
// long as its text is the same: only the declaration knows where it begins.
type Part struct{ File string }

// Pos is a place within a part. What a part defines does not change when lines
// are put in above it; Declaration.Locate says where it stands.
type Pos struct {
	Part         *Part
	Line, Column int32
}

// Declaration is what one revision asks for, all files together.
type Declaration struct {
	Params     map[string]Text
	Users      map[string]*User
	Groups     map[string]*Group
	Roles      map[string]*Role
	Targets    map[string]*Target
	Rights     map[string]*Right
	Containers map[string]*Container
	Policies   map[string]*Policy
	Pools      map[string]*Pool
	Starts     map[*Part]int // lines of the file before the first of each part
}

// Locate says where in the files something stands; the zero Location when nobody knows.
func (d *Declaration) Locate(p Pos) Location {
	if p.Part == nil {
		return Location{}
	}
	return Location{p.Part.File, d.Starts[p.Part] + int(p.Line), int(p.Column)}
}

// Origin is the lineage of a desired value: the role and the line that ask for it.
type Origin struct {
	Role string
	At   Pos
}

// Why tells where a value comes from.
func (d *Declaration) Why(o Origin) Why { return Why{Role: o.Role, At: d.Locate(o.At)} }

// Text is a value as it stands in the file; it may hold ${…} expressions.
type Text struct {
	Raw string
	Pos Pos
}

// Span is a stretch of days, both ends in it, each 2006-01-02 or "" for open.
// Days written so compare as texts do.
type Span struct {
	From, Until string
}

// Holds says whether a day lies within.
func (s Span) Holds(day string) bool {
	return (s.From == "" || day >= s.From) && (s.Until == "" || day <= s.Until)
}

// Meets says whether two stretches have a day in common.
func (s Span) Meets(t Span) bool {
	return (s.Until == "" || t.From == "" || t.From <= s.Until) && (t.Until == "" || s.From == "" || s.From <= t.Until)
}

// User is a person, or a service identity.
type User struct {
	ID        string
	Name      Text
	Given     Text
	Family    Text
	Number    int // 0: none declared
	Mail      Text
	Manager   Ref
	Service   bool
	Span      Span // days on which the user is active
	Suspended Suspension
	Details   Details
	Roles     []Holding
	Accounts  map[string]AccountHint // by target
	Keys      []Text                 // nil: not declared, so not owned
	Pos       Pos
}

// Ref names another declared thing, and where it is named.
type Ref struct {
	Name string
	Pos  Pos
}

// Holding is a role held by name, and for which days and why.
type Holding struct {
	Ref
	Span    Span
	Because string
}

// Suspension shuts every account of a user, and leaves everything else of them
// as it is. The zero Suspension is none.
type Suspension struct {
	Since   string // the first day
	Because string
	Pos     Pos
}

// Holds says whether it is in force on a day.
func (s Suspension) Holds(day string) bool { return s.Since != "" && s.Since <= day }

// AccountHint is what a user says of their own accounts on one target.
type AccountHint struct {
	Name   string  // the login there, if it differs
	Parts  []Parts // what other parts of the name are to be, where names have such: an account for each
	None   bool    // never an account there
	Number int     // the account's number there, if it cannot be the user's own; 0: it is
	Pos    Pos
}

// Same says whether two hints ask for the same.
func (h AccountHint) Same(g AccountHint) bool {
	return h.Name == g.Name && h.None == g.None && h.Number == g.Number && slices.EqualFunc(h.Parts, g.Parts, func(a, b Parts) bool {
		return a.Name == b.Name && slices.EqualFunc(a.Values, b.Values, func(x, y Text) bool { return x.Raw == y.Raw })
	})
}

// Parts is what one part of names is to be or, in a grant, an attribute of many values.
type Parts struct {
	Name   string // of the part
	Values []Text
	Pos    Pos
}

// Group is a named set of users and groups.
type Group struct {
	Name    string
	About   string
	Number  int
	Owner   Ref
	In      []Ref
	AtLeast bool  // members found beyond the declared ones are left alone
	Keepers []Ref // users who may change who is in it, on targets that know such; nil: not declared, so not owned
	Pos     Pos
}

// Role is a named bundle of what its holders get, and where.
type Role struct {
	Name         string
	About        string
	HeldWhen     Text // CEL; empty: held by name only
	Includes     []Ref
	NeverWith    []Ref // roles nobody may hold beside it
	Numbers      Range // from which those who hold it get their number
	GroupNumbers Range // from which the groups that it gives get theirs
	Gives        []Grant
	Pos          Pos
}

// Range is a stretch of numbers, both ends in it; the zero Range is none.
type Range struct{ Low, High int }

// Grant is one line of a role.
type Grant struct {
	At       Selector
	Account  []NamedText // sorted by name
	Parts    []Parts     // of the names of accounts, where several values are asked for; and attributes of many values
	Groups   []Ref
	Rights   []Ref    // names of declared rights
	Licences []string // names of licence pools on the target
	Elevate  []string // commands, or "all"; empty and not nil: none
	Pos      Pos
}

// Details are a user's further values, sorted by name: most have a few, and a map for each would be larger than all they say.
type Details []NamedText

// Get returns a detail.
func (d Details) Get(name string) (Text, bool) {
	for _, x := range d {
		if x.Name == name {
			return x.Text, true
		}
	}
	return Text{}, false
}

// NamedText is an attribute asked for by a grant.
type NamedText struct {
	Name string
	Text Text
}

// Selector chooses targets: by name, or by kind and tags.
type Selector struct {
	Name string
	Kind string
	Tags map[string]string
	Pos  Pos
}

// Matches says whether the target is chosen.
func (s Selector) Matches(t *Target) bool {
	if s.Name != "" {
		return s.Name == t.Name
	}
	if s.Kind != "" && s.Kind != t.Kind {
		return false
	}
	for k, v := range s.Tags {
		if t.Tags[k] != v {
			return false
		}
	}
	return true
}

// Right is a named set of permissions on targets that have such.
type Right struct {
	Name   string
	At     []Selector
	Allows []Text
	Pos    Pos
}

// Container is a place in a tree that holds accounts or groups.
type Container struct {
	Name      string
	At        []Selector
	Path      Text
	Protected bool
	Pos       Pos
}

// Pool is seats that licences of several targets share: whoever has one of them, or several, takes one seat.
type Pool struct {
	Name  string
	About string
	Seats int
	At    []PooledLicence
	Pos   Pos
}

// PooledLicence is a licence of one target whose holders sit in a pool.
type PooledLicence struct {
	Target  Ref
	Licence string
}

// Policy is what a target asks of passwords and of failed sign-ins.
type Policy struct {
	Name   string
	At     []Selector
	Groups []Ref     // for their members only; none: for everybody
	Values []Setting // "password.length", "lockout.after", "words", sorted by name
	Pos    Pos
}

// What of a policy Hen Roost keeps itself, wherever it makes or takes a password;
// all else is asked of the targets.
const (
	PolicyWords     = "words"     // that nobody may build a password from
	PolicyScreening = "screening" // what is done with a password that should not be used: one of the words below
	PolicyLength    = "password.length"

	ScreenRefuse = "refuse" // as when nothing is said
	ScreenWatch  = "watch"  // it passes, and is counted
)

// Asks says whether a policy asks anything of the targets themselves.
func (p *Policy) Asks() bool {
	return len(p.Values) == 0 || slices.ContainsFunc(p.Values, func(s Setting) bool {
		return s.Name != PolicyWords && s.Name != PolicyScreening
	})
}

// Value is what a policy says of something, nil when it says nothing.
func (p *Policy) Value(name string) []string {
	for _, s := range p.Values {
		if s.Name == name {
			return s.Values
		}
	}
	return nil
}

// Setting is one value of a policy.
type Setting struct {
	Name   string
	Values []string
	Pos    Pos
}

// What happens to accounts that nobody declared.
const (
	ReportUnexpected  = "report"
	DisableUnexpected = "disable"
	RemoveUnexpected  = "remove"
)

// Target is a system that holds accounts.
type Target struct {
	Name        string
	Kind        string
	Address     Text
	Login       Login
	Tags        map[string]string
	Settings    map[string]Text // what the connector of its kind wants to know
	Match       []string        // rules in order
	Unexpected  string
	Protect     []string // patterns of names no step may touch, see Shield
	Lent        []string // accounts of the target's own that a service identity may have
	Leaves      []string // attributes that something else there decides: accounts are made with them, and are not compared by them
	Via         Ref      // the target through which it is reached; no name: directly
	Homes       Homes
	Dormant     time.Duration // after which an account nobody signs in with is told of; 0: never
	UnusedSeats time.Duration // after which a seat is told of whose holder does not sign in; 0: never
	After       []Ref         // targets that feed this one: their steps come first
	Removal     Removal
	Limits      Limits
	Window      Window // when scheduled rounds may run
	Repeat      Repeat
	InForce     *Reach // where and as whom, in place of what is declared; nil: as declared
	Pos         Pos
}

// Reach is where a target is and how it is signed in to, all expressions filled in.
type Reach struct {
	Address  string
	As       string
	Settings map[string]string
}

// Unleft are attributes that are never left to others: by them it is decided who may do what.
var Unleft = []string{Disabled, Number, Password, Elevation, Keys, SignIn}

// Removal says what becomes of what an account leaves behind.
type Removal struct {
	Home   string        // one of the constants below
	Retain time.Duration // how long a sealed home is kept; 0: a year
	Keep   time.Duration // how long an account stays shut before it is removed; 0: nothing is said, see drift; or AtOnce
}

// AtOnce is a Removal's Keep that was written as 0d: what is shut goes with the next round.
const AtOnce = time.Duration(1)

// Homes says which of the homes on a target are stale.
type Homes struct {
	Stale time.Duration // since the last use; 0: none ever is
	Leave []string      // patterns of folders, or of accounts, that are left alone
	Under []string      // folders below which the homes of people are; none: UsualHomes
}

// UsualHomes are the folders below which the homes of people are where nothing else is declared.
var UsualHomes = []string{"/home"}

// What becomes of the home of an account that is removed.
const (
	HomeKept     = "keep"
	HomeArchived = "archive"
	HomeRemoved  = "remove"
	HomeSealed   = "seal" // archived, fetched, and sealed by Hen Roost for a time
)

// Limits are the bounds a round must stay inside on one target, else it is held.
type Limits struct {
	Remove       int // accounts removed; -1: no bound
	RemoveShare  int // the same, in percent of the accounts there; -1: no bound
	Disable      int
	DisableShare int
	FailShare    int // percent of steps that may fail before the round stops by itself
}

// Repeat says how often a target is surveyed and reconciled by itself; 0: never.
type Repeat struct {
	Survey, Reconcile time.Duration
}

// Window is a stretch of the week in which scheduled rounds may run, UTC. Empty days: every day.
type Window struct {
	Days       []time.Weekday
	From, Till int // minutes of the day; equal: the whole day; From after Till: over midnight
}

// Open says whether a moment lies in the window.
func (w Window) Open(at time.Time) bool {
	at = at.UTC()
	minute, day := at.Hour()*60+at.Minute(), at.Weekday()
	if w.From > w.Till && minute < w.Till {
		day = (day + 6) % 7 // the window began the evening before
	}
	if len(w.Days) > 0 && !containsDay(w.Days, day) {
		return false
	}
	switch {
	case w.From == w.Till:
		return true
	case w.From < w.Till:
		return minute >= w.From && minute < w.Till
	default:
		return minute >= w.From || minute < w.Till
	}
}

func containsDay(days []time.Weekday, d time.Weekday) bool {
	for _, x := range days {
		if x == d {
			return true
		}
	}
	return false
}

// Login is how Hen Roost itself signs in to a target.
type Login struct {
	As     Text
	Secret string
	Pos    Pos
}

// Each thing that is declared tells its name, and where it stands.

func (u *User) Called() (string, Pos)      { return u.ID, u.Pos }
func (g *Group) Called() (string, Pos)     { return g.Name, g.Pos }
func (r *Role) Called() (string, Pos)      { return r.Name, r.Pos }
func (t *Target) Called() (string, Pos)    { return t.Name, t.Pos }
func (r *Right) Called() (string, Pos)     { return r.Name, r.Pos }
func (c *Container) Called() (string, Pos) { return c.Name, c.Pos }
func (p *Policy) Called() (string, Pos)    { return p.Name, p.Pos }
func (p *Pool) Called() (string, Pos)      { return p.Name, p.Pos }
