// Package model holds the plain values that every other part of Hen Roost
// speaks in: users, groups, roles and targets as they are declared, and the
// objects that targets really hold. It does nothing but hold them.
package model

import (
	"fmt"
	"slices"
)

// ObjectKind says what an object of a target is; the zero ObjectKind is none.
// There are millions of objects, so it is no text, but is written as one.
type ObjectKind uint16

const (
	Account ObjectKind = 1 + iota
	GroupKind
	Membership
	RightKind  // a named set of permissions
	PlaceKind  // a place in a tree
	PolicyKind // what is asked of passwords and sign-ins
)

var objectKinds = []string{"", "account", "group", "membership", "right", "container", "policy"}

func (k ObjectKind) String() string {
	if int(k) < len(objectKinds) {
		return objectKinds[k]
	}
	return ""
}

// KindNamed is the kind that is written so; none when there is no such kind.
func KindNamed(name string) ObjectKind { return ObjectKind(max(0, slices.Index(objectKinds, name))) }

// MarshalText writes the kind's name.
func (k ObjectKind) MarshalText() ([]byte, error) { return []byte(k.String()), nil }

// UnmarshalText reads it.
func (k *ObjectKind) UnmarshalText(b []byte) error {
	*k = KindNamed(string(b))
	if *k == 0 && len(b) > 0 {
		return fmt.Errorf("%q is no kind of object", b)
	}
	return nil
}

// Attribute names with a meaning of their own; a connector may know more.
const (
	Number       = "number"        // the account's or group's numeric id
	FullName     = "full-name"     // the person's name, for people to read
	Mail         = "mail"          // the mail address
	Disabled     = "disabled"      // "yes", "no", or "partly" when only some ways in are shut
	Members      = "members"       // of a group: names of accounts
	MemberGroups = "member-groups" // of a group: names of groups inside it
	Elevation    = "elevation"     // the ways in which the account can become superuser, if it can
	PrimaryGroup = "primary-group" // of an account: the name of the group that it is in without being listed there
	Odd          = "odd"           // why an object cannot be looked after as it stands, in words
	Passwordless = "passwordless"  // of an account: yes, when nobody is asked for a password
	Rights       = "rights"        // names of the rights an account has
	Licences     = "licences"      // names of the licence pools an account takes a seat of
	Place        = "container"     // the container an account stands in
	Allows       = "allows"        // of a right: the permissions in it
	Path         = "path"          // of a container: where it is
	Guarded      = "protected"     // of a container: yes, when the target itself refuses to remove it
	ChangedBy    = "changed-by"    // who changed the object last, where the target tells; never owned
	Owner        = "owner"         // whose account it is; known to Hen Roost, not to the target
)

// Superuser is the name of the right by which a target tells what makes
// somebody superuser there: being one of its members, in one of its member
// groups, or having its number. Names count although nobody has them yet.
// Everyone among its members is all.
const (
	Superuser = "superuser"
	Everyone  = "*"
)

// Object is one thing a target holds.
type Object struct {
	Kind       ObjectKind `json:"kind"`
	System     bool       `json:"system,omitempty"` // belongs to the target itself, not to a person
	Ours       bool       `json:"ours,omitempty"`   // Hen Roost signs in with it, however it is written
	Marked     bool       `json:"marked,omitempty"` // it is odd, or has no password: see the attributes
	Linked     bool       `json:"-"`                // to the user who has its name; known to us, not to the target
	Name       string     `json:"name"`
	Unique     string     `json:"unique,omitempty"` // the target's own id, stable over renames, if it has one
	Attributes Attributes `json:"attributes"`
}

// Link says that an account on a target belongs to a user: it was adopted or
// made by Hen Roost.
type Link struct {
	Target string `json:"target"`
	User   string `json:"user"`
	Name   string `json:"name"`
	Unique string `json:"unique,omitempty"`
}

// Decision is what a person said of an account that could be somebody's: it is
// theirs, or it is not.
type Decision struct {
	Target string `json:"target"`
	Name   string `json:"name"`
	User   string `json:"user"`
	Theirs bool   `json:"theirs"`
}

// AttributeSchema describes one attribute of one object kind on one kind of target.
type AttributeSchema struct {
	Name     string `json:"name"`
	About    string `json:"about"`
	Many     bool   `json:"many,omitempty"`     // a set of values
	Fold     bool   `json:"fold,omitempty"`     // upper and lower case are the same
	Settable bool   `json:"settable,omitempty"` // a declaration may ask for it
	From     string `json:"from,omitempty"`     // the user's field that feeds it unless a grant says otherwise
}

// Schema describes what a kind of target holds and what of it can be set.
type Schema struct {
	Kind        string            `json:"kind"`
	About       string            `json:"about"`
	AccountName string            `json:"account-name"` // RE2 pattern that names of new accounts must match
	GroupName   string            `json:"group-name"`   // the same for groups
	FoldNames   bool              `json:"fold-names,omitempty"`
	SystemNames []string          `json:"system-names,omitempty"` // patterns of names that systems of this kind have for themselves
	NestGroups  bool              `json:"nest-groups,omitempty"`  // a group may be a member of a group
	Removes     bool              `json:"removes,omitempty"`      // accounts can be removed, not only disabled
	Holds       []ObjectKind      `json:"holds,omitempty"`        // what else than accounts and groups it can be asked for: right, container, policy
	Account     []AttributeSchema `json:"account"`
	Group       []AttributeSchema `json:"group"`
	Settings    []string          `json:"settings,omitempty"` // keys a target of this kind may have under settings
	Needs       []string          `json:"needs,omitempty"`    // those of them that it cannot do without
}

// CanHold says whether targets of this kind can be asked for objects of a kind.
func (s Schema) CanHold(kind ObjectKind) bool { return slices.Contains(s.Holds, kind) }

// Find returns the description of an attribute of an object kind.
func (s Schema) Find(kind ObjectKind, name string) (AttributeSchema, bool) {
	list := s.Account
	if kind == GroupKind {
		list = s.Group
	}
	for _, a := range list {
		if a.Name == name {
			return a, true
		}
	}
	return AttributeSchema{}, false
}
