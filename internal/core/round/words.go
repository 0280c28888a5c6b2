package round

import (
	"fmt"
	"slices"
	"strings"

	"hen-roost/internal/core/model"
)

// What says in two or three words what an act does: "create account".
func What(a model.Act) string {
	switch {
	case a.MemberKind == model.GroupKind && a.Verb == model.JoinIt:
		return "put group inside"
	case a.MemberKind == model.GroupKind && a.Verb == model.LeaveIt:
		return "take group out"
	case a.Moves():
		return a.Object.Joining(a.Verb)
	case a.Verb == model.NoRemedy:
		return "for a person to decide"
	case a.Formerly() != "":
		return "rename " + a.Object.String()
	default:
		return string(a.Verb) + " " + a.Object.String()
	}
}

// Subject names what the act is done to: an object, or who joins what.
func Subject(a model.Act) string {
	if a.Moves() {
		return a.Member + " · " + a.Name
	}
	return a.Name
}

// Before says how things stand before the act, "" when there is nothing yet.
func Before(a model.Act) string {
	switch {
	case a.Formerly() != "":
		return a.Formerly()
	case a.Verb == model.LeaveIt:
		return a.Name
	case a.Verb == model.JoinIt, a.Verb == model.Create, (a.Verb == model.NoRemedy || a.Verb == model.SetRule) && !found(a):
		return ""
	case a.Verb == model.AdoptIt:
		return adopted(a, func(c model.Change) []string { return c.Before }, "nobody’s")
	case a.Verb == model.Disable || a.Verb == model.Enable:
		return door(a, func(c model.Change) []string { return c.Before })
	case a.Verb == model.Remove && a.Object == model.HomeKind:
		return "used last on " + a.Before().One(model.LastUse)
	case a.Verb == model.Remove && a.Object == model.Account && len(a.Changes) > 0:
		return door(a, func(c model.Change) []string { return c.Before })
	}
	a.Changes = slices.DeleteFunc(slices.Clone(a.Changes), func(c model.Change) bool { return c.Sealed != "" }) // what it was nobody knows
	return list(a, func(c model.Change) []string { return c.Before })
}

// found says whether any of the values to be changed was there before.
func found(a model.Act) bool {
	return slices.ContainsFunc(a.Changes, func(c model.Change) bool { return c.Before != nil })
}

// After says how things stand after the act, "" when nothing is left.
func After(a model.Act) string {
	switch {
	case a.Formerly() != "":
		return a.Name
	case a.Verb == model.NoRemedy && !slices.ContainsFunc(a.Changes, func(c model.Change) bool { return c.After != nil }):
		return "" // the finding tells of a value, and nothing is declared instead
	case a.Verb == model.JoinIt:
		return a.Name
	case a.Verb == model.LeaveIt:
		return ""
	case a.Verb == model.AdoptIt:
		return adopted(a, func(c model.Change) []string { return c.After }, a.User)
	case a.Verb == model.Enable && slices.ContainsFunc(a.Changes, func(c model.Change) bool { return c.Sealed != "" }):
		return "open, with a new password"
	case a.Verb == model.Disable || a.Verb == model.Enable:
		return door(a, func(c model.Change) []string { return c.After })
	case a.Verb == model.Remove:
		return left(a)
	}
	return list(a, func(c model.Change) []string { return c.After })
}

// left says what becomes of the home of an account that is removed, or of a home by itself.
func left(a model.Act) string {
	if a.Object == model.HomeKind {
		return map[string]string{model.HomeArchived: "archived", model.HomeRemoved: "gone",
			model.HomeSealed: "sealed here"}[a.After().One(model.Home)]
	}
	switch a.After().One(model.Home) {
	case model.HomeArchived:
		return "gone, its home archived"
	case model.HomeSealed:
		return "gone, its home sealed here"
	case model.HomeRemoved:
		return "gone, and its home"
	}
	return ""
}

// adopted says whose an account is, or under what name it is known as theirs.
func adopted(a model.Act, side func(model.Change) []string, otherwise string) string {
	for _, c := range a.Changes {
		v := strings.Join(side(c), "")
		switch {
		case c.Attribute == model.Owner && v == Nobody:
			return "nobody’s"
		case c.Attribute == model.Owner && v != "":
			return v
		case c.Attribute == "name":
			return "known as " + v
		}
	}
	return otherwise
}

// door says of an account whether one can come in by it.
func door(a model.Act, side func(model.Change) []string) string {
	for _, c := range a.Changes {
		if c.Attribute == model.Disabled {
			switch strings.Join(side(c), "") {
			case "yes":
				return "shut"
			case "partly":
				return "half shut"
			}
		}
	}
	return "open"
}

func list(a model.Act, side func(model.Change) []string) string {
	var parts []string
	for _, c := range a.Changes {
		v := side(c)
		switch {
		case c.Sealed != "" && c.Attribute == model.PasswordKept:
			parts = append(parts, model.Called(c.Attribute))
		case c.Sealed != "": // what it is nobody reads
			parts = append(parts, "a new "+model.Called(c.Attribute))
		case c.Attribute == model.MustChange && slices.Equal(v, []string{"yes"}):
			parts = append(parts, "to be changed at the next sign-in")
		case c.Attribute == model.MustChange:
			continue
		case c.Attribute == "keys":
			parts = append(parts, fmt.Sprintf("%d %s", len(v), plural(len(v), "key", "keys")))
		case len(v) == 0:
			parts = append(parts, "no "+model.Called(c.Attribute))
		default:
			parts = append(parts, model.Called(c.Attribute)+" "+strings.Join(v, ", "))
		}
	}
	return strings.Join(parts, " · ")
}

// Because names the role, and the line, that ask for the act.
func Because(a model.Act) string {
	if a.Verb == model.LeaveIt || a.Verb == model.Remove {
		return NotDeclared
	}
	for _, c := range a.Changes {
		switch {
		case c.Why.Role != "":
			return "role " + c.Why.Role
		case c.Why.At.File != "":
			return fmt.Sprintf("%s line %d", c.Why.At.File, c.Why.At.Line)
		}
	}
	if a.Verb == model.Disable {
		return NotDeclared
	}
	return ""
}

// NotDeclared is why something is taken away that nothing asks for any more.
const NotDeclared = "not declared"

// Say is one sentence on an act, for the record: "create account marit.fell: number 1042 · shell /bin/bash".
func Say(a model.Act) string {
	s := What(a) + " " + a.Name
	switch {
	case a.Moves():
		return What(a) + " " + a.Name + ": " + a.Member
	case Before(a) != "" && After(a) != "":
		s += ": " + Before(a) + " → " + After(a)
	case After(a) != "":
		s += ": " + After(a)
	}
	return s
}

func plural(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}
