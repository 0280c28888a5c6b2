package declare

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"hen-roost/internal/core/model"
)

// Rename gives a user another id wherever the declaration names them: their own entry, whom they manage, what they own and
// whose members they may change. It returns the files as they are then, how many places were changed, and where the old id
// still stands, in comments and conditions, which nobody but a person can judge.
func (s *Source) Rename(from, to string) (files []File, places int, rest []model.Location, err error) {
	u := s.Users[from]
	if u == nil {
		return nil, 0, nil, fmt.Errorf("no user is called %q", from)
	}
	at := []model.Location{s.Locate(u.Pos)}
	named := func(r model.Ref) {
		if r.Name == from {
			at = append(at, s.Locate(r.Pos))
		}
	}
	for _, other := range s.Users {
		named(other.Manager)
	}
	for _, g := range s.Groups {
		named(g.Owner)
		for _, keeper := range g.Keepers {
			named(keeper)
		}
	}
	slices.SortFunc(at, func(a, b model.Location) int { // from behind: what stands before keeps its column
		return cmp.Or(strings.Compare(a.File, b.File), cmp.Compare(b.Line, a.Line), cmp.Compare(b.Column, a.Column))
	})
	at = slices.Compact(at) // an alias (YAML 1.2.2, 7.1) names one place twice
	files = s.Files()
	for i := range files {
		lines := strings.SplitAfter(files[i].Text, "\n")
		for _, l := range at {
			if l.File != files[i].Name {
				continue
			}
			line, ok := renamed(lines[l.Line-1], l.Column, from, to)
			if !ok {
				return nil, 0, nil, fmt.Errorf("%s: %s is written there in a way that cannot be changed by itself; change it by hand: "+
					"roost edit", l, from)
			}
			lines[l.Line-1] = line
		}
		files[i].Text = strings.Join(lines, "")
		for n, line := range lines {
			if column := mentions(line, from); column > 0 {
				rest = append(rest, model.Location{File: files[i].Name, Line: n + 1, Column: column})
			}
		}
	}
	return files, len(at), rest, nil
}

// renamed puts another name where one stands, plain or in quotes, from a column on.
func renamed(line string, column int, from, to string) (string, bool) {
	begin := 0
	for range column - 1 {
		_, n := utf8.DecodeRuneInString(line[begin:])
		begin += n
	}
	for _, written := range []string{from, `"` + from + `"`, "'" + from + "'", quoted(from)} {
		if rest, ok := strings.CutPrefix(line[begin:], written); ok && !inName(rest, false) {
			return line[:begin] + scalar(to) + rest, true
		}
	}
	return line, false
}

// mentions is the column from which a name stands in a line as a whole word; 0: it does not.
func mentions(line, name string) int {
	for from := 0; ; {
		i := strings.Index(line[from:], name)
		if i < 0 {
			return 0
		}
		i += from
		if !inName(line[:i], true) && !inName(line[i+len(name):], false) {
			return utf8.RuneCountInString(line[:i]) + 1
		}
		from = i + len(name)
	}
}

// inName says whether a text ends, or begins, with a letter that a name could go on with.
func inName(s string, end bool) bool {
	r, n := utf8.DecodeRuneInString(s)
	if end {
		r, n = utf8.DecodeLastRuneInString(s)
	}
	if r == '.' && !end { // the end of a sentence is none of the name
		next, _ := utf8.DecodeRuneInString(s[n:])
		return unicode.IsLetter(next) || unicode.IsDigit(next)
	}
	return n > 0 && (unicode.IsLetter(r) || unicode.IsDigit(r) || strings.ContainsRune("._-@", r))
}
