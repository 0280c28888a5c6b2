package model

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"
)

// Attribute is one named value, or set of values, of an object.
type Attribute struct {
	Name   string
	Values []string
}

// Attributes are the named values of one object, in order of name, packed into
// one string: for each attribute the length of its name, the name, the length
// of its values and, for each value, its length and the value; lengths are
// unsigned varints. A directory of 100,000 people takes a fifth of what slices
// of strings take, and is compared without being unpacked.
type Attributes string

// Pack returns the attributes of a list in any order. Of two with one name the last counts.
func Pack(list ...Attribute) Attributes {
	slices.SortStableFunc(list, func(a, b Attribute) int { return strings.Compare(a.Name, b.Name) })
	size := 0
	for _, at := range list {
		size += len(at.Name) + 6
		for _, v := range at.Values {
			size += len(v) + 2
		}
	}
	b := make([]byte, 0, size)
	for i, at := range list {
		if i+1 < len(list) && list[i+1].Name == at.Name {
			continue
		}
		b = appendAttribute(b, at.Name, at.Values)
	}
	return Attributes(b)
}

func appendAttribute(b []byte, name string, values []string) []byte {
	b = appendText(b, name)
	size := 0
	for _, v := range values {
		size += textSize(v)
	}
	b = binary.AppendUvarint(b, uint64(size))
	for _, v := range values {
		b = appendText(b, v)
	}
	return b
}

func appendText(b []byte, s string) []byte {
	return append(binary.AppendUvarint(b, uint64(len(s))), s...)
}

func textSize(s string) int {
	n := len(s) + 1
	for l := len(s); l >= 0x80; l >>= 7 {
		n++
	}
	return n
}

// Check says whether the text was packed as it should be, as one that comes
// from a disk may not be. Reading what is not yields nothing, and never fails.
func (a Attributes) Check() error {
	for rest := string(a); rest != ""; {
		name, values, next, ok := cutAttribute(rest)
		if !ok {
			return errors.New("packed attributes are cut short")
		}
		for v := values; v != ""; {
			if _, v, ok = cutText(v); !ok {
				return fmt.Errorf("values of %q are cut short", name)
			}
		}
		rest = next
	}
	return nil
}

func cutText(s string) (text, rest string, ok bool) {
	if len(s) > 0 && s[0] < 0x80 && int(s[0]) < len(s) { // nearly always
		n := int(s[0]) + 1
		return s[1:n], s[n:], true
	}
	return cutLong(s)
}

func cutLong(s string) (text, rest string, ok bool) {
	n, at := 0, 0
	for shift := 0; ; shift += 7 {
		if at == len(s) || shift > 35 {
			return "", "", false
		}
		c := s[at]
		at++
		n |= int(c&0x7f) << shift
		if c < 0x80 {
			break
		}
	}
	if n > len(s)-at {
		return "", "", false
	}
	return s[at : at+n], s[at+n:], true
}

func cutAttribute(s string) (name, values, rest string, ok bool) {
	if name, rest, ok = cutText(s); ok {
		values, rest, ok = cutText(rest)
	}
	return name, values, rest, ok
}

// All yields the attributes in order of name.
func (a Attributes) All() iter.Seq2[string, []string] {
	return func(yield func(string, []string) bool) {
		for rest := string(a); rest != ""; {
			name, values, next, ok := cutAttribute(rest)
			if !ok || !yield(name, Values(values).List()) {
				return
			}
			rest = next
		}
	}
}

// Values are the packed values of one attribute.
type Values string

// All yields the values in their order.
func (v Values) All() iter.Seq[string] {
	return func(yield func(string) bool) {
		for rest := string(v); rest != ""; {
			text, next, ok := cutText(rest)
			if !ok || !yield(text) {
				return
			}
			rest = next
		}
	}
}

// List unpacks the values.
func (v Values) List() []string {
	out := []string{}
	for text := range v.All() {
		out = append(out, text)
	}
	return out
}

// Next returns the first value and the rest; false when there is none.
func (v Values) Next() (value string, rest Values, ok bool) {
	value, next, ok := cutText(string(v))
	return value, Values(next), ok
}

// One returns the value when there is exactly one.
func (v Values) One() (string, bool) {
	text, rest, ok := cutText(string(v))
	return text, ok && rest == ""
}

// Cursor walks attributes once, for names that are asked for in order.
type Cursor struct{ rest string }

// Cursor begins a walk.
func (a Attributes) Cursor() Cursor { return Cursor{string(a)} }

// Seek returns the values of the named attribute, false when it is not there.
// Each name must come after the one before.
func (c *Cursor) Seek(name string) (Values, bool) {
	for rest := c.rest; rest != ""; {
		have, values, next, ok := cutAttribute(rest)
		if have == name && ok {
			c.rest = next
			return Values(values), true
		}
		if !ok || have > name {
			break
		}
		rest, c.rest = next, next
	}
	return "", false
}

// Head is how an attribute begins when it is packed; see Cursor.Take.
func Head(name string) string { return string(appendText(nil, name)) }

// Take is Seek with the packed head of the name, quick where the attribute is the next one.
func (c *Cursor) Take(head, name string) (Values, bool) {
	if strings.HasPrefix(c.rest, head) {
		if values, next, ok := cutText(c.rest[len(head):]); ok {
			c.rest = next
			return Values(values), true
		}
	}
	return c.Seek(name)
}

// Holds says whether the next attribute is this one, packed whole, and steps over it if so.
func (c *Cursor) Holds(packed Attributes) bool {
	if strings.HasPrefix(c.rest, string(packed)) {
		c.rest = c.rest[len(packed):]
		return true
	}
	return false
}

// HoldsOne says whether the next attribute has this packed head and this value
// alone, and steps over it if so. It may say no where Take and One say yes, for long values.
func (c *Cursor) HoldsOne(head, value string) bool {
	n, h := len(value), len(head)
	if n > 125 || len(c.rest) < h+2+n || c.rest[h] != byte(n+1) || c.rest[h+1] != byte(n) || c.rest[:h] != head ||
		c.rest[h+2:h+2+n] != value {
		return false
	}
	c.rest = c.rest[h+2+n:]
	return true
}

// Get returns the values of the named attribute; nil when it is not there.
func (a Attributes) Get(name string) []string {
	c := a.Cursor()
	if v, ok := c.Seek(name); ok {
		return v.List()
	}
	return nil
}

// One returns the first value of the named attribute, or "".
func (a Attributes) One(name string) string {
	c := a.Cursor()
	v, _ := c.Seek(name)
	text, _, _ := cutText(string(v))
	return text
}

// Has says whether the attribute is present, even if it holds no value.
func (a Attributes) Has(name string) bool {
	c := a.Cursor()
	_, ok := c.Seek(name)
	return ok
}

// With returns the attributes with name set to values.
func (a Attributes) With(name string, values ...string) Attributes {
	b := make([]byte, 0, len(a)+len(name)+32)
	put := false
	for rest := string(a); rest != ""; {
		have, _, next, ok := cutAttribute(rest)
		if !ok {
			break
		}
		if have >= name && !put {
			b, put = appendAttribute(b, name, values), true
		}
		if have != name {
			b = append(b, rest[:len(rest)-len(next)]...)
		}
		rest = next
	}
	if !put {
		b = appendAttribute(b, name, values)
	}
	return Attributes(b)
}

// WithPacked is With for values that are packed already.
func (a Attributes) WithPacked(name string, values Values) Attributes {
	b := make([]byte, 0, len(a)+len(name)+len(values)+12)
	put := false
	place := func() {
		b = appendText(b, name)
		b = append(binary.AppendUvarint(b, uint64(len(values))), values...)
		put = true
	}
	for rest := string(a); rest != ""; {
		have, _, next, ok := cutAttribute(rest)
		if !ok {
			break
		}
		if have >= name && !put {
			place()
		}
		if have != name {
			b = append(b, rest[:len(rest)-len(next)]...)
		}
		rest = next
	}
	if !put {
		place()
	}
	return Attributes(b)
}

// Without returns the attributes less the named ones.
func (a Attributes) Without(names ...string) Attributes {
	b := make([]byte, 0, len(a))
	for rest := string(a); rest != ""; {
		have, _, next, ok := cutAttribute(rest)
		if !ok {
			break
		}
		if !slices.Contains(names, have) {
			b = append(b, rest[:len(rest)-len(next)]...)
		}
		rest = next
	}
	return Attributes(b)
}

// PackValues packs values.
func PackValues(list []string) Values {
	size := 0
	for _, v := range list {
		size += textSize(v)
	}
	b := make([]byte, 0, size)
	for _, v := range list {
		b = appendText(b, v)
	}
	return Values(b)
}

// Map returns the attributes as a map.
func (a Attributes) Map() map[string][]string {
	m := map[string][]string{}
	for name, values := range a.All() {
		m[name] = values
	}
	return m
}

// MarshalJSON writes the attributes as an object of lists.
func (a Attributes) MarshalJSON() ([]byte, error) { return json.Marshal(a.Map()) }

// UnmarshalJSON reads what MarshalJSON wrote.
func (a *Attributes) UnmarshalJSON(b []byte) error {
	var m map[string][]string
	if err := json.Unmarshal(b, &m); err != nil {
		return fmt.Errorf("attributes: %w", err)
	}
	list := make([]Attribute, 0, len(m))
	for name, values := range m {
		list = append(list, Attribute{name, values})
	}
	*a = Pack(list...)
	return nil
}
