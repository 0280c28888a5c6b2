package intake

import (
	"context"
	"errors"
	"strings"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/service/declared"
)

// unfit are the users of whom edits say what the declaration cannot, and why: a name that a host knows no account by, a field
// that nobody declared. Of faults that are no user's it says nothing; whoever takes the edits is told them.
func (s *Intake) unfit(ctx context.Context, c *declared.Current, edits []declare.Edit) (map[string]string, error) {
	if len(edits) == 0 {
		return nil, nil
	}
	var faults declare.Faults
	if _, err := s.PlanAfter(ctx, edits, s.Now()); !errors.As(err, &faults) {
		return nil, ctx.Err()
	}
	files, err := c.Source.Apply(edits, ctx.Err)
	if err != nil {
		return nil, err
	}
	lines := map[string][]string{}
	for _, f := range files {
		lines[f.Name] = strings.Split(f.Text, "\n")
	}
	keys := map[string]string{} // as they stand in a file
	for _, e := range edits {
		for _, quote := range []string{"", `"`, "'"} {
			keys[quote+e.Name+quote] = e.Name
		}
	}
	out := map[string]string{}
	for _, f := range faults {
		if name := userAt(lines[f.At.File], f.At.Line, keys); name != "" && out[name] == "" {
			out[name] = f.Message
		}
	}
	return out, nil
}

// entryMost bounds the lines of one user.
const entryMost = 64

// userAt is the user in whose entry a line stands, if it is one whom the keys name.
func userAt(lines []string, line int, keys map[string]string) string {
	for i := min(line, len(lines)) - 1; i >= max(0, line-entryMost); i-- {
		key, _, _ := strings.Cut(strings.TrimSpace(lines[i]), ":")
		if name, ok := keys[key]; ok {
			return name
		}
	}
	return ""
}
