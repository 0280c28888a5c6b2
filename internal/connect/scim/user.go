package scim

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
	protocol "hen-roost/internal/scim"
)

// user is what is read of one. What stands in no field is in the raw text.
type user struct {
	ID       string  `json:"id"`
	Login    string  `json:"userName"`
	External string  `json:"externalId"`
	Display  string  `json:"displayName"`
	Name     parts   `json:"name"`
	Nick     string  `json:"nickName"`
	Title    string  `json:"title"`
	Type     string  `json:"userType"`
	Language string  `json:"preferredLanguage"`
	Locale   string  `json:"locale"`
	Zone     string  `json:"timezone"`
	Active   *bool   `json:"active"`
	Mails    []value `json:"emails"`
	Phones   []value `json:"phoneNumbers"`
	Roles    []value `json:"roles"`
	Entitled []value `json:"entitlements"`
	Groups   []value `json:"groups"`
	Work     struct {
		Number       string          `json:"employeeNumber"`
		Cost         string          `json:"costCenter"`
		Organization string          `json:"organization"`
		Division     string          `json:"division"`
		Department   string          `json:"department"`
		Manager      json.RawMessage `json:"manager"`
	} `json:"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"`
	Meta struct {
		Version string `json:"version"`
	} `json:"meta"`
	raw json.RawMessage
	odd string // why it cannot be looked after
}

type parts struct {
	Written string `json:"formatted"`
	Family  string `json:"familyName"`
	Given   string `json:"givenName"`
	Middle  string `json:"middleName"`
	Before  string `json:"honorificPrefix"`
	Behind  string `json:"honorificSuffix"`
}

// value is one of several (RFC 7643 §2.4).
type value struct {
	Value   string `json:"value"`
	Type    string `json:"type,omitempty"`
	Primary bool   `json:"primary,omitempty"`
	Display string `json:"display,omitempty"`
}

// UnmarshalJSON implements json.Unmarshaler: some servers write a bare string.
func (v *value) UnmarshalJSON(b []byte) error {
	type plain value
	if len(b) > 0 && b[0] == '"' {
		return json.Unmarshal(b, &v.Value)
	}
	return json.Unmarshal(b, (*plain)(v))
}

// readUser reads a user.
func readUser(raw json.RawMessage) *user {
	u := &user{raw: raw}
	if err := json.Unmarshal(raw, u); err != nil {
		u.odd = "what the server says of it is not what the standard says: " + connect.Printable(err.Error())
	}
	if u.Login == "" && u.ID != "" { // told under its id, so that it is not lost
		u.Login, u.odd = "id "+u.ID, "it has no userName"
	}
	return u
}

// valueMost bounds a value that is kept.
const valueMost = 4096

// shown is a value as it is kept.
func shown(s string) string {
	if len(s) > valueMost {
		s = s[:valueMost] + "…"
	}
	return connect.Printable(s)
}

// object is a user as an account, but for its manager.
func (s *session) object(u *user) *model.Object {
	name, why := connect.Fit(u.Login)
	odd := u.odd
	if odd == "" {
		odd = why
	}
	o := &model.Object{Kind: model.Account, Name: name, Unique: u.ID, Ours: s.access.As != "" && strings.EqualFold(u.Login, s.access.As)}
	list := make([]model.Attribute, 0, 16)
	put := func(name string, values ...string) {
		if len(values) > 0 && values[0] != "" {
			list = append(list, model.Attribute{Name: name, Values: values})
		}
	}
	put(model.Disabled, connect.Yes(u.Active != nil && !*u.Active))
	for i, v := range []string{u.Display, u.Name.Given, u.Name.Family, u.Name.Middle, u.Name.Before, u.Name.Behind, u.Name.Written, u.Nick,
		u.Title, u.Type, u.Language, u.Locale, u.Zone, u.External, u.Work.Number, u.Work.Cost, u.Work.Organization, u.Work.Division,
		u.Work.Department} { // as simple has them
		put(simple[i].name, shown(v))
	}
	main, others := split(u.Mails)
	put(model.Mail, shown(main))
	put(moreMails, told(others)...)
	put(telephones, told(u.Phones)...)
	s.extended(u, put)
	if how := s.elevated(u); how != nil {
		put(model.Elevation, how...)
	}
	if odd != "" {
		put(model.Odd, odd)
		o.Marked = true
	}
	o.Attributes = model.Pack(list...)
	return o
}

// manager is the id of whoever leads somebody; some servers write it bare.
func (u *user) manager() string {
	if len(u.Work.Manager) == 0 {
		return ""
	}
	var v value
	_ = json.Unmarshal(u.Work.Manager, &v)
	return v.Value
}

// split tells the primary one, or the first, from the others.
func split(list []value) (main string, others []value) {
	if len(list) == 0 {
		return "", nil
	}
	at := max(slices.IndexFunc(list, func(v value) bool { return v.Primary }), 0)
	return list[at].Value, slices.Concat(list[:at], list[at+1:])
}

func told(list []value) (out []string) {
	for _, v := range list {
		if v.Value != "" {
			out = append(out, shown(typed(sortOf(v)+" "+v.Value)))
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// sortOf is the sort of a value, one word.
func sortOf(v value) string {
	if v.Type == "" {
		return "other"
	}
	return strings.ReplaceAll(v.Type, " ", "-")
}

// extended puts what stands in extensions that the standard does not know, and what the settings say stands there.
func (s *session) extended(u *user, put func(string, ...string)) {
	last, must := s.setting(lastSignIn, ""), s.setting(mustChange, "")
	var found []string
	var all map[string]json.RawMessage
	for _, e := range s.user.Extensions {
		if e.Schema == protocol.EnterpriseSchema || !bytes.Contains(u.raw, []byte(`"`+e.Schema+`":`)) {
			continue
		}
		if all == nil {
			_ = json.Unmarshal(u.raw, &all)
		}
		var in map[string]any
		if json.Unmarshal(all[e.Schema], &in) == nil {
			for k, v := range in {
				path := e.Schema + ":" + k
				word, plain := scalar(v)
				switch {
				case !plain || word == "":
				case strings.EqualFold(path, last):
					put(model.LastSignIn, day(word))
				case strings.EqualFold(path, must):
					put(model.MustChange, yes(word))
				case s.readOnly(path):
				default:
					found = append(found, shown(path+"="+word))
				}
			}
		}
	}
	for setting, as := range map[string]string{last: model.LastSignIn, must: model.MustChange} {
		if setting != "" && !strings.HasPrefix(setting, "urn:") {
			var all protocol.Resource
			_ = json.Unmarshal(u.raw, &all)
			if word, plain := scalar(all.Get(setting)); plain && word != "" {
				put(as, map[bool]string{true: day(word), false: yes(word)}[as == model.LastSignIn])
			}
		}
	}
	slices.Sort(found)
	put(extensions, found...)
}

// readOnly says whether nobody can set an attribute of an extension.
func (s *session) readOnly(path string) bool {
	at := strings.LastIndexByte(path, ':')
	a := s.schemas[path[:at]].Find(path[at+1:])
	return a != nil && a.Mutability == "readOnly"
}

func scalar(v any) (string, bool) {
	switch v := v.(type) {
	case string:
		return v, true
	case bool, float64:
		return fmt.Sprint(v), true
	}
	return "", false
}

func yes(word string) string { return connect.Yes(word == "true") }

// day is the day of a moment (RFC 3339).
func day(moment string) string {
	d, _, _ := strings.Cut(moment, "T")
	return shown(d)
}

// elevated are the roles of a user by which it can do everything.
func (s *session) elevated(u *user) (out []string) {
	for _, r := range u.Roles {
		if s.mighty(r.Value) {
			out = append(out, "right "+shown(r.Value))
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

func (s *session) mighty(role string) bool {
	return slices.ContainsFunc(s.powers(), func(x string) bool { return strings.EqualFold(x, role) })
}

// powers are the roles that make superuser, as the settings name them.
func (s *session) powers() (out []string) {
	for x := range strings.SplitSeq(s.access.Settings[mighty], ",") {
		if x = strings.TrimSpace(x); x != "" {
			out = append(out, x)
		}
	}
	return out
}
