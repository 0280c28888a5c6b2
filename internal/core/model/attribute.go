package model

import (
	"encoding/json"
	"fmt"
	"slices"
	"sort"
	"strings"
)

// Attribute is one named value, or set of values, of an object.
type Attribute struct {
	Name   string
	Values []string
}

// Attributes are kept sorted by name, so that two objects compare by walking
// both once. A small sorted slice takes a third of the memory of a map, which
// counts when a target holds 100,000 accounts.
type Attributes []Attribute

// Get returns the values of the named attribute; nil when it is not there.
func (a Attributes) Get(name string) []string {
	if i, ok := a.find(name); ok {
		return a[i].Values
	}
	return nil
}

// One returns the first value of the named attribute, or "".
func (a Attributes) One(name string) string {
	if v := a.Get(name); len(v) > 0 {
		return v[0]
	}
	return ""
}

// Has says whether the attribute is present, even if it holds no value.
func (a Attributes) Has(name string) bool {
	_, ok := a.find(name)
	return ok
}

// With returns the attributes with name set to values, in order. It may reuse
// the receiver's storage, as append does.
func (a Attributes) With(name string, values ...string) Attributes {
	i, ok := a.find(name)
	if ok {
		a[i].Values = values
		return a
	}
	return slices.Insert(a, i, Attribute{name, values})
}

func (a Attributes) find(name string) (int, bool) {
	i := sort.Search(len(a), func(i int) bool { return a[i].Name >= name })
	return i, i < len(a) && a[i].Name == name
}

// Map returns the attributes as a map.
func (a Attributes) Map() map[string][]string {
	m := make(map[string][]string, len(a))
	for _, at := range a {
		m[at.Name] = at.Values
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
	*a = make(Attributes, 0, len(m))
	for name, values := range m {
		*a = append(*a, Attribute{name, values})
	}
	slices.SortFunc(*a, func(x, y Attribute) int { return strings.Compare(x.Name, y.Name) })
	return nil
}
