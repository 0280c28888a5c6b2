package model

import (
	"slices"
	"strings"
)

// Schema describes what a kind of target holds and what of it can be set.
type Schema struct {
	Kind        string       `json:"kind"`
	About       string       `json:"about"`
	FoldNames   bool         `json:"fold-names,omitempty"`   // names do not tell upper from lower case
	SystemNames []string     `json:"system-names,omitempty"` // patterns of names that systems of this kind have for themselves
	Leads       bool         `json:"leads,omitempty"`        // others can be reached through such a target
	Renews      bool         `json:"renews,omitempty"`       // our own login there can be given another secret from here
	Differs     bool         `json:"differs,omitempty"`      // such a target says itself what changes would change, before they are made
	Factory     []string     `json:"factory,omitempty"`      // patterns of names that such systems are delivered with
	Kinds       []KindSchema `json:"kinds"`                  // accounts among them, always
	Settings    []string     `json:"settings,omitempty"`     // keys a target of this kind may have under settings
	Needs       []string     `json:"needs,omitempty"`        // those of them that it cannot do without
	Admins      []string     `json:"admins,omitempty"`       // those of them that list what makes somebody an administrator
	Digest      string       `json:"digest,omitempty"`       // of the file that taught this kind, if one did
	Runs        string       `json:"runs,omitempty"`         // OnHost or Here: it is run by programs, and has no address of its own
	Permits     *Permits     `json:"permits,omitempty"`      // nil: what actions take there is not known
}

// Where targets are run that have no address of their own.
const (
	OnHost = "on-host" // the one that the target is reached via
	Here   = "here"    // that of the service
)

// Permits is how it is told on targets of a kind what somebody may do.
type Permits struct {
	// Attribute of accounts and of sets that tells which permissions they give; "" where rights are called what they allow.
	Attribute string   `json:"attribute,omitempty"`
	AtOnce    bool     `json:"at-once,omitempty"`  // what is given counts at once for who is signed in; else from their next sign-in
	Examples  []string `json:"examples,omitempty"` // of actions
}

// KindSchema describes the objects of one kind.
type KindSchema struct {
	Kind       ObjectKind        `json:"kind"`
	About      string            `json:"about,omitempty"`
	Place      int               `json:"place,omitempty"`      // in the order of work, from 1 to 99: those of a lower one are made first, and removed last; 0: the usual one
	Name       []NamePart        `json:"name"`                 // what a name is made of; an account's first part is its user's
	Joint      string            `json:"joint,omitempty"`      // stands between the parts of a name, where there are several
	Verbs      []Verb            `json:"verbs,omitempty"`      // what can be done to them; none: they are only looked at
	Members    []ObjectKind      `json:"members,omitempty"`    // of a set: what can be in it
	Renames    bool              `json:"renames,omitempty"`    // of a set: one can be made out of another, which is called otherwise then; see Formerly
	ByJoining  bool              `json:"by-joining,omitempty"` // of a set: it is there as soon as somebody is in it
	Watched    bool              `json:"watched,omitempty"`    // one that nobody declared is a finding
	OneOf      bool              `json:"one-of,omitempty"`     // of a set: somebody is in one of them at most, and leaves it by joining another
	Given      bool              `json:"given,omitempty"`      // of a set: who is in it is there through Hen Roost, and goes when nobody asks for it
	Attributes []AttributeSchema `json:"attributes"`
	// Spelled is of rights that are called what they allow, as "SELECT ON stores.items": a declared right then stands for
	// every one of its permissions, each a set of its own. Nil: rights have names.
	Spelled *Spelling `json:"-"`
}

// Spelling is how permissions are written on targets of a kind.
type Spelling struct {
	// Read takes apart what stands in a declaration, into permissions in their canonical form, or says what is wrong with it.
	Read func(text string) ([]string, error)
	// Covers says whether whoever has the wide permission has the narrow one with it. Both are canonical.
	Covers func(wide, narrow string) bool
	// Mighty says whether whoever has a permission is superuser there, or can make themselves so. Nil: none does that.
	Mighty func(permission string) bool
}

// Least leaves out the permissions that others of the list cover; of two that cover each other one stays.
func (s *Spelling) Least(list []string) []string {
	var out []string
	for i, narrow := range list {
		if !slices.ContainsFunc(list[:i], func(wide string) bool { return s.Covers(wide, narrow) }) &&
			!slices.ContainsFunc(list[i+1:], func(wide string) bool { return s.Covers(wide, narrow) && !s.Covers(narrow, wide) }) {
			out = append(out, narrow)
		}
	}
	return out
}

// NamePart describes one part of a name.
type NamePart struct {
	Name    string `json:"name"`
	About   string `json:"about,omitempty"`
	Pattern string `json:"pattern"`         // RE2: what a new one must match
	Usual   string `json:"usual,omitempty"` // what it is where nothing else is asked for; never of the first part
}

// AttributeSchema describes one attribute of one object kind on one kind of target.
type AttributeSchema struct {
	Name     string `json:"name"`
	Called   string `json:"called,omitempty"` // for people; see Called
	About    string `json:"about"`
	Many     bool   `json:"many,omitempty"`     // a set of values
	Fold     bool   `json:"fold,omitempty"`     // upper and lower case are the same
	Settable bool   `json:"settable,omitempty"` // a declaration may ask for it
	Sealed   bool   `json:"sealed,omitempty"`   // a secret: it is set, and cannot be read back
	Remade   bool   `json:"remade,omitempty"`   // an account that is made again needs it to be the same one
	From     string `json:"from,omitempty"`     // the user's field that feeds it unless a grant says otherwise

	Mighty []string `json:"mighty,omitempty"` // of accounts: values with which somebody can become superuser
	// Canonical writes a value that is asked for as the target keeps it; nil: as
	// it stands. Connectors hand on what they read in this form.
	Canonical func(string) string `json:"-"`
}

// Same says whether two value lists mean the same to the target, in any order.
func (s AttributeSchema) Same(a, b []string) bool {
	return SameSet(a, b, func(v string) string {
		if s.Canonical != nil {
			v = s.Canonical(v)
		}
		if s.Fold {
			v = strings.ToLower(v)
		}
		return v
	})
}

// Of describes objects of a kind; nil when targets of this kind hold none.
func (s Schema) Of(kind ObjectKind) *KindSchema {
	for i := range s.Kinds {
		if s.Kinds[i].Kind == kind {
			return &s.Kinds[i]
		}
	}
	return nil
}

// Account describes accounts.
func (s Schema) Account() *KindSchema {
	if k := s.Of(Account); k != nil {
		return k
	}
	return &KindSchema{Kind: Account}
}

// Find returns the description of an attribute of an object kind.
func (s Schema) Find(kind ObjectKind, name string) (AttributeSchema, bool) {
	if k := s.Of(kind); k != nil {
		for _, a := range k.Attributes {
			if a.Name == name {
				return a, true
			}
		}
	}
	return AttributeSchema{}, false
}

// Nests says whether a group may be a member of a group.
func (s Schema) Nests() bool { return s.Of(GroupKind).Holds(GroupKind) }

// Place is where a kind stands in the order of work.
func (s Schema) Place(kind ObjectKind) int {
	if k := s.Of(kind); k != nil && k.Place != 0 {
		return k.Place
	}
	if int(kind) < len(kindWords) {
		return kindWords[kind].place
	}
	return 0
}

// Compose writes a name of its parts, of which there are as many as the schema
// says. It is the one place where names are put together.
func (k *KindSchema) Compose(parts ...string) string { return strings.Join(parts, k.Joint) }

// Split takes a name apart; a part that is missing is empty. Parts but the
// first never hold the joint, so Split(Compose(p)) is p.
func (k *KindSchema) Split(name string) []string {
	parts := make([]string, max(1, len(k.Name)))
	for i := len(parts) - 1; i > 0; i-- {
		if at := strings.LastIndex(name, k.Joint); at >= 0 {
			name, parts[i] = name[:at], name[at+len(k.Joint):]
		}
	}
	parts[0] = name
	return parts
}

// Login is the part of an account's name that tells whose it is, and rest what
// is left of it: of two accounts of one person the rest differs.
func (k *KindSchema) Login(name string) (login, rest string) {
	if len(k.Name) < 2 {
		return name, ""
	}
	parts := k.Split(name)
	return parts[0], strings.Join(parts[1:], k.Joint)
}

// Fit says which part of a name does not match what is asked of a new one; the
// zero NamePart when all do. match tells whether a text matches a pattern.
func (k *KindSchema) Fit(name string, match func(pattern, text string) bool) (NamePart, bool) {
	for i, part := range k.Split(name) {
		if i < len(k.Name) && !match(k.Name[i].Pattern, part) {
			return k.Name[i], false
		}
	}
	return NamePart{}, true
}

// OnePart describes names that are one text.
func OnePart(name, pattern string) []NamePart { return []NamePart{{Name: name, Pattern: pattern}} }
