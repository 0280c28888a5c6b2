package spoken

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Folio is a publishing application with a command of its own for its administration: lists come as JSON, roles are given to many
// at once, and one unknown among them does not stop the rest.
type Folio struct {
	kept
	Is FolioState
}

// FolioState is what it keeps.
type FolioState struct {
	Admin  string // who may run it, and with what password
	Hash   string
	People map[string]Author
	Roles  map[string]string // name → what for
}

// Author is a user of it.
type Author struct {
	ID     int      `json:"id"`
	Name   string   `json:"name"`
	Mail   string   `json:"mail"`
	Roles  []string `json:"roles"`
	Locked bool     `json:"locked"`
	Kept   string   `json:"kept,omitempty"`
}

// NewFolio makes one with the state in a file or, where there is none, as it is found.
func NewFolio(file string, found FolioState) (*Folio, error) {
	f := &Folio{kept{file}, found}
	return f, f.load(&f.Is)
}

// SignIn implements Language.
func (f *Folio) SignIn(login, password string) bool {
	if login == f.Is.Admin {
		return opens(f.Is.Hash, password)
	}
	p, ok := f.Is.People[login]
	return ok && !p.Locked && opens(p.Kept, password)
}

// Open implements Language.
func (f *Folio) Open(login, _ string) Speaker { return &atFolio{f, login} }

type atFolio struct {
	f     *Folio
	login string
}

func (a *atFolio) Greeting() string { return "" }
func (a *atFolio) Prompt() string   { return "folio: " }
func (a *atFolio) Left() bool       { return false }
func (a *atFolio) Close()           {}

func (a *atFolio) Say(line string, ask func(string) string) ([]string, bool) {
	w, f := append(words(line), "", "", "", ""), a.f
	if w[0] != "folio" {
		return no("%s: no such command", w[0]), false
	}
	if a.login != f.Is.Admin {
		return no("only %s may", f.Is.Admin), false
	}
	list := func(v any) ([]string, bool) {
		b, _ := json.MarshalIndent(v, "", "  ")
		return strings.Split(string(b), "\n"), false
	}
	switch w[1] {
	case "people":
		out := []map[string]any{}
		for _, n := range slices.Sorted(maps.Keys(f.Is.People)) {
			p := f.Is.People[n]
			out = append(out, map[string]any{"id": p.ID, "login": n, "name": p.Name, "mail": p.Mail, "roles": p.Roles, "locked": p.Locked})
		}
		return list(map[string]any{"people": out})
	case "roles":
		out := []map[string]any{}
		for _, n := range slices.Sorted(maps.Keys(f.Is.Roles)) {
			out = append(out, map[string]any{"role": n, "about": f.Is.Roles[n]})
		}
		return list(map[string]any{"roles": out})
	case "gate":
		p, there := f.Is.People[w[2]]
		return tellGate(w[2], there && !p.Locked), false
	case "give", "take-back":
		return a.roles(w[1] == "give", w[2], w[3:]), false
	case "lock", "unlock":
		return a.each(w[2:], func(p *Author) { p.Locked = w[1] == "lock" }), false
	case "add":
		if _, there := f.Is.People[w[2]]; there {
			return no("%s is there already", w[2]), false
		}
		f.Is.People[w[2]] = Author{ID: 100 + len(f.Is.People)}
		f.save(f.Is)
		return nil, false
	}
	p, there := f.Is.People[w[2]]
	if !there {
		return no("nobody is called %s", w[2]), false
	}
	switch w[1] {
	case "name":
		p.Name = w[3]
	case "mail":
		p.Mail = w[3]
	case "password":
		p.Kept = Hashed(ask(""))
	case "away":
		delete(f.Is.People, w[2])
		f.save(f.Is)
		return []string{"gone"}, false
	default:
		return no("%s: no such word", w[1]), false
	}
	f.Is.People[w[2]] = p
	f.save(f.Is)
	return nil, false
}

// roles gives one to many, or takes it back.
func (a *atFolio) roles(give bool, role string, who []string) (out []string) {
	f := a.f
	if _, known := f.Is.Roles[role]; !known {
		return no("no role is called %s", role)
	}
	return a.each(who, func(p *Author) {
		p.Roles = slices.DeleteFunc(slices.Clone(p.Roles), func(r string) bool { return r == role })
		if give {
			p.Roles = append(p.Roles, role)
		}
	})
}

// each does something with many: one that nobody knows does not stop the rest.
func (a *atFolio) each(who []string, do func(*Author)) (out []string) {
	f, n := a.f, 0
	for _, x := range who {
		if x == "" {
			continue
		}
		p, there := f.Is.People[x]
		if !there {
			out = append(out, "! "+x+": nobody is called so")
			continue
		}
		n++
		do(&p)
		f.Is.People[x] = p
	}
	f.save(f.Is)
	return append(out, fmt.Sprintf("%d done", n))
}
