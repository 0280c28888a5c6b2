package model

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
)

// A chooser chooses what trying every target does.
func TestChooser(t *testing.T) {
	random := rand.New(rand.NewPCG(rand.Uint64(), 1))
	word := func(n int) string { return fmt.Sprint(random.IntN(n)) }
	targets := map[string]*Target{}
	for range 60 {
		x := &Target{Name: word(100), Kind: word(3), Tags: map[string]string{}}
		for range random.IntN(4) {
			x.Tags[word(4)] = word(3)
		}
		targets[x.Name] = x
	}
	c := NewChooser(targets)
	for range 2000 {
		s := Selector{Tags: map[string]string{}}
		switch random.IntN(4) {
		case 0:
			s.Name = word(100)
		case 1:
			s.Kind = word(4)
		}
		for range random.IntN(3) {
			s.Tags[word(5)] = word(3)
		}
		var want []string
		for name, x := range targets {
			if s.Matches(x) {
				want = append(want, name)
			}
		}
		slices.Sort(want)
		var got []string
		for _, x := range c.Chosen(s) {
			got = append(got, x.Name)
		}
		if !slices.Equal(got, want) {
			t.Fatalf("%+v chooses %v, want %v", s, got, want)
		}
	}
}
