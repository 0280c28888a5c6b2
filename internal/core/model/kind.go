package model

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// ObjectKind says what an object of a target is; the zero ObjectKind is none.
// There are millions of objects, so it is no text, but is written as one.
type ObjectKind uint16

// The kinds there are. Which of them a target holds, what they are called
// there, and what can be done to them says its schema.
const (
	Account       ObjectKind = 1 + iota
	GroupKind                // a named set of accounts and groups
	RightKind                // a named set of permissions, and who has it
	LicenceKind              // a pool of seats, and who sits on them
	ElevationKind            // what may be done as superuser, and who may
	PlaceKind                // a place in a tree
	PolicyKind               // what is asked of passwords and sign-ins
	SessionKind              // who is signed in now
	HomeKind                 // what people leave behind
	SystemKind               // the target itself: its version, its addresses, its clock
)

// kindWords are the name of each kind, what joining and leaving one is called,
// and its place in the order of work: what others lean on comes first.
var kindWords = [...]struct {
	name, join, leave string
	place             int
}{
	Account:       {name: "account", place: 40},
	GroupKind:     {"group", "join group", "leave group", 20},
	RightKind:     {"right", "give right", "withdraw right", 30},
	LicenceKind:   {"licence", "take seat", "free seat", 30},
	ElevationKind: {"elevation", "elevate", "end elevation", 30},
	PlaceKind:     {name: "container", place: 10},
	PolicyKind:    {name: "policy", place: 90}, // what holds for the members of groups comes after they have joined
	SessionKind:   {name: "session"},
	HomeKind:      {name: "home"},
	SystemKind:    {name: "target"},
}

func (k ObjectKind) String() string {
	if int(k) < len(kindWords) {
		return kindWords[k].name
	}
	return ""
}

// Joining is what coming into a set of this kind, or going out of it, is called.
func (k ObjectKind) Joining(v Verb) string {
	if int(k) >= len(kindWords) || kindWords[k].join == "" {
		return string(v) + " " + k.String()
	}
	if v == JoinIt {
		return kindWords[k].join
	}
	return kindWords[k].leave
}

// SetKinds are the kinds of object that can have members.
func SetKinds() (out []ObjectKind) {
	for k := range kindWords {
		if ObjectKind(k).IsSet() {
			out = append(out, ObjectKind(k))
		}
	}
	return out
}

// IsSet says whether objects of this kind can have members.
func (k ObjectKind) IsSet() bool { return int(k) < len(kindWords) && kindWords[k].join != "" }

// KindNamed is the kind that is written so; none when there is no such kind.
func KindNamed(name string) ObjectKind {
	for k := range kindWords {
		if kindWords[k].name == name {
			return ObjectKind(k)
		}
	}
	return 0
}

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

// Named is one object of a target, by kind and name.
type Named struct {
	Kind ObjectKind
	Name string
}

// Compare orders by kind, then by name.
func (n Named) Compare(m Named) int {
	return cmp.Or(cmp.Compare(n.Kind, m.Kind), strings.Compare(n.Name, m.Name))
}

// Does says whether something can be done to objects of this kind.
func (k *KindSchema) Does(v Verb) bool { return k != nil && slices.Contains(k.Verbs, v) }

// Holds says whether objects of a kind can be members of this one.
func (k *KindSchema) Holds(member ObjectKind) bool {
	return k != nil && slices.Contains(k.Members, member)
}
