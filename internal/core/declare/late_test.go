package declare_test

import (
	"testing"

	"hen-roost/internal/core/declare"
)

// What later versions find fault with keeps nothing that was stored from being read, and nothing else from being edited.
func TestLate(t *testing.T) {
	old := []declare.File{{Name: "a.yaml", Text: "roost: 1\nusers:\n  x: {name: \"X \"}\n"}}
	s, err := declare.ReadOn(nil, old, schemas)
	if err != nil || len(s.Late) != 1 || s.Fresh() == nil || s.Users["x"].Name.Raw != "X " {
		t.Fatalf("%+v %v", s, err)
	}
	mended, err := declare.ReadOn(s, []declare.File{{Name: "a.yaml", Text: "roost: 1\nusers:\n  x: {name: X}\n"}}, schemas)
	if err != nil || mended.Fresh() != nil {
		t.Errorf("%+v %v", mended, err)
	}
	worse, err := declare.ReadOn(mended, old, schemas)
	if err != nil || worse.Fresh() == nil {
		t.Errorf("%+v %v", worse, err)
	}
	for _, fine := range []string{"نور حداد", "می\u200cخواهم", "क्\u200dष", "Lucía García Márquez", "Paul D'Angelo", "王小明"} {
		if s, err := declare.ReadOn(nil, []declare.File{{Name: "a.yaml", Text: "roost: 1\nusers:\n  x:\n    name: >\n      " + fine +
			"\nroles:\n  r: {about: \"one\\ntwo\", held-when: \"has(user.details.a) && user.roles.size() > 0 && 'user.famly' != ''\"}\n  " +
			"s: {held-when: \"user.details.exists(k, k == 'user.nothing')\"}\n"}}, schemas); err != nil || len(s.Late) > 1 {
			t.Errorf("%q: %+v %v", fine, s.Late, err)
		}
	}
}
