package exchange

import (
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"
)

// ldifFields says which attribute holds which field (RFC 2798, RFC 4519, RFC 2307).
var ldifFields = map[string]string{"uid": "id", "cn": "name", "displayname": "name", "givenname": "given", "sn": "family", "mail": "mail",
	"uidnumber": "number", "employeenumber": "details.employee-number", "l": "details.place", "departmentnumber": "details.department"}

// ReadLDIF reads the people of LDIF content records (RFC 2849): entries with a
// uid. Change records are refused; values behind URLs are not fetched.
func ReadLDIF(text string) ([]User, []Unread) {
	r := ldifReader{}
	for _, l := range unfolded(text) {
		r.line(l)
	}
	r.end()
	return Gather(r.users, r.faults)
}

// ldifReader gathers entries line by line.
type ldifReader struct {
	users  []User
	faults []Unread
	now    *User
	names  map[string]string // of the entry: attribute → first value
	bad    bool              // the entry is at fault: the rest of it is passed over
}

func (r *ldifReader) fault(line int, format string, args ...any) {
	r.faults, r.bad = unread(r.faults, line, fmt.Sprintf(format, args...)), true
}

func (r *ldifReader) line(l ldifLine) {
	switch {
	case l.text == "":
		r.end()
		return
	case strings.HasPrefix(l.text, "#"), r.now == nil && strings.HasPrefix(l.text, "version:"), r.bad:
		return
	}
	attribute, value, err := ldifValue(l.text)
	switch {
	case err != nil:
		r.fault(l.number, "%v", err)
	case r.now == nil && attribute != "dn":
		r.fault(l.number, "an entry begins with its dn, not with %q", attribute)
		r.now = &User{Line: l.number}
	case r.now == nil:
		r.now, r.names = &User{Line: l.number}, map[string]string{}
	case attribute == "changetype":
		r.fault(l.number, "a change record; only entries can be read")
	case r.names[attribute] == "":
		r.names[attribute] = value
	}
}

// ldifOrder is the order in which attributes are taken: of two that say the same the first counts.
var ldifOrder = []string{"uid", "displayname", "cn", "givenname", "sn", "mail", "uidnumber", "employeenumber", "l", "departmentnumber"}

// end closes an entry.
func (r *ldifReader) end() {
	if r.now != nil && !r.bad && r.names["uid"] != "" {
		for _, attribute := range ldifOrder {
			field := ldifFields[attribute]
			if field == "name" && r.now.Name != "" || r.names[attribute] == "" {
				continue
			}
			if err := r.now.Set(field, r.names[attribute]); err != nil {
				r.fault(r.now.Line, "%v", err)
			}
		}
		if manager := r.names["manager"]; manager != "" && !r.bad {
			r.now.Manager = uidOf(manager)
		}
		if !r.bad {
			r.users = append(r.users, *r.now)
		}
	}
	r.now, r.names, r.bad = nil, nil, false
}

type ldifLine struct {
	number int
	text   string
}

// unfolded joins continued lines (RFC 2849, note 2).
func unfolded(text string) []ldifLine {
	var out []ldifLine
	number := 0
	for line := range strings.SplitSeq(text, "\n") {
		number++
		line = strings.TrimSuffix(line, "\r")
		if strings.HasPrefix(line, " ") && len(out) > 0 && out[len(out)-1].text != "" {
			out[len(out)-1].text += line[1:]
			continue
		}
		out = append(out, ldifLine{number, line})
	}
	return out
}

// ldifValue reads "name: value", "name:: base64" and refuses "name:< url".
func ldifValue(line string) (attribute, value string, err error) {
	name, rest, ok := strings.Cut(line, ":")
	if !ok || name == "" {
		return "", "", fmt.Errorf("%.40q is not an attribute with a value", line)
	}
	name, _, _ = strings.Cut(strings.ToLower(name), ";") // options such as ;lang-en say nothing here
	switch {
	case strings.HasPrefix(rest, ":"):
		b, err := base64.StdEncoding.DecodeString(strings.TrimSpace(rest[1:]))
		if err != nil {
			return "", "", fmt.Errorf("the value of %s is not base64: %w", name, err)
		}
		if !utf8.Valid(b) {
			return name, "", nil // a picture, or the like
		}
		return name, string(b), nil
	case strings.HasPrefix(rest, "<"):
		return "", "", errors.New("the value of " + name + " is an address; it is not fetched")
	}
	return name, strings.TrimLeft(rest, " "), nil
}

// uidOf is the uid that a DN begins with, "" when it begins otherwise.
func uidOf(dn string) string {
	first, _, _ := strings.Cut(dn, ",")
	name, value, _ := strings.Cut(first, "=")
	if !strings.EqualFold(strings.TrimSpace(name), "uid") || strings.Contains(value, `\`) {
		return ""
	}
	return strings.TrimSpace(value)
}

// WriteLDIF writes users as entries of inetOrgPerson below base, such as ou=People,dc=ternsound,dc=example.
func WriteLDIF(users []User, base string) string {
	var b strings.Builder
	b.WriteString("version: 1\n")
	for _, u := range users {
		b.WriteString("\n")
		dn := "uid=" + escapeDN(u.ID)
		if base != "" {
			dn += "," + base
		}
		put := func(name, value string) {
			if value != "" {
				b.WriteString(fold(ldifText(name, value)))
			}
		}
		put("dn", dn)
		put("objectClass", "inetOrgPerson")
		put("uid", u.ID)
		put("cn", u.Name)
		put("givenName", u.Given)
		family := u.Family
		if family == "" {
			family = u.Name // sn must be there (RFC 4519, 3.12)
		}
		put("sn", family)
		put("mail", u.Mail)
		put("employeeNumber", u.Details["employee-number"])
		put("l", u.Details["place"])
	}
	return b.String()
}

// ldifText writes a value plainly where it is a SAFE-STRING, else in base64.
func ldifText(name, value string) string {
	safe := value[0] != ' ' && value[0] != ':' && value[0] != '<' && value[len(value)-1] != ' '
	for i := range len(value) {
		if c := value[i]; c == 0 || c == '\n' || c == '\r' || c >= 0x80 {
			safe = false
		}
	}
	if safe {
		return name + ": " + value
	}
	return name + ":: " + base64.StdEncoding.EncodeToString([]byte(value))
}

// fold breaks a line after 76 bytes.
func fold(line string) string {
	var b strings.Builder
	for most := 76; len(line) > most; most = 75 {
		b.WriteString(line[:most] + "\n ")
		line = line[most:]
	}
	return b.String() + line + "\n"
}

// escapeDN escapes a value in a DN (RFC 4514, 2.4).
func escapeDN(s string) string {
	var b strings.Builder
	for i := range len(s) {
		c := s[i]
		if strings.IndexByte(`,+"\<>;=`, c) >= 0 || i == 0 && (c == '#' || c == ' ') || i == len(s)-1 && c == ' ' {
			b.WriteByte('\\')
		}
		b.WriteByte(c)
	}
	return b.String()
}
