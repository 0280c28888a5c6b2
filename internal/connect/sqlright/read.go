package sqlright

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
)

// textMost bounds what is read, in bytes.
const textMost = 2000

// Read takes apart what stands in a declaration, SELECT, INSERT (price) ON stores.items, into single permissions
// in canonical form, sorted, each once; or says what is wrong with it.
func (d *Dialect) Read(text string) ([]string, error) {
	rights, err := d.parse(text)
	if err != nil {
		return nil, fmt.Errorf("%q is no permission: %w", text, err)
	}
	out := make([]string, len(rights))
	for i, r := range rights {
		out[i] = d.String(r)
	}
	slices.Sort(out)
	return slices.Compact(out), nil
}

// One is the single permission that a canonical text stands for.
func (d *Dialect) One(text string) (Right, error) {
	rights, err := d.parse(text)
	if err == nil && len(rights) != 1 {
		err = fmt.Errorf("%q is %d permissions", text, len(rights))
	}
	if err != nil {
		return Right{}, err
	}
	return rights[0], nil
}

// reader reads one text.
type reader struct {
	*Dialect
	rest string
}

// wanted is a privilege as it is asked for.
type wanted struct {
	privilege string
	columns   []string
}

func (d *Dialect) parse(text string) ([]Right, error) {
	if len(text) > textMost {
		return nil, fmt.Errorf("it is longer than %d bytes", textMost)
	}
	if strings.ContainsFunc(text, unicode.IsControl) {
		return nil, fmt.Errorf("it has control characters in it")
	}
	r := &reader{d, text}
	list, err := r.privileges()
	if err != nil {
		return nil, err
	}
	on := Right{}
	if r.word("ON") {
		if on, err = r.thing(); err != nil {
			return nil, err
		}
	}
	passed := false
	if r.word("WITH") {
		if passed = r.word("GRANT") && r.word("OPTION"); !passed {
			return nil, fmt.Errorf("WITH is followed by GRANT OPTION")
		}
	}
	if r.space(); r.rest != "" {
		return nil, fmt.Errorf("nobody knows what %q at its end means", r.rest)
	}
	if passed && !d.Passes {
		list = append(list, wanted{privilege: GrantOption})
	}
	if d.Expands {
		list = d.expand(list, on)
	}
	var out []Right
	for _, w := range list {
		if err := d.known(w, on); err != nil {
			return nil, err
		}
		x := on
		x.Privilege, x.Passed = w.privilege, passed && d.Passes
		if w.columns == nil {
			out = append(out, x)
		}
		for _, c := range w.columns {
			if d.Columns != nil {
				c = d.Columns(c)
			}
			x.Column = c
			out = append(out, x)
		}
	}
	return out, nil
}

// expand puts all that can be allowed on a thing in the place of ALL.
func (d *Dialect) expand(list []wanted, on Right) (out []wanted) {
	for _, w := range list {
		switch sort := d.Sorts[on.Sort]; {
		case w.privilege != All || on.Sort == "":
			out = append(out, w)
		case w.columns != nil:
			for _, p := range sort.Columns {
				out = append(out, wanted{p, w.columns})
			}
		default:
			for _, p := range sort.Allows[len(on.Path)] {
				out = append(out, wanted{p, nil})
			}
		}
	}
	return out
}

// known faults a privilege that is not to be had on a thing.
func (d *Dialect) known(w wanted, on Right) error {
	could, where := d.Alone, "on no thing"
	if on.Sort != "" {
		could, where = d.Sorts[on.Sort].Allows[len(on.Path)], "there"
	}
	if w.columns != nil {
		if could, where = d.Sorts[on.Sort].Columns, "on columns"; len(on.Path) < d.Sorts[on.Sort].Depth {
			return fmt.Errorf("columns are of one table")
		}
	}
	if !slices.Contains(could, w.privilege) {
		return fmt.Errorf("%s is not to be had %s, only %s", w.privilege, where, strings.Join(could, ", "))
	}
	return nil
}

// privileges are words up to ON, WITH or the end, with commas between them.
func (r *reader) privileges() (out []wanted, err error) {
	for {
		var words []string
		for {
			if up := strings.ToUpper(r.peek()); up == "" || up == "ON" || up == "WITH" {
				break
			}
			words = append(words, strings.ToUpper(r.take()))
		}
		w := wanted{privilege: strings.Join(words, " ")}
		if w.privilege == "ALL PRIVILEGES" {
			w.privilege = All
		}
		if now := r.Renamings[w.privilege]; now != "" {
			w.privilege = now
		}
		if w.privilege == "" {
			return nil, fmt.Errorf("it begins with what is allowed, such as SELECT")
		}
		if r.mark('(') {
			if w.columns, err = r.columns(); err != nil {
				return nil, err
			}
		}
		if out = append(out, w); !r.mark(',') {
			return out, nil
		}
	}
}

func (r *reader) columns() (out []string, err error) {
	for {
		name, err := r.name()
		if err != nil {
			return nil, err
		}
		out = append(out, name)
		if r.mark(')') {
			return out, nil
		}
		if !r.mark(',') {
			return nil, fmt.Errorf("the list of columns does not end")
		}
	}
}

// thing reads what stands behind ON: its sort, if it is named, and its name.
func (r *reader) thing() (on Right, err error) {
	on.Sort = Table
	for name := range r.Sorts {
		before := r.rest
		named := true
		for word := range strings.SplitSeq(name, " ") {
			named = named && r.word(word)
		}
		if r.space(); named && r.rest != "" && r.rest[0] != '.' {
			on.Sort = name
			break
		}
		r.rest = before
	}
	sort := r.Sorts[on.Sort]
	if sort.Depth == 0 {
		return on, fmt.Errorf("what sort of thing it is on is not said")
	}
	for i := range sort.Depth {
		if i > 0 && !r.mark('.') {
			break
		}
		if r.mark('*') {
			for i++; i < sort.Depth && r.mark('.'); i++ {
				if !r.mark('*') {
					return on, fmt.Errorf("behind * there is nothing but *")
				}
			}
			if i < sort.Depth {
				return on, wrongName(on.Sort, sort.Depth)
			}
			return on, r.nameable(on, len(on.Path))
		}
		var part string
		if i == 0 && r.Patterns && r.word("LIKE") {
			on.Like = true
			part, err = r.quoted('\'')
		} else {
			part, err = r.name()
		}
		if err == nil && i == sort.Depth-1 && sort.Lists {
			part, err = r.arguments(part)
		}
		if err != nil {
			return on, err
		}
		on.Path = append(on.Path, part)
	}
	if len(on.Path) < sort.Depth {
		return on, wrongName(on.Sort, sort.Depth)
	}
	return on, r.nameable(on, len(on.Path))
}

func wrongName(sort string, depth int) error {
	return fmt.Errorf("the name of a %s has %d parts here, with dots between them and * for all", strings.ToLower(sort), depth)
}

func (d *Dialect) nameable(on Right, parts int) error {
	if sort := d.Sorts[on.Sort]; parts >= len(sort.Allows) || sort.Allows[parts] == nil {
		return wrongName(on.Sort, sort.Depth)
	}
	return nil
}

// arguments reads the list of arguments of a routine's name, and writes them with one space after each comma.
func (r *reader) arguments(name string) (string, error) {
	if !r.mark('(') {
		return "", fmt.Errorf("its arguments are named too: hours(integer)")
	}
	list, rest, ok := strings.Cut(r.rest, ")")
	if !ok {
		return "", fmt.Errorf("the list of arguments does not end")
	}
	r.rest = rest
	parts := strings.Split(list, ",")
	for i, p := range parts {
		parts[i] = strings.Join(strings.Fields(p), " ")
	}
	return name + "(" + strings.Join(parts, ", ") + ")", nil
}

func (r *reader) space() { r.rest = strings.TrimLeft(r.rest, " ") }

// mark takes a character if it comes next.
func (r *reader) mark(c byte) bool {
	r.space()
	if r.rest == "" || r.rest[0] != c {
		return false
	}
	r.rest = r.rest[1:]
	return true
}

// peek is the bare word that comes next, "" for none.
func (r *reader) peek() string {
	r.space()
	end := strings.IndexFunc(r.rest, func(c rune) bool { return c != '_' && c != '$' && !unicode.IsLetter(c) && !unicode.IsDigit(c) })
	if end < 0 {
		end = len(r.rest)
	}
	return r.rest[:end]
}

func (r *reader) take() string {
	w := r.peek()
	r.rest = r.rest[len(w):]
	return w
}

// word takes a bare word if it comes next.
func (r *reader) word(w string) bool {
	if !strings.EqualFold(r.peek(), w) {
		return false
	}
	r.take()
	return true
}

// name reads a name, with quotes (standard or backticks) or without.
func (r *reader) name() (string, error) {
	r.space()
	if r.rest != "" && (r.rest[0] == '"' || r.rest[0] == '`') {
		return r.quoted(r.rest[0])
	}
	w := r.take()
	if w == "" {
		return "", fmt.Errorf("a name is missing before %q", r.rest)
	}
	if r.Folds {
		w = strings.ToLower(w)
	}
	return w, nil
}

// quoted reads a name in quotes, in which the quote itself stands twice.
func (r *reader) quoted(quote byte) (string, error) {
	if !r.mark(quote) {
		return "", fmt.Errorf("a name in %c is missing before %q", quote, r.rest)
	}
	var b strings.Builder
	for {
		at := strings.IndexByte(r.rest, quote)
		if at < 0 {
			return "", fmt.Errorf("a quote does not end")
		}
		b.WriteString(r.rest[:at])
		r.rest = r.rest[at+1:]
		if r.rest == "" || r.rest[0] != quote {
			if b.Len() == 0 {
				return "", fmt.Errorf("a name is empty")
			}
			return b.String(), nil
		}
		b.WriteByte(quote)
		r.rest = r.rest[1:]
	}
}
