package access_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/core/access"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/resolve"
)

// What somebody keeps, gains and loses is told target by target, and once.
func TestSideBySide(t *testing.T) {
	plan := func(text, day string) *resolve.Plan {
		t.Helper()
		d, err := declare.Read([]declare.File{{Name: "c.yaml", Text: text}}, schemas)
		if err != nil {
			t.Fatal(err)
		}
		at, _ := time.Parse(time.DateOnly, day)
		p, err := resolve.Resolve(d, schemas, at, nil)
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	for _, c := range []struct{ name, before, after, day, user, want string }{
		{"nothing", company, company, "2026-10-10", "marit", "arctic keeps 5 gains 0 loses 0, sooty keeps 5 gains 0 loses 0, " +
			"ticketing keeps 4 gains 0 loses 0"},
		{"a role ends", company, company, "2026-11-10", "marit", "arctic keeps 3 gains 0 loses 2, sooty keeps 3 gains 0 loses 2, " +
			"ticketing keeps 4 gains 0 loses 0"},
		{"another begins", company, company, "2026-12-10", "marit", "arctic keeps 3 gains 1 loses 2, sooty keeps 3 gains 1 loses 2, " +
			"ticketing keeps 4 gains 0 loses 0"},
		{"somebody begins", company, company, "2026-12-10", "per", "arctic keeps 0 gains 3 loses 0, sooty keeps 0 gains 3 loses 0"},
		{"nobody of that name", company, company, "2026-12-10", "nobody", ""},
		{"a target more", company, strings.Replace(company, "accounts: {arctic: none}", "accounts: {}", 1), "2026-10-10", "olga",
			"arctic keeps 0 gains 3 loses 0, sooty keeps 3 gains 0 loses 0"},
	} {
		var got []string
		for _, s := range access.SideBySide(plan(c.before, "2026-10-10"), plan(c.after, c.day), c.user) {
			got = append(got, fmt.Sprintf("%s keeps %d gains %d loses %d", s.Target, len(s.Keeps), len(s.Gains), len(s.Loses)))
		}
		if s := strings.Join(got, ", "); s != c.want {
			t.Errorf("%s: %s, want %s", c.name, s, c.want)
		}
	}
}
