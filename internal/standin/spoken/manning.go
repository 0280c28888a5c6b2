package spoken

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Manning is a crewing office's batch system: what changes something is a job of many statements, handed in, run a while later,
// its output fetched by its number. Whoever has no office may list only themselves.
type Manning struct {
	kept
	Is    ManningState
	Waits time.Duration // of a job, before it is run
	jobs  map[int]*job
}

// ManningState is what it keeps.
type ManningState struct {
	People map[string]Berth
	Groups map[string]Watch
	Next   int // number of the next job
}

// Berth is one person.
type Berth struct {
	Full    string
	Number  int
	Group   string // where they belong
	Hash    string
	Barred  bool
	Office  bool // may hand jobs in, and see everybody
	Entered string
}

// Watch is a group: who leads it, and the one above it.
type Watch struct {
	Under   string
	In      []string
	Minders []string
}

type job struct {
	at     time.Time
	lines  []string
	output []string
}

// NewManning makes one with the state in a file or, where there is none, as it is found.
func NewManning(file string, found ManningState) (*Manning, error) {
	m := &Manning{kept: kept{file}, Is: found, jobs: map[int]*job{}}
	return m, m.load(&m.Is)
}

// SignIn implements Language.
func (m *Manning) SignIn(login, password string) bool {
	p, ok := m.Is.People[login]
	return ok && !p.Barred && opens(p.Hash, password)
}

// Open implements Language.
func (m *Manning) Open(login, _ string) Speaker { return &atManning{m, login} }

type atManning struct {
	m     *Manning
	login string
}

func (a *atManning) Greeting() string { return "" }
func (a *atManning) Prompt() string   { return "manning: " }
func (a *atManning) Left() bool       { return false }
func (a *atManning) Close()           {}

func (a *atManning) Say(line string, ask func(string) string) ([]string, bool) {
	w, m := append(words(line), "", "", ""), a.m
	office := m.Is.People[a.login].Office
	switch w[0] + " " + w[1] {
	case "roll people":
		out := []string{"LOGIN                   FULL NAME                                NUMBER  GROUP       ENTERED   BARRED"}
		for _, n := range slices.Sorted(maps.Keys(m.Is.People)) {
			if p := m.Is.People[n]; office || n == a.login {
				out = append(out, cell(n, 23)+" "+cell(p.Full, 40)+" "+cell(strconv.Itoa(p.Number), 7)+" "+cell(p.Group, 11)+" "+
					cell(p.Entered, 9)+" "+map[bool]string{true: "barred", false: "-"}[p.Barred])
			}
		}
		return out, false
	case "roll groups":
		var out []string
		for _, n := range slices.Sorted(maps.Keys(m.Is.Groups)) {
			g := m.Is.Groups[n]
			out = append(out, fmt.Sprintf("group %s under %s minded by %s", n, orDash(g.Under), orDash(strings.Join(g.Minders, ","))))
			for _, x := range g.In {
				out = append(out, "  mans "+x)
			}
		}
		return out, false
	}
	if !office {
		return no("only the office may"), false
	}
	switch w[0] {
	case "gate":
		p, there := m.Is.People[w[1]]
		return tellGate(w[1], there && !p.Barred), false
	case "hand-in":
		j := &job{at: time.Now().Add(m.Waits)}
		for text := ask(""); text != ""; text = ask("") {
			j.lines = append(j.lines, text)
		}
		m.Is.Next++
		m.jobs[m.Is.Next] = j
		return []string{fmt.Sprintf("job %d is handed in, %d lines", m.Is.Next, len(j.lines))}, false
	case "ask", "fetch":
		n, _ := strconv.Atoi(w[1])
		j := m.jobs[n]
		switch {
		case j == nil:
			return no("there is no job %s", w[1]), false
		case time.Now().Before(j.at):
			return []string{fmt.Sprintf("job %d waits", n)}, false
		}
		if j.output == nil {
			m.run(j)
		}
		if w[0] == "ask" {
			return []string{fmt.Sprintf("job %d has run", n)}, false
		}
		return j.output, false
	}
	return no("what is %s?", w[0]), false
}

func orDash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

// run carries a job out, a statement after the other: one that fails does not stop the rest.
func (m *Manning) run(j *job) {
	for _, l := range j.lines {
		if strings.HasPrefix(l, "* ") {
			j.output = append(j.output, l)
			continue
		}
		if why := m.statement(append(words(l), "", "", "", "", "")); why != "" {
			j.output = append(j.output, "?? "+why)
		}
	}
	m.save(m.Is)
}

func (m *Manning) statement(w []string) string {
	p, there := m.Is.People[w[1]]
	g, group := m.Is.Groups[w[1]]
	switch {
	case w[0] == "enter" && there:
		return w[1] + " is entered already"
	case w[0] == "enter":
		p = Berth{Entered: fmt.Sprintf("%d", time.Now().Unix()/86400+2440588)}
	case w[0] == "group" && group:
		return "there is a group " + w[1]
	case w[0] == "group":
		m.Is.Groups[w[1]] = Watch{Under: w[3]}
		return ""
	case slices.Contains([]string{"ungroup", "man", "relieve", "under", "mind"}, w[0]) && !group:
		return "there is no group " + w[1]
	case w[0] == "ungroup":
		delete(m.Is.Groups, w[1])
		return ""
	case w[0] == "under":
		for x := w[2]; x != ""; x = m.Is.Groups[x].Under {
			if _, known := m.Is.Groups[x]; !known {
				return "there is no group " + x
			}
			if x == w[1] {
				return w[1] + " would be under itself"
			}
		}
		g.Under = w[2]
		m.Is.Groups[w[1]] = g
		return ""
	case w[0] == "mind":
		g.Minders = nil
		for _, x := range w[2:] {
			if _, known := m.Is.People[x]; known {
				g.Minders = append(g.Minders, x)
			} else if x != "" {
				return "nobody is entered as " + x
			}
		}
		m.Is.Groups[w[1]] = g
		return ""
	case w[0] == "man", w[0] == "relieve":
		if _, known := m.Is.People[w[2]]; !known {
			return "nobody is entered as " + w[2]
		}
		if g.In = without(g.In, w[2]); w[0] == "man" {
			g.In = append(g.In, w[2])
		}
		m.Is.Groups[w[1]] = g
		return ""
	case !there:
		return "nobody is entered as " + w[1]
	}
	switch w[0] {
	case "enter":
	case "call":
		p.Full = w[2]
	case "number":
		n, err := strconv.Atoi(w[2])
		if err != nil {
			return w[2] + " is no number"
		}
		for x, q := range m.Is.People {
			if q.Number == n && x != w[1] {
				return fmt.Sprintf("number %d is %s's", n, x)
			}
		}
		p.Number = n
	case "belong":
		p.Group = w[2]
	case "word":
		p.Hash = Hashed(w[2])
	case "bar", "unbar":
		p.Barred = w[0] == "bar"
	case "strike":
		delete(m.Is.People, w[1])
		for n, g := range m.Is.Groups {
			g.In = without(g.In, w[1])
			m.Is.Groups[n] = g
		}
		return ""
	default:
		return "what is " + w[0] + "?"
	}
	m.Is.People[w[1]] = p
	return ""
}
