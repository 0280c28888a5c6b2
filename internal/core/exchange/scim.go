package exchange

import (
	"encoding/json"
	"fmt"
	"strings"
)

const (
	coreUser   = "urn:ietf:params:scim:schemas:core:2.0:User"
	enterprise = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
	listOf     = "urn:ietf:params:scim:api:messages:2.0:ListResponse"
)

// scimUser is the part of a SCIM user that says something here (RFC 7643, 4.1 and 4.3).
type scimUser struct {
	Schemas  []string `json:"schemas"`
	UserName string   `json:"userName"`
	Name     struct {
		Formatted string `json:"formatted,omitempty"`
		Family    string `json:"familyName,omitempty"`
		Given     string `json:"givenName,omitempty"`
	} `json:"name"`
	Display    string      `json:"displayName,omitempty"`
	Emails     []scimEmail `json:"emails,omitempty"`
	Enterprise struct {
		Number     string `json:"employeeNumber,omitempty"`
		Department string `json:"department,omitempty"`
		Manager    *struct {
			Value string `json:"value,omitempty"`
		} `json:"manager,omitempty"`
	} `json:"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User,omitzero"`
}

type scimEmail struct {
	Value   string `json:"value"`
	Primary bool   `json:"primary,omitempty"`
}

// ReadSCIM reads one user, a list of users, or a ListResponse. Line counts users from 1.
func ReadSCIM(text string) ([]User, []Unread) {
	var raw []json.RawMessage
	if err := json.Unmarshal([]byte(text), &raw); err != nil {
		var list struct {
			Resources []json.RawMessage `json:"Resources"`
		}
		if err := json.Unmarshal([]byte(text), &list); err != nil {
			return nil, []Unread{{1, fmt.Sprintf("not SCIM JSON: %v", err)}}
		}
		if raw = list.Resources; raw == nil {
			raw = []json.RawMessage{json.RawMessage(text)}
		}
	}
	var users []User
	var faults []Unread
	for i, one := range raw {
		var s scimUser
		err := json.Unmarshal(one, &s)
		u := User{Line: i + 1}
		if err == nil {
			err = u.scim(s)
		}
		if err != nil {
			faults = unread(faults, i+1, err.Error())
			continue
		}
		users = append(users, u)
	}
	return Gather(users, faults)
}

func (u *User) scim(s scimUser) error {
	mail := ""
	for _, e := range s.Emails {
		if mail == "" || e.Primary {
			mail = e.Value
		}
	}
	manager := ""
	if s.Enterprise.Manager != nil {
		manager = s.Enterprise.Manager.Value
	}
	name := s.Display
	if name == "" {
		name = s.Name.Formatted
	}
	for field, value := range map[string]string{"id": s.UserName, "name": name, "given": s.Name.Given, "family": s.Name.Family,
		"mail": mail, "manager": manager,
		"details.employee-number": s.Enterprise.Number, "details.department": s.Enterprise.Department} {
		if err := u.Set(field, value); err != nil {
			return err
		}
	}
	return nil
}

// WriteSCIM writes users as a ListResponse (RFC 7644, 3.4.2).
func WriteSCIM(users []User) string {
	list := struct {
		Schemas   []string   `json:"schemas"`
		Total     int        `json:"totalResults"`
		Resources []scimUser `json:"Resources"`
	}{[]string{listOf}, len(users), []scimUser{}}
	for _, u := range users {
		s := scimUser{Schemas: []string{coreUser}, UserName: u.ID, Display: u.Name}
		s.Name.Formatted, s.Name.Family, s.Name.Given = u.Name, u.Family, u.Given
		if u.Mail != "" {
			s.Emails = []scimEmail{{u.Mail, true}}
		}
		s.Enterprise.Number, s.Enterprise.Department = u.Details["employee-number"], u.Details["department"]
		if u.Manager != "" {
			s.Enterprise.Manager = &struct {
				Value string `json:"value,omitempty"`
			}{u.Manager}
		}
		if s.Enterprise.Number+s.Enterprise.Department+u.Manager != "" {
			s.Schemas = append(s.Schemas, enterprise)
		}
		list.Resources = append(list.Resources, s)
	}
	var b strings.Builder
	e := json.NewEncoder(&b)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	_ = e.Encode(list) // plain values, into memory
	return b.String()
}
