// Package exchange reads users from other formats and writes them: CSV
// (RFC 4180) with a mapping of columns, LDIF (RFC 2849) with inetOrgPerson
// (RFC 2798) and SCIM user JSON (RFC 7643). What is read becomes edits of the
// declaration, so that its comments and order stay.
package exchange

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
)

// User is a user as other systems know one. Fields left empty are not said.
type User struct {
	ID, Name, Given, Family, Mail, Manager string

	Number      string
	From, Until string            // days, 2006-01-02
	Details     map[string]string // whatever else there is, by key
	Roles       []string
	Line        int // where it begins in what was read
}

// Fields that a column or attribute can be mapped to, beside details.KEY.
var Fields = []string{"id", "name", "given", "family", "number", "mail", "manager", "from", "until", "roles"}

// Set puts a value into a field by its name: one of Fields, or details.KEY. An empty value says nothing.
func (u *User) Set(field, value string) error {
	value = strings.TrimSpace(value)
	if value == "" {
		return nil
	}
	if strings.ContainsFunc(value, func(r rune) bool { return r < ' ' || r == 0x7f || r == 0xfffd }) {
		return fmt.Errorf("%s holds a control character or is not UTF-8", field)
	}
	if detail, ok := strings.CutPrefix(field, "details."); ok {
		if u.Details == nil {
			u.Details = map[string]string{}
		}
		u.Details[detail] = value
		return nil
	}
	switch field {
	case "id":
		u.ID = value
	case "name":
		u.Name = value
	case "given":
		u.Given = value
	case "family":
		u.Family = value
	case "mail":
		u.Mail = value
	case "manager":
		u.Manager = value
	case "number":
		if n, err := strconv.Atoi(value); err != nil || n < 1 {
			return fmt.Errorf("number %q is not a whole number from 1", value)
		}
		u.Number = value
	case "from", "until":
		if _, err := time.Parse(time.DateOnly, value); err != nil {
			return fmt.Errorf("%s %q is not a day; write it as 2026-04-01", field, value)
		}
		if field == "from" {
			u.From = value
		} else {
			u.Until = value
		}
	case "roles":
		for r := range strings.FieldsFuncSeq(value, func(c rune) bool { return c == ';' || c == ',' || c == ' ' }) {
			u.Roles = append(u.Roles, r)
		}
	}
	return nil
}

// finish fills in what follows from the rest, and says what is missing.
func (u *User) finish() error {
	if u.ID == "" {
		return fmt.Errorf("no id")
	}
	if u.Name == "" {
		u.Name = strings.TrimSpace(u.Given + " " + u.Family)
	}
	if u.Name == "" {
		return fmt.Errorf("user %s has no name", u.ID)
	}
	return nil
}

// Unread is what keeps one user from being read.
type Unread struct {
	Line  int    `json:"line"`
	Words string `json:"words"`
}

// maxUnread bounds how many are told of; one more says that there are others.
const maxUnread = 1000

func unread(list []Unread, line int, words string) []Unread {
	switch n := len(list); {
	case n < maxUnread:
		return append(list, Unread{line, words})
	case n == maxUnread:
		return append(list, Unread{line, fmt.Sprintf("this and perhaps others cannot be read either; only the first %d are told",
			maxUnread)})
	}
	return list
}

// Gather finishes users, and keeps those without faults that stand there once.
func Gather(users []User, faults []Unread) ([]User, []Unread) {
	seen := map[string]int{}
	out := users[:0]
	for _, u := range users {
		err := u.finish()
		if first, twice := seen[u.ID]; err == nil && twice {
			err = fmt.Errorf("user %s stands twice, first on line %d", u.ID, first)
		}
		if err != nil {
			faults = unread(faults, u.Line, err.Error())
			continue
		}
		seen[u.ID] = u.Line
		out = append(out, u)
	}
	return out, faults
}

// Summary counts what an import would do.
type Summary struct {
	New     int `json:"new"`
	Changed int `json:"changed"`
	Same    int `json:"same"`
}

// Edits makes the edits that bring a declaration to what was read: new users
// with all that is said of them and the given roles, known ones with the fields
// that differ. Nobody is taken away. Values that the declaration works out, as
// in ${user.id}@…, are left where they come out the same; filled says how they do.
func Edits(d *model.Declaration, users []User, roles []string, file string,
	filled func(id, field string) string) ([]declare.Edit, Summary) {
	var out []declare.Edit
	var sum Summary
	for _, u := range users {
		known := d.Users[u.ID]
		if known == nil {
			sum.New++
			out = append(out, declare.Edit{Section: "users", Name: u.ID, Do: declare.Set, File: file, Value: u.value(roles)})
			continue
		}
		before := len(out)
		for _, f := range u.fields() {
			if f.value != "" && filled(u.ID, f.name) != f.value {
				out = append(out, declare.Edit{Section: "users", Name: u.ID, Key: f.name, Do: declare.Set, Value: f.plain()})
			}
		}
		for _, role := range u.Roles {
			if !slices.ContainsFunc(known.Roles, func(h model.Holding) bool { return h.Name == role }) {
				out = append(out, declare.Edit{Section: "users", Name: u.ID, Key: "roles", Do: declare.Add, Value: role})
			}
		}
		if len(out) > before {
			sum.Changed++
		} else {
			sum.Same++
		}
	}
	return out, sum
}

type field struct{ name, value string }

func (f field) plain() any {
	if n, err := strconv.Atoi(f.value); err == nil && f.name == "number" {
		return n
	}
	return f.value
}

func (u User) fields() []field {
	out := []field{{"name", u.Name}, {"given", u.Given}, {"family", u.Family}, {"number", u.Number}, {"mail", u.Mail},
		{"manager", u.Manager}, {"from", u.From}, {"until", u.Until}}
	var keys []string
	for k := range u.Details {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	for _, k := range keys {
		out = append(out, field{"details." + k, u.Details[k]})
	}
	return out
}

// value is a new user as an entry of the declaration.
func (u User) value(roles []string) map[string]any {
	v, details := map[string]any{}, map[string]any{}
	for _, f := range u.fields() {
		if detail, ok := strings.CutPrefix(f.name, "details."); ok {
			details[detail] = f.value
		} else if f.value != "" {
			v[f.name] = f.plain()
		}
	}
	if len(details) > 0 {
		v["details"] = details
	}
	list := []any{}
	for _, r := range append(slices.Clone(u.Roles), roles...) {
		if !slices.Contains(list, any(r)) {
			list = append(list, r)
		}
	}
	if len(list) > 0 {
		v["roles"] = list
	}
	return v
}
