package access

import (
	"fmt"
	"strings"
	"testing"

	"hen-roost/internal/core/model"
)

// What ends is told by day, each once, and nothing that goes on.
func TestEndings(t *testing.T) {
	role := func(name, until string) model.Holding {
		return model.Holding{Ref: model.Ref{Name: name}, Span: model.Span{Until: until}, Because: "covering"}
	}
	d := &model.Declaration{Users: map[string]*model.User{
		"marit": {Roles: []model.Holding{role("bosun", "2026-12-05"), role("crew", ""), role("mate", "2026-12-20"), role("old",
			"2026-11-25")}},
		"hanne": {Span: model.Span{Until: "2026-12-05"}, Roles: []model.Holding{role("purser", "2026-12-05"), role("stores", "2026-11-26"),
			role("late", "2027-01-01")}},
		"jarle": {Span: model.Span{From: "2026-12-01"}, Keys: []model.Text{{Raw: "ssh-ed25519 AA hen-roost-1 until=2026-12-02"},
			{Raw: "ssh-ed25519 AB hen-roost-2 until=2027-12-02"}, {Raw: "ssh-ed25519 AC jarle@laptop"}}},
	}}
	var got []string
	for _, e := range Endings(d, "2026-11-26", "2026-12-10") {
		got = append(got, strings.TrimSpace(fmt.Sprintf("%s %s %s%s", e.Until, e.User, e.Role, e.Credential)))
	}
	if want := "2026-11-26 hanne stores|2026-12-02 jarle key|2026-12-05 hanne|2026-12-05 marit bosun"; strings.Join(got, "|") != want {
		t.Errorf("%q, want %q", got, want)
	}
}
