package model

import (
	"fmt"
	"path"
	"strconv"
)

// Pos is a place in a declaration file. Line and column count from 1.
type Pos struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column,omitempty"`
}

func (p Pos) String() string {
	if p.File == "" {
		return ""
	}
	return p.File + ":" + strconv.Itoa(p.Line) + ":" + strconv.Itoa(p.Column)
}

// Declaration is what one revision asks for, all files together.
type Declaration struct {
	Params  map[string]Text
	Users   map[string]*User
	Groups  map[string]*Group
	Roles   map[string]*Role
	Targets map[string]*Target
}

// Text is a value as it stands in the file; it may hold ${…} expressions.
type Text struct {
	Raw string
	Pos Pos
}

// User is a person, or a service identity.
type User struct {
	ID       string
	Name     Text
	Given    Text
	Family   Text
	Number   int // 0: none declared
	Mail     Text
	Manager  Ref
	Service  bool
	Details  map[string]Text
	Roles    []Ref
	Accounts map[string]AccountHint // by target
	Keys     []Text                 // nil: not declared, so not owned
	Pos      Pos
}

// Ref names another declared thing, and where it is named.
type Ref struct {
	Name string
	Pos  Pos
}

// AccountHint is what a user says of their own account on one target.
type AccountHint struct {
	Name string // the local name, if it differs
	None bool   // never an account there
	Pos  Pos
}

// Group is a named set of users and groups.
type Group struct {
	Name    string
	About   string
	Number  int
	Owner   Ref
	In      []Ref
	AtLeast bool // members found beyond the declared ones are left alone
	Pos     Pos
}

// Role is a named bundle of what its holders get, and where.
type Role struct {
	Name     string
	About    string
	HeldWhen Text // CEL; empty: held by name only
	Includes []Ref
	Gives    []Grant
	Pos      Pos
}

// Grant is one line of a role.
type Grant struct {
	At      Selector
	Account []NamedText // sorted by name; nil with HasAccount false: no account asked for by this grant
	Groups  []Ref
	Pos     Pos
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

// What happens to accounts that nobody declared.
const (
	ReportUnexpected  = "report"
	DisableUnexpected = "disable"
)

// Target is a system that holds accounts.
type Target struct {
	Name       string
	Kind       string
	Address    Text
	Login      Login
	Tags       map[string]string
	Settings   map[string]Text // what the connector of its kind wants to know
	Match      []string        // rules in order
	Unexpected string
	Protect    []string // glob patterns of names no step may touch
	Pos        Pos
}

// Login is how Hen Roost itself signs in to a target.
type Login struct {
	As     Text
	Secret string
	Pos    Pos
}

// Protected says whether no step may touch the named account or group, and why.
// The login Hen Roost uses is always protected: we never saw off our own branch.
func (t *Target) Protected(name, login string) (string, bool) {
	if login != "" && name == login {
		return "Hen Roost signs in with it", true
	}
	for _, pattern := range t.Protect {
		if ok, _ := path.Match(pattern, name); ok {
			return fmt.Sprintf("protected by %q", pattern), true
		}
	}
	return "", false
}
