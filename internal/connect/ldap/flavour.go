package ldap

import (
	"slices"
	"strings"

	goldap "github.com/go-ldap/ldap/v3"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// flavour is what tells directories of one schema from those of another: which entries are people and groups, what their attributes
// mean, where an entry is put and what it is made of, how a password is set. Wire, paging, synchronisation, membership, judging and
// reading back are the same for all.
type flavour struct {
	schema model.Schema

	signerFilter, personFilter, groupFilter string // who can sign in, with a login or without one; people; groups

	login, groupName, number string   // attributes: the login of a person; the name of a group, and its number
	member, unique           string   // attributes: who is in a group; what an entry keeps when it is renamed or moved
	fields                   []field  // attributes of people, sorted by our names
	also                     []string // attributes of people that told reads

	// place is the DN at which the account or group of an act is made.
	place func(s *session, a model.Act) string
	// made are the attributes of the entry that an act makes, its classes among them.
	made func(s *session, t *tree, a model.Act) map[string][]string
	// grown are the values that an entry needs beside, so that it can have the attributes that an act sets.
	grown func(t *tree, v *entryView, a model.Act) map[string][]string
	// told are facts of a person that follow from several attributes, each with one value.
	told func(e *entry) []model.Attribute
	// setPassword gives an entry the password of an act, and has another asked for where the act says so. No secret is no change.
	setPassword func(b *batch, conn *goldap.Conn, dn string, a connect.Act) error
}

// field pairs an attribute of ours with the directory's.
type field struct {
	ours, theirs string
	// read turns its value into ours, "": it has none. nil: as it is.
	read func(t *tree, value string) string
	// write turns ours into the values that are to stand there; ok false: nothing is to be changed. nil: as they are.
	write func(t *tree, after []string) (values []string, ok bool)
	apart bool // it is set with the password, and not with the others
	loose bool // spaces do not count in it
}

// field is the one for an attribute of ours; nil where the directory has none.
func (f *flavour) field(ours string) *field {
	at, found := slices.BinarySearchFunc(f.fields, ours, func(x field, name string) int { return strings.Compare(x.ours, name) })
	if !found {
		return nil
	}
	return &f.fields[at]
}

// values are what is to stand in the entry after a change; ok false where this is not set with the other attributes.
func (f *flavour) values(t *tree, c model.Change) (theirs string, values []string, ok bool) {
	x := f.field(c.Attribute)
	switch {
	case x == nil || x.apart || c.Sealed != "":
		return "", nil, false
	case x.write == nil:
		return x.theirs, c.After, true
	}
	values, ok = x.write(t, c.After)
	return x.theirs, values, ok
}

// ofPeople are the attributes that are asked for of people.
func (f *flavour) ofPeople() []string {
	out := append([]string{f.login, f.unique, "objectClass", "modifiersName", "modifyTimestamp"}, f.also...)
	for _, x := range f.fields {
		out = append(out, x.theirs)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// ofGroups are the attributes that are asked for of groups, without who is in them.
func (f *flavour) ofGroups() []string {
	return []string{f.groupName, f.number, f.unique, "objectClass"}
}
