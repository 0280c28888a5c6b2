package declare

import (
	"crypto/sha256"
	"hash/fnv"
	"regexp"
	"strings"
	"sync"

	"hen-roost/internal/core/model"
)

// The YAML parser's time grows with the square of the entries of one mapping:
// ten thousand users take a second, a hundred thousand a minute. A large file
// of the usual shape, sections at the margin with their entries indented below,
// is therefore read in parts, each with whole entries of one section. Of the
// next revision only the parts with another text are read again.

const (
	largeFile = 64 << 10 // bytes from which on a file is cut
	fewLines  = 100      // of a part, at least
	manyLines = 1000     // at most, unless one entry is longer
	everyNth  = 32       // entry begins a part, on average, so that most cuts stay where they are when entries come and go
)

// part is a stretch of a file's text and what it defines.
type part struct {
	id     *model.Part
	head   string // the line of the section it goes on with; "" when it begins with its own
	indent int    // of the section's entries; -1: none came, or the file is not cut
	cut    bool   // false: it is a whole file, of whatever shape
	full   string // the head and the text: YAML by itself
	text   string
	lines  int
	has    contents
	late   Faults // see Source.Late; their lines are those of the file when it was read
	sum    func() [sha256.Size]byte
}

func newPart(file, head, text string, indent int, cut bool) *part {
	full := head + text
	if head == "" {
		full = strings.Clone(text) // must not keep the whole file in memory
	}
	text = full[len(head):]
	return &part{id: &model.Part{File: file}, head: head, indent: indent, cut: cut, full: full, text: text,
		lines: strings.Count(text, "\n"),
		sum:   sync.OnceValue(func() [sha256.Size]byte { return sha256.Sum256([]byte(text)) })}
}

// section is the key that its entries stand under, "" in a file that is not cut.
func (p *part) section() string {
	if !p.cut {
		return ""
	}
	head := p.head
	if head == "" {
		head = headOf(p.text)
	}
	key, _, _ := strings.Cut(head, ":")
	return key
}

// onlyUsers says whether nothing but users is defined here.
func (p *part) onlyUsers() bool { return p.section() == "users" && p.indent > 0 }

var sectionLine = regexp.MustCompile(`^[A-Za-z][A-Za-z-]*:`)

// anchored says whether a text may hold an anchor or an alias, which must stay in one part.
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

// partsOf cuts a file, and takes over the parts that it had before where their
// text is the same: all from its beginning on, all from its end back, and in
// between those that are found again.
func partsOf(f File, before []*part) []*part {
	from, to := 0, len(f.Text)
	first, last := 0, len(before)
	for first < last && strings.HasPrefix(f.Text[from:to], before[first].text) {
		from += len(before[first].text)
		first++
	}
	if first > 0 && from < to && f.Text[from-1] != '\n' { // its last line goes on
		first--
		from -= len(before[first].text)
	}
	for first < last && strings.HasSuffix(f.Text[from:to], before[last-1].text) {
		last--
		to -= len(before[last].text)
	}
	if from == to && first == last && len(before) > 0 {
		return before
	}
	if len(before) > 0 && before[0].cut {
		if middle, ok := cutFile(f.Name, f.Text[from:to], before[:first], before[first:last]); ok &&
			fits(f.Text, to, before[:first], middle, before[last:]) {
			return append(append(append(make([]*part, 0, first+len(middle)+len(before)-last), before[:first]...), middle...),
				before[last:]...)
		}
	}
	if len(f.Text) >= largeFile {
		if parts, ok := cutFile(f.Name, f.Text, nil, before); ok && once(parts) {
			return parts
		}
	}
	return []*part{newPart(f.Name, "", f.Text, -1, false)}
}

// fits says whether the parts at the end still mean what they did: they begin a
// line, and go on with the section they went on with before.
func fits(text string, at int, before, middle, after []*part) bool {
	all := append(append(before[:len(before):len(before)], middle...), after...)
	if !once(all) {
		return false
	}
	if len(after) == 0 || after[0].head == "" {
		return len(after) == 0 || at == 0 || text[at-1] == '\n'
	}
	if at == 0 || text[at-1] != '\n' || len(before)+len(middle) == 0 {
		return false
	}
	p := all[len(before)+len(middle)-1]
	return p.section() == after[0].section() && p.indent == after[0].indent
}

// once says whether no section begins twice: the parser knows best what to say of that.
func once(parts []*part) bool {
	seen := map[string]bool{}
	for _, p := range parts {
		if p.head == "" {
			if s := p.section(); seen[s] {
				return false
			} else {
				seen[s] = true
			}
		}
	}
	return true
}

// cutFile cuts a text that follows some parts. It takes parts over from old
// where they are the same. ok is false when the text is of another shape.
func cutFile(file, text string, before, old []*part) (out []*part, ok bool) {
	if anchored(text) {
		return nil, false
	}
	c := cutter{file: file, text: text, kept: make(map[string]*part, len(old)), indent: -1, own: true}
	for _, p := range old {
		if p.cut {
			c.kept[p.head+"\x00"+p.text] = p
		}
	}
	if len(before) > 0 {
		c.goOn(before[len(before)-1])
	}
	for at := 0; at < len(text); {
		next := len(text)
		if i := strings.IndexByte(text[at:], '\n'); i >= 0 {
			next = at + i + 1
		}
		if !c.line(at, text[at:next]) {
			return nil, false
		}
		c.lines++
		at = next
	}
	c.end(len(text))
	return c.out, true
}

// cutter takes a file's lines one by one.
type cutter struct {
	file, text string
	kept       map[string]*part // as they were before, by section and text
	out        []*part

	head   string // of the section
	indent int    // of its entries; -1 before the first
	single bool   // its value is not entries below
	own    bool   // the part under way begins with the section's own line
	begin  int    // of the part under way
	lines  int    // in it
}

// goOn goes on within the section in which the part before ends.
func (c *cutter) goOn(last *part) {
	c.head, c.indent, c.own = last.head, last.indent, false
	if c.head == "" {
		c.head = headOf(last.text)
	}
	c.single = !bare(c.head)
}

// end closes the part under way.
func (c *cutter) end(at int) {
	if at == c.begin {
		return
	}
	above := c.head
	if c.own {
		above = ""
	}
	text := c.text[c.begin:at]
	key := above + "\x00" + text
	p := c.kept[key]
	if p == nil || p.indent != c.indent {
		p = newPart(c.file, above, text, c.indent, true)
	}
	delete(c.kept, key) // the same text in another place is another part
	c.out = append(c.out, p)
	c.begin, c.lines, c.own = at, 0, false
}

// line takes the next line; false when the file cannot be cut.
func (c *cutter) line(at int, line string) bool {
	switch {
	case skipped(line):
	case line[0] == ' ':
		return c.below(at, line)
	case sectionLine.MatchString(line):
		if c.head != "" {
			c.end(at)
		}
		c.head, c.indent, c.own, c.single = strings.Clone(line), -1, true, !bare(line) // the file is not kept for it
	default:
		return false
	}
	return true
}

// below takes a line of a section's value.
func (c *cutter) below(at int, line string) bool {
	depth := len(line) - len(strings.TrimLeft(line, " "))
	if skipped(line[depth:]) {
		return true
	}
	if c.head == "" {
		return false
	}
	if c.indent < 0 && !c.single {
		c.indent = depth
	}
	if depth < c.indent {
		return false
	}
	if depth == c.indent && c.lines >= fewLines && (c.lines >= manyLines || begins(line)) {
		c.end(at)
	}
	return true
}

func headOf(text string) string {
	for line := range strings.Lines(text) {
		if !skipped(line) {
			return line
		}
	}
	return ""
}

// bare says whether a section's line holds nothing but its key.
func bare(head string) bool { return skipped(strings.TrimLeft(head[strings.Index(head, ":")+1:], " ")) }

// begins says by an entry's line whether it begins a part.
func begins(line string) bool {
	h := fnv.New32a()
	h.Write([]byte(line))
	return h.Sum32()%everyNth == 0
}

// skipped says whether a line holds nothing but white space or a comment.
func skipped(line string) bool {
	line = strings.TrimRight(line, " \r\n")
	return line == "" || line[0] == '#'
}
