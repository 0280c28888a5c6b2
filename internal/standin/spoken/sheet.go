package spoken

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// sheet is where a switch's changes stand before they are kept.
type sheet struct {
	by string
	n  int // the conversation in which it was opened
	is SkerryState
}

func (s *Skerry) tellSheet() []string {
	by, trial := "nobody", "no"
	if s.sheet != nil {
		by = s.sheet.by
	}
	if s.before != nil {
		trial = "yes"
	}
	return []string{"open by: " + by, "on trial: " + trial}
}

// fits says why a sheet cannot be kept.
func (x SkerryState) fits() []string {
	for _, p := range x.People {
		if !p.Shut && slices.Contains(x.Classes[p.Class], "change people") {
			return []string{"the sheet fits"}
		}
	}
	return no("nobody could change people any more")
}

func (a *atSkerry) keep(w []string) []string {
	s := a.s
	if why := s.sheet.is.fits(); strings.HasPrefix(why[0], "??") {
		return why
	}
	w = slices.DeleteFunc(w, func(x string) bool { return x == "" })
	words, minutes := w[len(w)-1], 0.0
	if len(w) >= 6 && w[2] == "for" {
		_, _ = fmt.Sscan(w[3], &minutes)
	}
	before := s.Is.copy()
	id := 1
	if n := len(s.Is.Keeps); n > 0 {
		id = s.Is.Keeps[n-1].ID + 1
	}
	for n, p := range s.sheet.is.People { // who has signed in since is not on the sheet
		p.Seen = s.Is.People[n].Seen
		s.sheet.is.People[n] = p
	}
	s.Is = s.sheet.is
	s.Is.Keeps = append(s.Is.Keeps, Keep{id, a.login, words, time.Now().UTC(), touched(before, s.Is)})
	s.sheet = nil
	if minutes > 0 {
		s.before = &before
		s.until = time.Now().Add(time.Duration(minutes * float64(time.Minute)))
		s.timer = time.AfterFunc(time.Until(s.until), func() {
			s.guard(func() {
				if s.before != nil && !time.Now().Before(s.until) {
					s.back()
				}
			})
		})
		return []string{"kept for " + w[3] + " minutes"}
	}
	s.save(s.Is)
	return []string{"kept"}
}

func (s *Skerry) settle() {
	s.timer.Stop()
	s.before = nil
	s.save(s.Is)
}

func (s *Skerry) back() {
	s.timer.Stop()
	s.Is, s.before = *s.before, nil
}

// touched are the people who are otherwise than they were.
func touched(was, is SkerryState) (out []string) {
	for _, n := range slices.Sorted(maps.Keys(is.People)) {
		p, q := was.People[n], is.People[n]
		if p.Seen = q.Seen; fmt.Sprint(p) != fmt.Sprint(q) {
			out = append(out, n)
		}
	}
	return out
}

// differ tells how a sheet differs.
func differ(was, is SkerryState) (out []string) {
	names := slices.Sorted(maps.Keys(was.People))
	for _, n := range slices.Sorted(maps.Keys(is.People)) {
		if _, there := was.People[n]; !there {
			names = append(names, n)
		}
	}
	for _, n := range names {
		p, there := was.People[n]
		q, stays := is.People[n]
		switch {
		case !stays:
			out = append(out, "- person "+n)
		default:
			if !there {
				out = append(out, fmt.Sprintf("+ person %s, class %s", n, q.Class))
				p = Mooring{Class: q.Class}
			}
			for _, x := range [][3]string{{"name", p.Name, q.Name}, {"class", p.Class, q.Class}, {"from", strings.Join(p.From, " "),
				strings.Join(q.From, " ")}, {"keys", fmt.Sprint(len(p.Keys)), fmt.Sprint(len(q.Keys))}, {"until", p.Until, q.Until},
				{"renew", fmt.Sprint(p.Renew), fmt.Sprint(q.Renew)}, {"shut", fmt.Sprint(p.Shut), fmt.Sprint(q.Shut)}} {
				if x[1] != x[2] {
					out = append(out, fmt.Sprintf("~ person %s %s: %s > %s", n, x[0], x[1], x[2]))
				}
			}
			if p.Hash != q.Hash {
				out = append(out, "~ person "+n+" secret")
			}
		}
	}
	for _, n := range slices.Sorted(maps.Keys(is.Parties)) {
		if _, there := was.Parties[n]; !there {
			out = append(out, "+ party "+n)
		}
		if p, q := strings.Join(was.Parties[n], " "), strings.Join(is.Parties[n], " "); p != q {
			out = append(out, fmt.Sprintf("~ party %s: %s > %s", n, p, q))
		}
	}
	for _, n := range slices.Sorted(maps.Keys(was.Parties)) {
		if _, stays := is.Parties[n]; !stays {
			out = append(out, "- party "+n)
		}
	}
	return out
}
