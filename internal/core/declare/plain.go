package declare

import (
	"slices"
	"strings"
	"unicode/utf8"
)

// Nearly all of a large declaration is written in a small part of YAML: keys with
// values of one line, in plain letters or simple quotes, lists and mappings by
// indent or in brackets on one line. That is read here, ten times as fast as by
// the parser. What is of any other shape, or wrong, is left to the parser.

// plainText reads a text line by line. ok turns false where it is not plain.
type plainReader struct {
	text  string
	lines []plainLine
	ok    bool
}

// plainLine is a line that says something.
type plainLine struct {
	number   int32
	start    int // of the line
	from, to int // what it says, less its indent; a comment at its end may follow
	ascii    bool
}

func (l *plainLine) indent() int { return l.from - l.start }

// readPlain makes the tree of a plain text.
func readPlain(text string) (root node, ok bool) {
	p := plainReader{text: text, ok: true}
	if !p.split() || len(p.lines) == 0 || p.lines[0].indent() != 0 {
		return node{}, false
	}
	root, next := p.block(0, 0)
	return root, p.ok && next == len(p.lines) && root.form == mapping
}

// split finds the lines that say something.
func (p *plainReader) split() bool {
	p.lines = make([]plainLine, 0, len(p.text)/24)
	number := int32(0)
	for at := 0; at < len(p.text); {
		number++
		l := plainLine{number: number, start: at, from: -1, ascii: true}
		end := at
		for ; end < len(p.text) && p.text[end] != '\n'; end++ {
			switch c := p.text[end]; {
			case c < ' ' || c == 0x7f:
				return false
			case c >= utf8.RuneSelf:
				l.ascii = false
			}
			if l.from < 0 && p.text[end] != ' ' {
				l.from = end
			}
		}
		if !l.ascii && !decent(p.text[at:end]) {
			return false
		}
		at = end + 1
		if l.from < 0 || p.text[l.from] == '#' {
			continue
		}
		if strings.HasPrefix(p.text[l.start:end], "...") { // as a document ends
			return false
		}
		if l.to = end; p.text[end-1] == ' ' {
			return false
		}
		p.lines = append(p.lines, l)
	}
	return true
}

// decent says whether a text is UTF-8 without letters that break lines or change how others are shown.
func decent(s string) bool {
	for _, r := range s {
		if r == utf8.RuneError || r < 0xa1 && r >= 0x7f || r == 0x2028 || r == 0x2029 || r == 0xfeff || r >= 0xfff0 {
			return false
		}
	}
	return true
}

func (p *plainReader) fail() node {
	p.ok = false
	return node{}
}

// at is a value at a place of a line.
func (p *plainReader) at(l *plainLine, place int, f form) node {
	column := place - l.start
	if !l.ascii {
		column = utf8.RuneCountInString(p.text[l.start:place])
	}
	return node{form: f, line: l.number, column: int32(column) + 1}
}

// block reads the mapping or list that begins on a line, and returns the line behind it.
func (p *plainReader) block(i, indent int) (node, int) {
	l := &p.lines[i]
	if p.isItem(l) {
		return p.items(i, indent)
	}
	out := p.at(l, l.from, mapping)
	seen := map[string]bool{} // of a mapping of many keys
	for i < len(p.lines) && p.ok && p.lines[i].indent() == indent && !p.isItem(&p.lines[i]) {
		l := &p.lines[i]
		key, rest, ok := p.key(l, l.from)
		if !ok || seen[key.text] || len(seen) == 0 && p.twice(&out, key.text) {
			return p.fail(), i
		}
		if len(out.inside) > 32 {
			for j := 0; j < len(out.inside) && len(seen) < len(out.inside)/2; j += 2 {
				seen[out.inside[j].text] = true
			}
			seen[key.text] = true
		}
		var value node
		if value, i = p.valueOf(i, indent, rest); !p.ok {
			return value, i
		}
		out.inside = append(out.inside, key, value)
	}
	if i < len(p.lines) && p.lines[i].indent() > indent {
		return p.fail(), i // something goes on that has ended
	}
	return out, i
}

// twice says whether a mapping has a key already.
func (p *plainReader) twice(m *node, key string) bool {
	for j := 0; j < len(m.inside); j += 2 {
		if m.inside[j].text == key {
			return true
		}
	}
	return false
}

func (p *plainReader) isItem(l *plainLine) bool {
	return p.text[l.from] == '-' && (l.to == l.from+1 || p.text[l.from+1] == ' ')
}

// items reads a list with a dash before each item.
func (p *plainReader) items(i, indent int) (node, int) {
	out := p.at(&p.lines[i], p.lines[i].from, sequence)
	for i < len(p.lines) && p.ok && p.lines[i].indent() == indent && p.isItem(&p.lines[i]) {
		l := &p.lines[i]
		from := l.from + 1
		for from < l.to && p.text[from] == ' ' {
			from++
		}
		if from == l.to || p.text[from] == '#' || p.text[from] == '-' {
			return p.fail(), i
		}
		var item node
		if _, _, is := p.key(l, from); is {
			l.from = from // it goes on below at the same depth
			item, i = p.block(i, l.indent())
		} else {
			item, i = p.inline(l, from), i+1
		}
		out.inside = append(out.inside, item)
	}
	if i < len(p.lines) && p.lines[i].indent() > indent {
		return p.fail(), i
	}
	return out, i
}

// valueOf reads the value of a key that stands on a line: behind it, or below.
func (p *plainReader) valueOf(i, indent, rest int) (node, int) {
	l := &p.lines[i]
	for rest < l.to && p.text[rest] == ' ' {
		rest++
	}
	if rest < l.to && p.text[rest] != '#' {
		value := p.inline(l, rest)
		if i+1 < len(p.lines) && p.lines[i+1].indent() > indent {
			return p.fail(), i
		}
		return value, i + 1
	}
	if i+1 < len(p.lines) {
		if next := &p.lines[i+1]; next.indent() > indent || next.indent() == indent && p.isItem(next) {
			return p.block(i+1, next.indent())
		}
	}
	return p.at(l, rest, nothing), i + 1
}

// indicators mean something else than a text where a value begins.
const indicators = "-?:,[]{}#&*!|>'\"%@`=<~"

// key reads a key at a place of a line, and returns the place behind its colon.
func (p *plainReader) key(l *plainLine, from int) (key node, rest int, ok bool) {
	key = p.at(l, from, single)
	if p.text[from] == '"' || p.text[from] == '\'' {
		end := p.quoteEnd(l, from)
		if end < 0 || end+1 >= l.to || p.text[end+1] != ':' || end+2 < l.to && p.text[end+2] != ' ' {
			return key, 0, false
		}
		key.text = p.text[from+1 : end]
		return key, end + 2, key.text != ""
	}
	if strings.IndexByte(indicators, p.text[from]) >= 0 {
		return key, 0, false
	}
	for i := from; i < l.to; i++ {
		switch c := p.text[i]; {
		case c == ':' && (i+1 == l.to || p.text[i+1] == ' '):
			key.text = p.text[from:i]
			return key, i + 1, p.text[i-1] != ' ' && !isNull(key.text) && !strings.Contains(key.text, "<<")
		case c == '#' && p.text[i-1] == ' ':
			return key, 0, false
		}
	}
	return key, 0, false
}

func isNull(s string) bool { return s == "null" || s == "Null" || s == "NULL" }

// quoteEnd is the place of the quote that ends a text without escapes; -1: there is none.
func (p *plainReader) quoteEnd(l *plainLine, from int) int {
	quote := p.text[from]
	n := strings.IndexByte(p.text[from+1:l.to], quote)
	if n < 0 {
		return -1
	}
	end := from + 1 + n
	if quote == '"' && strings.IndexByte(p.text[from:end], '\\') >= 0 || quote == '\'' && end+1 < l.to && p.text[end+1] == '\'' {
		return -1
	}
	return end
}

// inline reads the value that takes the rest of a line, but for a comment.
func (p *plainReader) inline(l *plainLine, from int) node {
	switch c := p.text[from]; {
	case c == '"' || c == '\'':
		end := p.quoteEnd(l, from)
		if end < 0 || !p.done(l, end+1) {
			return p.fail()
		}
		out := p.at(l, from, single)
		out.text = p.text[from+1 : end]
		return out
	case c == '[' || c == '{':
		out, end := p.flow(l, from, 0)
		if p.ok && !p.done(l, end) {
			return p.fail()
		}
		return out
	case strings.IndexByte(indicators, c) >= 0:
		return p.fail()
	}
	to := l.to
	for i := from; i < l.to; i++ {
		switch c := p.text[i]; {
		case c == ':' && (i+1 == l.to || p.text[i+1] == ' '):
			return p.fail()
		case c == '#' && p.text[i-1] == ' ':
			to = i - 1
			for p.text[to-1] == ' ' {
				to--
			}
			i = l.to
		}
	}
	out := p.at(l, from, single)
	if out.text = p.text[from:to]; isNull(out.text) {
		out.form, out.text = nothing, ""
	}
	return out
}

// done says whether nothing but a comment is left of a line.
func (p *plainReader) done(l *plainLine, at int) bool {
	rest := strings.TrimLeft(p.text[at:l.to], " ")
	return rest == "" || rest[0] == '#' && len(rest) < l.to-at
}

// What stands in brackets is small, or not plain: how deep they may stand in each
// other, and how many keys or items in one.
const (
	flowDepth = 16
	flowMost  = 1000
)

// flow reads what stands in brackets on one line, and returns the place behind it.
func (p *plainReader) flow(l *plainLine, from, depth int) (node, int) {
	out := p.at(l, from, sequence)
	closing := byte(']')
	if p.text[from] == '{' {
		out.form, closing = mapping, '}'
	}
	if depth == flowDepth {
		return p.fail(), from
	}
	at := p.skip(l, from+1)
	if at < l.to && p.text[at] == closing {
		return out, at + 1
	}
	for p.ok && at < l.to && len(out.inside) < flowMost {
		var one node
		if one, at = p.flowValue(l, at, depth); !p.ok {
			break
		}
		if out.form == mapping {
			if one.form != single || p.twice(&out, one.text) || at+1 >= l.to || p.text[at] != ':' || p.text[at+1] != ' ' {
				return p.fail(), at
			}
			out.inside = append(out.inside, one)
			if at = p.skip(l, at+1); at >= l.to {
				return p.fail(), at
			}
			if one, at = p.flowValue(l, at, depth); !p.ok {
				break
			}
		}
		out.inside = append(out.inside, one)
		at = p.skip(l, at)
		switch {
		case at >= l.to:
			return p.fail(), at
		case p.text[at] == closing:
			return out, at + 1
		case p.text[at] != ',':
			return p.fail(), at
		}
		at = p.skip(l, at+1)
	}
	return p.fail(), at
}

func (p *plainReader) skip(l *plainLine, at int) int {
	for at < l.to && p.text[at] == ' ' {
		at++
	}
	return at
}

// flowValue reads one value within brackets; a key is one, too.
func (p *plainReader) flowValue(l *plainLine, from, depth int) (node, int) {
	switch c := p.text[from]; {
	case c == '[' || c == '{':
		return p.flow(l, from, depth+1)
	case c == '"' || c == '\'':
		end := p.quoteEnd(l, from)
		if end < 0 {
			return p.fail(), from
		}
		out := p.at(l, from, single)
		out.text = p.text[from+1 : end]
		return out, end + 1
	case strings.IndexByte(indicators, c) >= 0:
		return p.fail(), from
	}
	end := from
	for end < l.to && strings.IndexByte(",[]{}:#&*!|>'\"%@`", p.text[end]) < 0 {
		end++
	}
	to := end
	for p.text[to-1] == ' ' {
		to--
	}
	if end < l.to && slices.Contains([]byte{',', ']', '}'}, p.text[end]) || end < l.to && p.text[end] == ':' && to == end {
		out := p.at(l, from, single)
		if out.text = p.text[from:to]; isNull(out.text) {
			return p.fail(), from
		}
		return out, end
	}
	return p.fail(), from
}
