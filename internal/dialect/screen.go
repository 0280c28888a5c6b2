package dialect

import "strings"

// screen is what a terminal shows of an answer: control sequences are obeyed or dropped, so that what is read is what a person
// would see.
type screen struct {
	lines []string
	line  []rune
	at    int
	seq   []rune // of a control sequence that has begun
	bytes int
	wide  int // how many characters make a line go on in the next; 0: none does
	from  int // where in the line that is not ended what stands in the last of them begins
}

func (s *screen) write(text string) {
	for _, c := range text {
		if s.seq != nil {
			s.control(c)
			continue
		}
		switch {
		case c == '\n':
			if s.wide > 0 && len(s.line)-s.from == s.wide {
				s.from, s.at = len(s.line), len(s.line)
				continue
			}
			line := strings.TrimRight(string(s.line), " ")
			s.lines = append(s.lines, line)
			s.bytes += len(line) + perLine - perRune*len(s.line)
			s.line, s.at, s.from = nil, 0, 0
		case c == '\r':
			s.at = s.from
		case c == '\b':
			s.at = max(s.at-1, s.from)
		case c == 0x1b:
			s.seq = []rune{}
		case c == '\t':
			for ok := true; ok; ok = s.at%8 != 0 {
				s.put(' ')
			}
		case c >= ' ' && c != 0x7f:
			s.put(c)
		}
	}
}

// What is kept of a screen takes so many bytes, beside those of its lines.
const (
	perRune = 4  // of the line that is written
	perLine = 32 // of each that was
)

func (s *screen) put(c rune) {
	if s.at < len(s.line) {
		s.line[s.at] = c
	} else {
		s.line = append(s.line, c)
		s.bytes += perRune
	}
	s.at++
}

// control takes a control sequence (ECMA-48) in. Those that erase are obeyed.
func (s *screen) control(c rune) {
	s.seq = append(s.seq, c)
	if len(s.seq) == 1 && c == '[' {
		return
	}
	if s.seq[0] == '[' && (c < 0x40 || c > 0x7e) && len(s.seq) < 40 {
		return
	}
	switch text := string(s.seq); text {
	case "[K", "[0K":
		s.line = s.line[:min(s.at, len(s.line))]
	case "[2K", "[1K":
		s.forget()
	}
	s.seq = nil
}

// now is the line that is not ended.
func (s *screen) now() string { return string(s.line[s.from:]) }

// whole are the lines that are ended, by a line break or because nothing more comes.
func (s *screen) whole() []string {
	if s.from == 0 {
		return s.lines
	}
	return append(s.lines, strings.TrimRight(string(s.line[:s.from]), " "))
}

// forget drops the line that is not ended.
func (s *screen) forget() { s.line, s.at = s.line[:s.from], s.from }

// twice says whether the line that is not ended stands above itself too.
func (s *screen) twice() bool {
	n := len(s.lines)
	return n > 0 && s.now() != "" && s.lines[n-1] == strings.TrimRight(s.now(), " ")
}
