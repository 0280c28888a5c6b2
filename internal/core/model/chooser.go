package model

import (
	"maps"
	"slices"
)

// Chooser finds the targets that selectors match without trying every one.
type Chooser struct {
	all   []*Target // in order of name
	named map[string]*Target
	tags  map[[2]string][]*Target // by key and value
}

// NewChooser makes one for the targets as they are.
func NewChooser(targets map[string]*Target) *Chooser {
	c := &Chooser{named: targets, tags: map[[2]string][]*Target{}}
	for _, name := range slices.Sorted(maps.Keys(targets)) {
		t := targets[name]
		c.all = append(c.all, t)
		for key, value := range t.Tags {
			c.tags[[2]string{key, value}] = append(c.tags[[2]string{key, value}], t)
		}
	}
	return c
}

// Chosen returns the targets that a selector matches, in order of name.
func (c *Chooser) Chosen(s Selector) (out []*Target) {
	if t := c.named[s.Name]; t != nil {
		return []*Target{t}
	} else if s.Name != "" {
		return nil
	}
	among := c.all
	for key, value := range s.Tags {
		if list := c.tags[[2]string{key, value}]; len(list) < len(among) {
			among = list
		}
	}
	for _, t := range among {
		if s.Matches(t) {
			out = append(out, t)
		}
	}
	return out
}
