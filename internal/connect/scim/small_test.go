package scim

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
	protocol "hen-roost/internal/scim"
)

// bare is a session that reaches nothing.
func bareSession(settings map[string]string) *session {
	return &session{access: connect.Access{As: "hen-roost", Settings: settings}, schemas: map[string]*protocol.Schema{
		"urn:x:y": {ID: "urn:x:y", Attributes: []protocol.Attribute{{Name: "level", Type: "integer"}, {Name: "vip", Type: "boolean"},
			{Name: "seen", Mutability: "readOnly"}}}},
		user: protocol.Type{Extensions: []protocol.Extension{{Schema: protocol.EnterpriseSchema}, {Schema: "urn:x:y"}}}}
}

// A user as servers write one, in all the ways that they do.
func TestUser(t *testing.T) {
	for _, c := range [][2]string{
		{`{"id":"1","userName":"ulla","displayName":"Ulla Niemi","active":true}`, "disabled=no full-name=Ulla Niemi"},
		{`{"id":"1","userName":"ulla"}`, "disabled=no"},
		{`{"id":"1","userName":"ulla","active":false}`, "disabled=yes"},
		{`{"id":"1","userName":"ulla","emails":["u@x.example"]}`, "disabled=no mail=u@x.example"},
		{`{"id":"1","userName":"ulla","emails":[{"value":"a"},{"value":"b","primary":true}]}`,
			"disabled=no mail=b more-mails=other a"},
		{`{"id":"1","userName":"ulla","phoneNumbers":[{"value":"+47 1","type":"Work phone"}]}`,
			"disabled=no telephones=work-phone +47 1"},
		{`{"id":"1","userName":"ulla","name":{"givenName":"Ulla","honorificPrefix":"Capt."}}`,
			"disabled=no given=Ulla name-before=Capt."},
		{`{"id":"1","userName":"ulla","roles":["Owner",{"value":"agent"}]}`, "disabled=no elevation=right Owner"},
		{`{"id":"1","userName":"ulla","urn:x:y":{"level":3,"vip":true,"seen":"x","list":[1]}}`,
			"disabled=no extensions=urn:x:y:level=3|urn:x:y:vip=true"},
		{`{"id":"1","userName":"ulla","lastLogin":"2031-02-03T04:05:06Z","urn:x:y":{"must":1}}`,
			"disabled=no extensions=urn:x:y:must=1 last-sign-in=2031-02-03"},
		{`{"id":"1","userName":"ulla","title":"a\u001b[31mb"}`, "disabled=no title=a [31mb"},
		{`{"id":"1","userName":"ulla","displayName":7}`, "odd"},
		{`{"id":"1","displayName":"Nameless"}`, "odd"},
		{`{"id":"1","userName":"u\u0007lla"}`, "odd"},
		{`{"id":"1","userName":"hen-roost","urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":{"department":"Deck","costCenter":"4"}}`,
			"cost-centre=4 department=Deck disabled=no ours"},
	} {
		text, want := c[0], c[1]
		s := bareSession(map[string]string{mighty: "owner", lastSignIn: "lastLogin"})
		u := readUser(json.RawMessage(text))
		o := s.object(u)
		var got []string
		for name, values := range o.Attributes.All() {
			got = append(got, name+"="+strings.Join(values, "|"))
		}
		if o.Ours {
			got = append(got, "ours")
		}
		slices.Sort(got)
		if all := strings.Join(got, " "); want == "odd" && (!o.Marked || !o.Attributes.Has(model.Odd)) || want != "odd" &&
			all != sorted(want) {
			t.Errorf("%s: %s, want %s", text, all, want)
		}
	}
}

// sorted puts words that are told as name=value in order; values may have spaces.
func sorted(s string) string {
	var out []string
	for part := range strings.SplitSeq(s, " ") {
		if strings.Contains(part, "=") || part == "ours" || len(out) == 0 {
			out = append(out, part)
		} else {
			out[len(out)-1] += " " + part
		}
	}
	slices.Sort(out)
	return strings.Join(out, " ")
}

// The changes of an account as they are sent.
func TestChanges(t *testing.T) {
	const was = `{"id":"7","userName":"ulla","emails":[{"value":"a@x","type":"work","primary":true},{"value":"h@x","type":"home","display":"H"}],
		"phoneNumbers":[{"value":"+47 1","type":"work"}],"urn:x:y":{"level":3}}`
	v := &seen{users: map[string][]*user{"ulla": {readUser([]byte(was))}, "boss": {{ID: "9", Login: "boss"}}}}
	for _, c := range []struct {
		attribute     string
		before, after []string
		want          string
	}{
		{model.FullName, nil, []string{`Ulla "U" Niemi`}, `replace displayName "Ulla \"U\" Niemi"`},
		{model.FullName, []string{"x"}, nil, "remove displayName "}, {"surname", nil, []string{"N"}, `replace name.familyName "N"`},
		{"department", nil, []string{"Deck"}, `replace urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department "Deck"`},
		{model.Disabled, []string{"no"}, []string{"yes"}, "replace active false"},
		{model.Mail, []string{"a@x"}, []string{"b@x"},
			`replace emails [{"value":"b@x","type":"work","primary":true},{"value":"h@x","type":"home","display":"H"}]`},
		{model.Mail, []string{"a@x"}, nil, `replace emails [{"value":"h@x","type":"home","display":"H"}]`},
		{moreMails, []string{"home h@x"}, nil, `replace emails [{"value":"a@x","type":"work","primary":true}]`},
		{moreMails, []string{"home h@x"}, []string{"home h@x", "Other  z@x"},
			`replace emails [{"value":"a@x","type":"work","primary":true},{"value":"h@x","type":"home","display":"H"},{"value":"z@x","type":"other"}]`},
		{telephones, []string{"work +47 1"}, []string{"work +47 2"}, `replace phoneNumbers [{"value":"+47 2","type":"work"}]`},
		{telephones, []string{"work +47 1"}, nil, `replace phoneNumbers []`},
		{manager, nil, []string{"boss"}, `replace urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:manager {"value":"9"}`},
		{manager, []string{"boss"}, nil, `remove urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:manager `},
		{manager, nil, []string{"nobody"}, "fault nobody, who should lead them"},
		{extensions, []string{"urn:x:y:level=3"}, []string{"urn:x:y:level=4", "urn:x:y:vip=true", "urn:z:a=b"},
			`replace urn:x:y:level 4; replace urn:x:y:vip true; replace urn:z:a "b"`},
		{extensions, []string{"urn:x:y:level=3"}, nil, "remove urn:x:y:level "}, {extensions, nil, []string{"level=3"},
			`fault "level=3" is not`},
		{model.MustChange, nil, []string{"yes"}, "fault nothing says where"}, {"shoe-size", nil, []string{"40"},
			"fault shoe-size cannot be set"},
		{model.Password, nil, []string{"x"}, "fault a password of no letters"},
	} {
		b := &batch{session: bareSession(nil), before: v, ids: map[model.Named]string{}}
		v.session = b.session
		a := connect.Act{Act: model.Act{Verb: model.Modify, Object: model.Account, Name: "ulla",
			Changes: []model.Change{{Attribute: c.attribute,
				Before: c.before, After: c.after}}}}
		ops, err := b.changes(a)
		var got []string
		for _, op := range ops {
			got = append(got, fmt.Sprintf("%s %s %s", op.Op, op.Path, op.Value))
		}
		if err != nil {
			got = []string{"fault " + err.Error()}
		}
		if all := strings.Join(got, "; "); all != c.want && (err == nil || !strings.HasPrefix(all, c.want)) {
			t.Errorf("%s %v → %v:\n%s, want\n%s", c.attribute, c.before, c.after, all, c.want)
		}
	}
}

// When a server may be asked again, and what it says is cleaned.
func TestAgain(t *testing.T) {
	for _, c := range []struct {
		status int
		after  string
		safe   bool
		want   time.Duration
	}{{429, "3", false, 3 * time.Second}, {503, "", false, time.Second}, {429, "0", true, time.Second / 5}, {500, "", true,
		time.Second / 2},
		{500, "", false, 0}, {501, "", true, 0}, {404, "", true, 0}, {429, "soon", false, time.Second},
		{429, time.Now().Add(-time.Hour).UTC().Format(http.TimeFormat), false, time.Second / 5}} {
		r := &http.Response{StatusCode: c.status, Header: http.Header{}}
		r.Header.Set("Retry-After", c.after)
		if got := again(r, c.safe); got != c.want {
			t.Errorf("%+v: %s", c, got)
		}
	}
	for text, want := range map[string]string{`{"detail":"no\u001b seat","scimType":"tooMany","status":"200"}`: "no  seat (409 tooMany)",
		`<html>`: "it is against what it holds (409)", ``: "it is against what it holds (409)", `{"status":"x"}`: "it is against what it holds (409)"} {
		if got := refusal(409, []byte(text)).Error(); got != want {
			t.Errorf("%s: %q, want %q", text, got, want)
		}
	}
	for in, want := range map[string]string{"Work  a@x": "work a@x", "a@x": "other a@x", " HOME b ": "home b"} {
		if got := typed(in); got != want {
			t.Errorf("%q: %q", in, got)
		}
	}
	for in, ok := range map[string]bool{"agent": true, " Second, role ": true, "": false, "a\nb": false} {
		if _, err := readRole(in); (err == nil) != ok {
			t.Errorf("%q: %v", in, err)
		}
	}
}
