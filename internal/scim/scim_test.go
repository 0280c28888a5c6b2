package scim

import (
	"encoding/json"
	"errors"
	"reflect"
	"testing"
)

// barbara is the full user of RFC 7643 §8.2, in part.
const barbara = `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"id":"2819c223-7f76-453a-919d-413861904646","externalId":"701984",
"userName":"bjensen@example.com","name":{"formatted":"Ms. Barbara J Jensen, III","familyName":"Jensen","givenName":"Barbara"},
"displayName":"Babs Jensen","nickName":"Babs","emails":[{"value":"bjensen@example.com","type":"work","primary":true},
{"value":"babs@jensen.org","type":"home"}],"addresses":[{"type":"work","streetAddress":"100 Universal City Plaza","locality":"Hollywood"},
{"type":"home","locality":"Hollywood"}],"title":"Tour Guide","userType":"Employee","active":true,"loginCount":7,
"meta":{"resourceType":"User","lastModified":"2011-05-13T04:42:34Z"},
"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":{"employeeNumber":"701984","manager":{"value":"26118915"}}}`

func user(t testing.TB) Resource {
	var r Resource
	if err := json.Unmarshal([]byte(barbara), &r); err != nil {
		t.Fatal(err)
	}
	return r
}

// The filters of RFC 7644 §3.4.2.2, and what stands beside them.
func TestFilter(t *testing.T) {
	for text, want := range map[string]bool{
		`userName eq "bjensen@example.com"`: true, `USERNAME Eq "BJensen@example.com"`: true, `name.familyName co "O'Malley"`: false,
		`userName sw "J"`: false, `urn:ietf:params:scim:schemas:core:2.0:User:userName sw "b"`: true, `title pr`: true, `manager pr`: false,
		`meta.lastModified gt "2011-05-13T04:42:34Z"`: false, `meta.lastModified ge "2011-05-13T04:42:34Z"`: true,
		`title pr and userType eq "Employee"`: true, `title pr or userType eq "Intern"`: true,
		`id eq "2819C223-7F76-453A-919D-413861904646"`:                                              false,
		`userType eq "Employee" and (emails co "example.com" or emails.value co "example.org")`:     true,
		`userType ne "Employee" and not (emails co "example.com" or emails.value co "example.org")`: false,
		`userType eq "Employee" and (emails.type eq "work")`:                                        true,
		`userType eq "Employee" and emails[type eq "work" and value co "@example.com"]`:             true,
		`emails[type eq "home" and value co "@example.com"]`:                                        false,
		`emails[type eq "work" and value co "@example.com"] or ims[type eq "xmpp"]`:                 true, `active eq true`: true,
		`active ne true`:  false,
		`loginCount gt 6`: true, `loginCount lt 6.5`: false, `nickName ew "bs"`: true, `displayName eq "Babs \"J\" Jensen"`: false,
		`displayName eq "B\u0061bs Jensen"`: true, `userType ne "Intern"`: true, `emails.value ne "babs@jensen.org"`: false,
		`urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:employeeNumber eq "701984"`:  true,
		`urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:manager.value eq "26118915"`: true,
		`urn:ternsound:params:scim:schemas:tickets:2.0:User:desk pr`:                             false,
		`schemas eq "urn:ietf:params:scim:schemas:core:2.0:User"`:                                true,
	} {
		f, err := ParseFilter(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		if got := f.Match(user(t)); got != want {
			t.Errorf("%s: %v", text, got)
		}
	}
	for _, text := range []string{"", "userName", `userName eq`, `userName eq "x`, `(userName pr`, `userName is "x"`} {
		var e *Error
		if _, err := ParseFilter(text); !errors.As(err, &e) || e.Type != "invalidFilter" || e.Status != 400 {
			t.Errorf("%q: %v", text, err)
		}
	}
	f, _ := ParseFilter(`userName eq "a" or userName eq "b" or userName eq "c"`)
	if got, ok := f.AnyOf("username"); !ok || !reflect.DeepEqual(got, []string{"a", "b", "c"}) {
		t.Errorf("any of: %v %v", got, ok)
	}
}

// The patches of RFC 7644 §3.5.2, each on its own copy; want is what is then at a path.
func TestPatch(t *testing.T) {
	for _, c := range []struct{ op, at, want string }{
		{`{"op":"add","value":{"emails":[{"value":"babs@jensen.org","type":"other"}],"nickname":"Babsy"}}`, "emails.type",
			`["work","home","other"]`},
		{`{"op":"add","value":{"nickname":"Babsy"}}`, "nickName", `"Babsy"`},
		{`{"op":"Add","path":"emails","value":[{"value":"babs@jensen.org","type":"home"}]}`, "emails.type", `["work","home"]`},
		{`{"op":"add","path":"emails","value":[{"value":"new@x.example","primary":true}]}`, "emails.primary", `[false,true]`},
		{`{"op":"replace","path":"name.familyName","value":"Smith"}`, "name.givenName", `"Barbara"`},
		{`{"op":"replace","path":"name","value":{"familyName":"Smith"}}`, "name.givenName", `"Barbara"`},
		{`{"op":"replace","path":"addresses[type eq \"work\"]","value":{"type":"work","locality":"Northquay"}}`, "addresses.locality",
			`["Northquay","Hollywood"]`},
		{`{"op":"replace","path":"addresses[type eq \"work\"].streetAddress","value":"1 Quay"}`, "addresses.streetAddress", `["1 Quay"]`},
		{`{"op":"replace","value":{"emails":[{"value":"x@y.example"}],"active":false}}`, "emails.value", `["x@y.example"]`},
		{`{"op":"remove","path":"emails[type eq \"work\" and value ew \"example.com\"]"}`, "emails.value", `["babs@jensen.org"]`},
		{`{"op":"remove","path":"emails"}`, "emails", `null`}, {`{"op":"remove","path":"name.formatted"}`, "name.formatted", `null`},
		{`{"op":"remove","path":"emails","value":[{"value":"babs@jensen.org","type":"home"}]}`, "emails.type", `["work"]`},
		{`{"op":"add","path":"emails[type eq \"pager\"].value","value":"p@x.example"}`, "emails.type", `["work","home","pager"]`},
		{`{"op":"replace","path":"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:employeeNumber","value":"9"}`,
			EnterpriseSchema + ":employeeNumber", `"9"`},
		{`{"op":"add","path":"urn:x:y:desk","value":"quay"}`, "urn:x:y:desk", `"quay"`},
		{`{"op":"add","value":{"urn:x:y":{"desk":"quay"}}}`, "urn:x:y:desk", `"quay"`},
		{`{"op":"remove","path":"urn:x:y:desk"}`, "urn:x:y:desk", `null`}, {`{"op":"replace","path":"active","value":false}`, "active",
			`false`},
	} {
		r := user(t)
		var op Change
		if err := json.Unmarshal([]byte(c.op), &op); err != nil {
			t.Fatal(err)
		}
		if _, err := (Patch{Operations: []Change{op}}).Apply(r); err != nil {
			t.Errorf("%s: %v", c.op, err)
		}
		if got, _ := json.Marshal(r.Get(c.at)); string(got) != c.want {
			t.Errorf("%s: at %s %s, want %s", c.op, c.at, got, c.want)
		}
	}
	for op, want := range map[string]string{`{"op":"move","path":"x"}`: "invalidSyntax", `{"op":"remove"}`: "noTarget",
		`{"op":"replace","path":"emails[type eq \"fax\"]","value":{"value":"x"}}`: "noTarget",
		`{"op":"add","path":"a[","value":1}`:                                      "invalidPath",
		`{"op":"add","value":3}`:                                                  "invalidValue",
		`{"op":"add","path":"userName.x","value":1}`:                              "invalidPath"} {
		var c Change
		_ = json.Unmarshal([]byte(op), &c)
		var e *Error
		if _, err := (Patch{Operations: []Change{c}}).Apply(user(t)); !errors.As(err, &e) || e.Type != want {
			t.Errorf("%s: %v, want %s", op, err, want)
		}
	}
	if changed, err := (Patch{Operations: []Change{{Op: "replace", Path: "active", Value: []byte("true")}}}).Apply(user(t)); changed ||
		err != nil {
		t.Errorf("nothing is changed: %v %v", changed, err)
	}
}

// What strangers send ends nothing.
func FuzzPatch(f *testing.F) {
	f.Add(`emails[type eq "work"].value`, `"x"`, "add")
	f.Add(`urn:a:b:c.d`, `{"a":[1]}`, "replace")
	f.Add(`name.familyName`, `[]`, "remove")
	f.Fuzz(func(t *testing.T, path, value, op string) {
		r := user(t)
		_, _ = (Patch{Operations: []Change{{Op: op, Path: path, Value: []byte(value)}}}).Apply(r)
		if _, err := json.Marshal(r); err != nil {
			t.Error(err)
		}
		if x, err := ParseFilter(path); err == nil {
			x.Match(r)
		}
	})
}
