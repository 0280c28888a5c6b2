package declare

import (
	"regexp"
	"strings"
)

// The YAML parser's time grows with the square of the entries of one mapping:
// ten thousand users take a second, a hundred thousand a minute. A large file
// of the usual shape, sections at the margin with their entries indented below,
// is therefore parsed in pieces, each with whole entries of one section.

const (
	largeFile  = 64 << 10 // bytes from which on a file is cut
	pieceLines = 400
)

// piece is a part of a file that is YAML by itself.
type piece struct {
	text   string
	offset int // lines of the file before the piece's own first entry, less those the piece adds
}

var sectionLine = regexp.MustCompile(`^[A-Za-z][A-Za-z-]*:`)

// anchored says whether a text may hold an anchor or an alias, which must stay in one piece.
func anchored(text string) bool {
	for i := 0; ; {
		at := strings.IndexAny(text[i:], "&*")
		if at < 0 {
			return false
		}
		i += at + 1
		before := i < 2 || strings.IndexByte(" \t\r\n[{,:-", text[i-2]) >= 0
		after := i < len(text) && (text[i] == '_' || text[i] >= '0' && text[i] <= '9' || text[i]|0x20 >= 'a' && text[i]|0x20 <= 'z')
		if before && after {
			return true
		}
	}
}

// pieces cuts a file, or returns it whole where it is small or of another shape.
func pieces(text string) []piece {
	whole := []piece{{text: text}}
	if len(text) < largeFile || anchored(text) {
		return whole
	}
	lines := strings.SplitAfter(text, "\n")
	var out []piece
	seen := map[string]bool{}
	for from := 0; from < len(lines); {
		if skipped(lines[from]) {
			from++
			continue
		}
		head := lines[from]
		if !sectionLine.MatchString(head) {
			return whole
		}
		key, _, _ := strings.Cut(head, ":")
		if seen[key] {
			return whole // the parser knows best what to say of a key that stands twice
		}
		seen[key] = true
		to := from + 1
		for to < len(lines) && (skipped(lines[to]) || lines[to][0] == ' ') {
			to++
		}
		out = append(out, section(lines, from, to)...)
		from = to
	}
	return out
}

// section cuts one section between entries; a value on its first line keeps it whole.
func section(lines []string, from, to int) []piece {
	head := lines[from]
	whole := []piece{{text: strings.Join(lines[from:to], ""), offset: from}}
	if rest := head[strings.Index(head, ":")+1:]; !skipped(strings.TrimLeft(rest, " ")) {
		return whole
	}
	indent := -1
	var out []piece
	begin := from + 1
	for i := from + 1; i < to; i++ {
		if skipped(strings.TrimLeft(lines[i], " ")) {
			continue
		}
		depth := len(lines[i]) - len(strings.TrimLeft(lines[i], " "))
		if indent < 0 {
			indent = depth
		}
		if depth < indent {
			return whole
		}
		if depth == indent && i-begin >= pieceLines {
			out = append(out, piece{head + strings.Join(lines[begin:i], ""), begin - 1})
			begin = i
		}
	}
	return append(out, piece{head + strings.Join(lines[begin:to], ""), begin - 1})
}

// skipped says whether a line holds nothing but white space or a comment.
func skipped(line string) bool {
	line = strings.TrimRight(line, " \r\n")
	return line == "" || line[0] == '#'
}
