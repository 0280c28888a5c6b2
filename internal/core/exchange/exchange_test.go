package exchange_test

import (
	"fmt"
	"reflect"
	"strings"
	"testing"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/exchange"
)

var people = []exchange.User{
	{ID: "marit.fell", Name: "Marit Fell", Given: "Marit", Family: "Fell", Number: "1001", Mail: "marit@ternsound.example",
		Manager: "odd.strand", From: "2026-04-01", Roles: []string{"deck-crew", "bosun"},
		Details: map[string]string{"employee-number": "7"}},
	{ID: `o'neil, "seán" +x`, Name: `Seán O'Neill, "Jr"; <x>`, Details: map[string]string{"base": "a,b"}},
	{ID: "noor", Name: "نور حداد", Given: " نور"[1:]},
}

func plain(list []exchange.User) []exchange.User {
	out := append([]exchange.User(nil), list...)
	for i := range out {
		out[i].Line = 0
	}
	return out
}

// Written and read again, everything is as it was that the format can say.
func TestRoundTrip(t *testing.T) {
	got, faults := exchange.ReadCSV(exchange.WriteCSV(people), nil)
	if len(faults) > 0 || !reflect.DeepEqual(plain(got), people) {
		t.Errorf("%v\n%+v", faults, got)
	}
	for name, back := range map[string]func() ([]exchange.User, []exchange.Unread){
		"ldif": func() ([]exchange.User, []exchange.Unread) {
			return exchange.ReadLDIF(exchange.WriteLDIF(people, "ou=People,dc=ternsound,dc=example"))
		},
		"scim": func() ([]exchange.User, []exchange.Unread) { return exchange.ReadSCIM(exchange.WriteSCIM(people)) },
	} {
		got, faults := back()
		if len(faults) > 0 || len(got) != 3 {
			t.Fatalf("%s: %v %+v", name, faults, got)
		}
		for i, u := range got {
			if u.ID != people[i].ID || u.Name != people[i].Name || u.Mail != people[i].Mail || u.Given != people[i].Given {
				t.Errorf("%s: %+v came back as %+v", name, people[i], u)
			}
		}
	}
}

func TestReadCSV(t *testing.T) {
	got, faults := exchange.ReadCSV("\ufeffStaff No;x,Login,Full name,Start\r\n7,marit.fell,\"Fell, "+
		"\"\"Marit\"\"\",2026-04-01\r\n8,olav,,2026-04-01\r\n9,per,Per,soon\r\n10,marit.fell,Again,\r\n11,a,b,c,d,e\r\n",
		map[string]string{"id": "login", "name": "Full Name", "from": "Start", "details.staff": "Staff No;x"})
	if len(got) != 1 || got[0].Name != `Fell, "Marit"` || got[0].From != "2026-04-01" || got[0].Details["staff"] != "7" {
		t.Errorf("%+v", got)
	}
	if want := `[{4 from "soon" is not a day; write it as 2026-04-01} {6 has 6 cells, and there are 4 columns} {3 user olav has no name} {5 user marit.fell stands twice, first on line 2}]`; fmt.Sprint(faults) != want {
		t.Errorf("got  %v\nwant %s", faults, want)
	}
	for text, want := range map[string]string{"": "no line that names the columns",
		"name\nx\n": "no column holds the id; map one as id=COLUMN", "id,name\na,\"b\n": "nothing was read from here on"} {
		if _, faults := exchange.ReadCSV(text, nil); len(faults) != 1 || !strings.Contains(faults[0].Words, want) {
			t.Errorf("%q: %v", text, faults)
		}
	}
	if _, faults := exchange.ReadCSV("id,nmae\n", map[string]string{"name": "name", "nmber": "id"}); len(faults) != 2 {
		t.Errorf("%v", faults)
	}
}

// However many cannot be read, that there are more is never silent.
func TestManyUnread(t *testing.T) {
	users, list := exchange.ReadCSV("id,name\na,A\n"+strings.Repeat(",nobody\n", 5000), nil)
	if last := list[len(list)-1].Words; len(users) != 1 || len(list) != 1001 || !strings.Contains(last, "only the first 1000 are told") {
		t.Errorf("%d users, %d unread, the last %q", len(users), len(list), last)
	}
}

func TestReadLDIF(t *testing.T) {
	got, faults := exchange.ReadLDIF("version: 1\n# a comment\n  that goes on\ndn: uid=marit,ou=People\nuid: marit\ncn;lang-nb: Marit\n  " +
		"Fell\nsn:: RmVsbA==\nmanager: uid=odd,ou=People\njpegPhoto:: /9j/\n\ndn: cn=crew\ncn: crew\n\ndn: uid=x\nchangetype: " +
		"delete\n\ncn: y\n\ndn: uid=z\nuid: z\nsn:: !\n\ndn: uid=u\nuid: u\nphoto:< file:///etc/shadow\n")
	if len(got) != 1 || got[0].ID != "marit" || got[0].Name != "Marit Fell" || got[0].Family != "Fell" || got[0].Manager != "odd" {
		t.Errorf("%+v", got)
	}
	if len(faults) != 4 || !strings.Contains(fmt.Sprint(faults), "it is not fetched") ||
		!strings.Contains(fmt.Sprint(faults), "an entry begins with its dn") {
		t.Errorf("%v", faults)
	}
}

func TestReadSCIM(t *testing.T) {
	one := `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":"marit","displayName":"Marit Fell","emails":[{"value":"a@x"},{"value":"b@x","primary":true}],"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":{"manager":{"value":"odd"}}}`
	for _, text := range []string{one, "[" + one + "]", `{"Resources":[` + one + `]}`} {
		got, faults := exchange.ReadSCIM(text)
		if len(faults) > 0 || len(got) != 1 || got[0].Mail != "b@x" || got[0].Manager != "odd" {
			t.Errorf("%+v %v", got, faults)
		}
	}
	for text, want := range map[string]string{"{": "not SCIM JSON", `[{"userName":7}]`: "cannot unmarshal",
		`{"userName":"x"}`: "user x has no name", `{}`: "no id"} {
		if _, faults := exchange.ReadSCIM(text); len(faults) != 1 || !strings.Contains(faults[0].Words, want) {
			t.Errorf("%q: %v", text, faults)
		}
	}
}

// New users become entries, known ones get what differs, and what is worked out the same is left alone.
func TestEdits(t *testing.T) {
	const text = "roost: 1\nparams: {domain: ternsound.example}\nroles: {deck-crew: {}, bosun: {}}\nusers:\n  odd.strand: {name: Odd " +
		"Strand}\n  # hers\n  marit.fell: {name: Marit Fell, number: 9, mail: \"${user.id}@${params.domain}\", roles: [deck-crew]}\n"
	files := []declare.File{{Name: "f.yaml", Text: text}}
	d, err := declare.Read(files, nil)
	if err != nil {
		t.Fatal(err)
	}
	users := []exchange.User{{ID: "marit.fell", Name: "Marit Fell", Number: "1001", Mail: "marit.fell@ternsound.example",
		Roles: []string{"deck-crew", "bosun"}}, {ID: "odd.strand", Name: "Odd Strand"},
		{ID: "new", Name: "New One", Number: "7", Details: map[string]string{"base": "x"}}}
	edits, sum := exchange.Edits(d, users, []string{"deck-crew"}, "", func(id, field string) string {
		return map[string]string{"name": d.Users[id].Name.Raw, "mail": id + "@ternsound.example",
			"number": fmt.Sprint(d.Users[id].Number)}[field]
	})
	if sum != (exchange.Summary{New: 1, Changed: 1, Same: 1}) {
		t.Errorf("%+v", sum)
	}
	out, err := declare.Apply(files, edits)
	if err != nil {
		t.Fatal(err)
	}
	want := strings.Replace(strings.Replace(text, "number: 9", "number: 1001", 1), "[deck-crew]}\n",
		"[deck-crew, bosun]}\n  new: {details: {base: x}, name: New One, number: 7, roles: [deck-crew]}\n", 1)
	if out[0].Text != want {
		t.Errorf("got\n%s\nwant\n%s", out[0].Text, want)
	}
}

func FuzzReaders(f *testing.F) {
	f.Add(exchange.WriteCSV(people))
	f.Add(exchange.WriteLDIF(people, "ou=x"))
	f.Add(exchange.WriteSCIM(people))
	f.Add("id,name\n\"a\n")
	f.Add("dn: x\n y\n\n::\n")
	f.Fuzz(func(t *testing.T, text string) {
		for name, read := range map[string]func(string) ([]exchange.User, []exchange.Unread){
			"csv": func(s string) ([]exchange.User, []exchange.Unread) { return exchange.ReadCSV(s, nil) }, "ldif": exchange.ReadLDIF,
			"scim": exchange.ReadSCIM,
		} {
			users, faults := read(text)
			if len(faults) > 2000 {
				t.Errorf("%s: %d faults", name, len(faults))
			}
			for _, u := range users {
				if u.ID == "" || u.Name == "" || strings.ContainsAny(u.ID+u.Name, "\n\r\x00") {
					t.Errorf("%s: %+v", name, u)
				}
			}
			if back, _ := exchange.ReadCSV(exchange.WriteCSV(users), nil); len(back) != len(users) {
				t.Errorf("%s: %d users came back as %d", name, len(users), len(back))
			}
		}
	})
}
