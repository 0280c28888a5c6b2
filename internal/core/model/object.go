// Package model holds the plain values that every other part of Hen Roost
// speaks in: users, groups, roles and targets as they are declared, and the
// objects that targets really hold. It does nothing but hold them.
package model

import (
	"crypto/sha256"
	"encoding/hex"
	"slices"
	"unicode/utf8"
)

// Attribute names with a meaning of their own; a connector may know more.
const (
	Number          = "number"           // the account's or group's numeric id
	FullName        = "full-name"        // the person's name, for people to read
	Mail            = "mail"             // the mail address
	Disabled        = "disabled"         // "yes", "no", or "partly" when only some ways in are shut
	Members         = "members"          // of a group: names of accounts
	MemberGroups    = "member-groups"    // of a group: names of groups inside it
	Elevation       = "elevation"        // the ways in which the account can become superuser, if it can
	PrimaryGroup    = "primary-group"    // of an account: the name of the group that it is in without being listed there
	Odd             = "odd"              // why an object cannot be looked after as it stands, in words
	Certificate     = "certificate"      // of an account: it is opened by a client certificate of Hen Roost's own authority; never read
	Keys            = "keys"             // of an account: the keys that open it, each a line as in authorized keys
	Password        = "password"         // of an account: sealed, set and never read
	MustChange      = "must-change"      // of an account: yes, when its password must be changed at the next sign-in
	PasswordHash    = "password-hash"    // of an account: sealed, set in place of a password, as crypt(5) writes it
	PasswordKept    = "password-kept"    // of an account: sealed, as the target itself keeps a password
	SignIn          = "sign-in"          // of an account: the ways in which it is signed in to, where there are several
	Passwordless    = "passwordless"     // of an account: yes, when nobody is asked for a password
	Home            = "home"             // of an account: its home folder
	Place           = "container"        // the container an account stands in
	Seats           = "seats"            // of a licence: how many there are
	Version         = "version"          // of the target itself
	System          = "system"           // of the target: what it runs
	Addresses       = "addresses"        // of the target: where it can be reached
	ClockOff        = "clock-off"        // of the target: seconds by which its clock is ahead of ours; 0 for a few
	UpSince         = "up-since"         // of the target: when it was started
	Commits         = "commits"          // of the target: who changed it last, the newest first
	HostName        = "host-name"        // of the target: what it calls itself
	HeldBy          = "account"          // of a session: whose it is; of a home: the account whose it is, where there still is one
	Since           = "since"            // of a session: when it began
	From            = "from"             // of a session: where it comes from
	HoldsSets       = "holds"            // of a session: the sets by which it may do what it may, each its kind and its name
	Allows          = "allows"           // of a right: the permissions in it
	Path            = "path"             // of a container: where it is
	Within          = "within"           // of a container: the one that it stands in
	Guarded         = "protected"        // of a container: yes, when the target itself refuses to remove it
	ChangedBy       = "changed-by"       // who changed the object last, where the target tells; never owned
	Locked          = "locked"           // of an account with the superuser's number: yes, when no password opens it; keys may
	SharedLogin     = "shared-login"     // of an account: what it has in common with others, so that nobody can tell who it was; in words
	FactoryMade     = "factory"          // of an account: why it is one that the target was delivered with, and open; in words
	OpenWide        = "wide-open"        // of an account: from where it can be signed in to, where that is anywhere; in words
	WeakSignIn      = "weak-sign-in"     // of an account: why its way in is easy to get past; in words
	ShadowedBy      = "shadowed"         // of an account: which other answers in its place, and from where; in words
	UnevenWith      = "uneven"           // of an account: which others of its login may do other things; in words
	PasswordEnds    = "password-ends"    // of an account: the last day of its password
	PasswordChanged = "password-changed" // of an account: the day on which its password was set
	Owns            = "owns"             // of an account: what belongs to it and would be in the way, or run on as nobody, if it went
	LastSignIn      = "last-sign-in"     // of an account: the day, where the target tells
	FailedSignIns   = "failed-sign-ins"  // of an account: about how many, of late
	LyingAbout      = "lying-about"      // of an account: what it has outside its home: cron-table, mail-spool, at-jobs
	KeptBy          = "kept-by"          // of an account: the system that it comes from, where that is not the target itself; never touched
	Administrators  = "administrators"   // of a group: accounts that may change who is in it
	Size            = "size"             // of a home: bytes
	LastUse         = "last-use"         // of a home: the day
	InUse           = "in-use"           // of a home: yes, while somebody works in it
	Formerly        = "formerly"         // of a group that is made out of another: the name of that; it keeps number, members and files
	Owner           = "owner"            // whose account it is; known to Hen Roost, not to the target
)

// OfSurveys are attributes that whole surveys alone tell: what is read back after a step may say nothing of them. Where a step
// may change one, its target is surveyed after it.
var OfSurveys = []string{LastSignIn, FailedSignIns, LyingAbout, SharedLogin, FactoryMade, ShadowedBy, UnevenWith, OpenWide, Owns, Elevation,
	Seats}

// Telling are those of them that are findings of their own: an object that has one is marked.
var Telling = []string{SharedLogin, FactoryMade, ShadowedBy, UnevenWith, OpenWide}

// Carried is an object that was read back after a step, with what surveys alone tell of it as the last one did.
func Carried(was, now Object) Object {
	for _, attribute := range OfSurveys {
		odd := slices.Contains(Telling, attribute)
		if odd && now.Attributes.One(Disabled) == "yes" {
			continue // what is shut opens nothing
		}
		if v := was.Attributes.Get(attribute); v != nil && !now.Attributes.Has(attribute) {
			now.Attributes = now.Attributes.With(attribute, v...)
			now.Marked = now.Marked || odd
		}
	}
	return now
}

// Superuser is the name of the right by which a target tells what makes
// somebody superuser there: being one of its members, in one of its member
// groups, or having its number. Names count although nobody has them yet.
// Everyone among its members is all.
const (
	Superuser = "superuser"
	Everyone  = "*"
)

// Itself is the name of the object that is the target itself.
const Itself = "itself"

// Administers says whether an object is an open account of somebody else's than ours that can become superuser.
func (o *Object) Administers() bool {
	return o.Kind == Account && !o.Ours && o.Attributes.Has(Elevation) && o.Attributes.One(Disabled) != "yes"
}

// MembersOf is the attribute of a set that names its members of a kind.
func MembersOf(kind ObjectKind) string {
	if kind == GroupKind {
		return MemberGroups
	}
	return Members
}

// NameMost is how many characters a name may have. A longer one is kept short
// (see Short), and what has it is odd.
const NameMost = 200

// Short is a name that can be kept: of one that is too long the beginning, and
// a hash of all of it, so that two of them stay two.
func Short(name string) (short string, cut bool) {
	if len(name) <= NameMost || utf8.RuneCountInString(name) <= NameMost {
		return name, false
	}
	sum := sha256.Sum256([]byte(name))
	begin := []rune(name)[:NameMost-len(cutMark)-16]
	return string(begin) + cutMark + hex.EncodeToString(sum[:8]), true
}

const cutMark = "… "

// WasCut says whether a name was made by Short of a longer one.
func WasCut(name string) bool {
	at := len(name) - 16 - len(cutMark)
	return at > 0 && name[at:at+len(cutMark)] == cutMark && utf8.RuneCountInString(name) >= NameMost-len(cutMark)
}

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
	Rest   string `json:"rest,omitempty"` // of the name, what is behind the login: of two accounts of one user it differs
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
