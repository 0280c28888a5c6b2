package scim

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
)

// The messages of RFC 7644, as they are written and read.
func TestMessages(t *testing.T) {
	text, err := json.Marshal(NewError(409, "uniqueness", "there is one"))
	if err != nil || string(text) != `{"schemas":["urn:ietf:params:scim:api:messages:2.0:Error"],"status":"409","scimType":"uniqueness",`+
		`"detail":"there is one"}` {
		t.Errorf("%s %v", text, err)
	}
	for text, want := range map[string]Status{`{"status":"404"}`: 404, `{"status":404}`: 404} { // §3.12 writes it as a string
		var e Error
		if err := json.Unmarshal([]byte(text), &e); err != nil || e.Status != want {
			t.Errorf("%s: %d %v", text, e.Status, err)
		}
	}
	var e Error
	if json.Unmarshal([]byte(`{"status":"soon"}`), &e) == nil {
		t.Error("a status that is none")
	}
	if got := NewError(400, "", "").Error(); got != "it does not understand what it was sent (400)" {
		t.Error(got)
	}
	var c Config // RFC 7643 §8.5, and RFC 9865 §4
	if err := json.Unmarshal([]byte(`{"schemas":["urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig"],"patch":{"supported":true},
		"bulk":{"supported":true,"maxOperations":1000,"maxPayloadSize":1048576},"filter":{"supported":true,"maxResults":200},
		"changePassword":{"supported":true},"sort":{"supported":true},"etag":{"supported":true},
		"pagination":{"cursor":true,"index":true,"maxPageSize":100},"authenticationSchemes":[{"name":"OAuth Bearer Token","description":"x",
		"type":"oauthbearertoken"}]}`), &c); err != nil {
		t.Fatal(err)
	}
	if !c.Bulk.Supported || c.Bulk.Operations != 1000 || c.Bulk.Bytes != 1<<20 || c.Filter.Results != 200 || !c.Pages.Cursor ||
		c.Pages.Most != 100 {
		t.Errorf("%+v", c)
	}
	s := Schema{Attributes: []Attribute{{Name: "userName"}}}
	if s.Find("USERNAME") == nil || s.Find("x") != nil || (*Schema)(nil).Find("x") != nil {
		t.Error("an attribute is not found")
	}
}

// References among many requests (RFC 7644 §3.7.2).
func TestResolve(t *testing.T) {
	made := map[string]string{"ytrewq": "2819c223", "a": "1"}
	for _, c := range []struct {
		path, data, wantPath, wantData string
		missing                        bool
	}{
		{"/Groups", `{"members":[{"value":"bulkId:ytrewq"}]}`, "/Groups", `{"members":[{"value":"2819c223"}]}`, false},
		{"/Users/bulkId:a", `{}`, "/Users/1", `{}`, false}, {"/Users/bulkId:b", `{}`, "/Users/bulkId:b", `{}`, true},
		{"/Users", `{"title":"about bulkId:a"}`, "/Users", `{"title":"about bulkId:a"}`, false},
		{"/Users/bulkId:aa", `{"x":"bulkId:none"}`, "/Users/bulkId:aa", `{"x":"bulkId:none"}`, true}, {"/Users", ``, "/Users", ``, false},
	} {
		q := Request{Path: c.path, Data: json.RawMessage(c.data)}
		if missing := q.Resolve(made); missing != c.missing || q.Path != c.wantPath || string(q.Data) != c.wantData {
			t.Errorf("%s %s: %s %s %v", c.path, c.data, q.Path, q.Data, missing)
		}
	}
}

// A query from an address and one in a body are the same.
func TestSearch(t *testing.T) {
	address := httptest.NewRequest(http.MethodGet, `/Users?filter=title+pr&startIndex=3&count=0&attributes=title,name&cursor=`, nil)
	body := httptest.NewRequest(http.MethodPost, "/Users/.search", strings.NewReader(`{"filter":"title pr","startIndex":3,"count":0,
		"attributes":["title","name"],"cursor":""}`))
	for _, r := range []*http.Request{address, body} {
		q, err := ReadSearch(r)
		if err != nil || q.Filter != "title pr" || q.Start != 3 || q.Count == nil || *q.Count != 0 || q.Cursor == nil ||
			!slices.Equal(q.Attributes, []string{"title", "name"}) {
			t.Errorf("%+v %v", q, err)
		}
	}
	for _, r := range []*http.Request{httptest.NewRequest(http.MethodGet, "/Users?startIndex=first", nil),
		httptest.NewRequest(http.MethodGet, "/Users?count=few", nil), httptest.NewRequest(http.MethodPost, "/Users/.search",
			strings.NewReader("x"))} {
		if _, err := ReadSearch(r); err == nil {
			t.Errorf("%s is taken", r.URL)
		}
	}
}

// Attributes are chosen by name, by part, and with their schema (RFC 7644 §3.9).
func TestProject(t *testing.T) {
	for _, c := range []struct{ only, but, want string }{{"", "", "all"}, {"userName", "", "id schemas userName"},
		{"USERNAME, name.givenName", "", "id name schemas userName"}, {"", "emails,meta", "active addresses displayName externalId"},
		{UserSchema + ":title", "", "id schemas title"}, {EnterpriseSchema, "", "id schemas " + EnterpriseSchema},
		{EnterpriseSchema + ":employeeNumber", "", "id schemas " + EnterpriseSchema}, {"nothing", "", "id schemas"}} {
		var got []string
		for k := range Project(user(t), c.only, c.but) {
			got = append(got, k)
		}
		slices.Sort(got)
		if s := strings.Join(got, " "); c.want != "all" && s != c.want && !strings.HasPrefix(s, c.want) || c.want == "all" &&
			len(got) != len(user(t)) {
			t.Errorf("%q %q: %s, want %s", c.only, c.but, s, c.want)
		}
	}
}

// What stands deeper, in any case; a filter that stands in itself too often is refused.
func TestDepths(t *testing.T) {
	r := user(t)
	for path, want := range map[string]string{"NAME.familyname": `"Jensen"`, "emails.value": `["bjensen@example.com","babs@jensen.org"]`,
		EnterpriseSchema + ":manager.value": `"26118915"`, "urn:x:y:z": "null", "name.nothing": "null", "active.value": "null"} {
		if got, _ := json.Marshal(r.Get(path)); string(got) != want {
			t.Errorf("%s: %s, want %s", path, got, want)
		}
	}
	if _, err := ParseFilter(strings.Repeat("(", 60) + "a pr" + strings.Repeat(")", 60)); err == nil {
		t.Error("sixty deep is taken")
	}
	if _, err := ParseFilter(strings.Repeat("(", 40) + "a pr" + strings.Repeat(")", 40)); err != nil {
		t.Error(err)
	}
	if _, err := ParseFilter("a eq \"" + strings.Repeat("x", 70<<10) + "\""); err == nil {
		t.Error("70 KB are taken")
	}
	for text, want := range map[string]bool{`a pr or b pr and c pr`: true, `(a pr or b pr) and c pr`: false, `not(b pr)and a pr`: true,
		`a pr  and   not ( c pr )`: true, `$ref pr`: false, `a-b pr`: false, `android pr`: false, `orange pr or a pr`: true} {
		f, err := ParseFilter(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
		} else if got := f.Match(Resource{"a": "1"}); got != want {
			t.Errorf("%s: %v", text, got)
		}
	}
	for _, text := range []string{"a pr b pr", "a eq {}", "a eq [1]", "1a pr", "a. pr", "a[b pr", "a[b pr]x pr", "not a pr", "a eq tru",
		"and pr and"} {
		if _, err := ParseFilter(text); err == nil {
			t.Errorf("%s is taken", text)
		}
	}
}
