package declare_test

import (
	"fmt"
	"testing"

	"hen-roost/internal/core/declare"
)

// A user who is renamed is so wherever the declaration names them, however it is written, and nowhere else.
func TestRename(t *testing.T) {
	const before = `roost: 1
# jens is a mate; jens-ole is another.
users:
  "jens": {name: Jens Krag, number: 1001}
  jens-ole: {name: "Bjørn Åsen", manager: jens, number: 1002}   # of jens
  kari: {name: Kari Berg, number: 1003, manager: 'jens'}
groups:
  jens: {about: "né Øyvind", owner: "jens", keepers: [kari, jens]}
roles: {deck: {held-when: 'user.id == "jens"'}}
`
	const after = `roost: 1
# jens is a mate; jens-ole is another.
users:
  "o'brien, å": {name: Jens Krag, number: 1001}
  jens-ole: {name: "Bjørn Åsen", manager: "o'brien, å", number: 1002}   # of jens
  kari: {name: Kari Berg, number: 1003, manager: "o'brien, å"}
groups:
  jens: {about: "né Øyvind", owner: "o'brien, å", keepers: [kari, "o'brien, å"]}
roles: {deck: {held-when: 'user.id == "jens"'}}
`
	read := func(text string) *declare.Source {
		t.Helper()
		s, err := declare.ReadOn(nil, []declare.File{{Name: "a.yaml", Text: text}}, nil)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	files, places, rest, err := read(before).Rename("jens", "o'brien, å")
	if err != nil || files[0].Text != after {
		t.Fatalf("%v:\n%s", err, files[0].Text)
	}
	if got := fmt.Sprint(places, rest); got != "5 [a.yaml:2:3 a.yaml:5:78 a.yaml:8:3 a.yaml:9:40]" {
		t.Error(got)
	}
	if _, _, _, err := read(before).Rename("nobody", "x"); err == nil {
		t.Error("somebody who is not declared was renamed")
	}
	read(files[0].Text)
}
