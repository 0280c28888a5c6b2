package spoken

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// Skerry is a harbour's switch. What is changed is written on a sheet, which shows how it differs, is kept with words, or kept for
// some minutes after which the switch goes back by itself.
type Skerry struct {
	kept
	Is     SkerryState
	sheet  *sheet
	before *SkerryState // while the kept sheet is on trial
	until  time.Time
	timer  *time.Timer
	in     map[int]*atSkerry
	next   int
	guard  func(func()) // runs something while nothing else is carried out
}

// SkerryState is what it keeps.
type SkerryState struct {
	Name    string
	People  map[string]Mooring
	Classes map[string][]string // what each may
	Parties map[string][]string // who is in each
	Keeps   []Keep
	Lights  map[string]bool // of the berths
}

// Mooring is one person there.
type Mooring struct {
	Name  string
	Class string
	From  []string
	Hash  string
	Shut  bool
	Seen  string // day of the last sign-in, as 2026330
	Keys  []string
	Until string // last day of the secret
	Renew bool   // nothing else is done for them until they have given themselves another secret
}

// Keep is one sheet that was kept.
type Keep struct {
	ID        int
	By, Words string
	At        time.Time
	Touched   []string // people
}

// NewSkerry makes one with the state in a file or, where there is none, as it is found.
func NewSkerry(file string, found SkerryState) (*Skerry, error) {
	s := &Skerry{kept: kept{file}, Is: found, in: map[int]*atSkerry{}}
	return s, s.load(&s.Is)
}

// Guard says how something is run while nothing else is carried out: trials end by themselves.
func (s *Skerry) Guard(g func(func())) { s.guard = g }

// OnTrial says whether a sheet is on trial.
func (s *Skerry) OnTrial() bool { return s.before != nil }

func (x SkerryState) copy() SkerryState {
	x.People, x.Classes, x.Parties, x.Keeps = maps.Clone(x.People), maps.Clone(x.Classes), maps.Clone(x.Parties), slices.Clone(x.Keeps)
	if x.Parties == nil {
		x.Parties = map[string][]string{}
	}
	return x
}

// SignIn implements Language.
func (s *Skerry) SignIn(login, password string) bool {
	p := s.Is.People[login]
	return p.open() && opens(p.Hash, password)
}

// Keys are what opens a login beside its password.
func (s *Skerry) Keys(login string) []string {
	if p := s.Is.People[login]; p.open() {
		return p.Keys
	}
	return nil
}

func (m Mooring) open() bool {
	return m.Class != "" && !m.Shut && (m.Until == "" || m.Until >= time.Now().UTC().Format(time.DateOnly))
}

// Open implements Language.
func (s *Skerry) Open(login, from string) Speaker {
	s.next++
	a := &atSkerry{s: s, n: s.next, login: login, from: from, since: time.Now().UTC(), may: s.Is.Classes[s.Is.People[login].Class],
		more: true}
	a.class = s.Is.People[login].Class
	s.in[a.n] = a
	p := s.Is.People[login]
	p.Seen = a.since.Format("2006") + fmt.Sprintf("%03d", a.since.YearDay())
	s.Is.People[login] = p
	return a
}

// atSkerry is a conversation. What somebody may is settled when they sign in.
type atSkerry struct {
	s           *Skerry
	n           int
	login, from string
	class       string
	since       time.Time
	may         []string
	more, left  bool
}

func (a *atSkerry) Greeting() string { return "Skerry 7, " + a.s.Is.Name + ". Tell it slowly." }
func (a *atSkerry) Left() bool       { return a.left || a.s.in[a.n] == nil }

func (a *atSkerry) Prompt() string {
	if a.s.sheet != nil && a.s.sheet.n == a.n {
		return a.s.Is.Name + " 7 (sheet) > "
	}
	return a.s.Is.Name + " 7 > "
}

func (a *atSkerry) Close() {
	delete(a.s.in, a.n)
	if a.s.sheet != nil && a.s.sheet.n == a.n && a.s.before == nil { // nobody is left to keep it
		a.s.sheet = nil
	}
}

func no(format string, args ...any) []string { return []string{"?? " + fmt.Sprintf(format, args...)} }

func (a *atSkerry) Say(line string, ask func(string) string) ([]string, bool) {
	w := append(words(line), "", "", "")
	s := a.s
	switch p := s.Is.People[a.login]; {
	case w[0] == "my" && w[1] == "secret":
		if p.Hash, p.Renew = asked(ask), false; p.Hash == "" {
			return no("the secrets differ, or have fewer than 8 characters"), false
		}
		s.Is.People[a.login] = p
		s.save(s.Is)
		return nil, false
	case p.Renew && w[0] != "" && w[0] != "away" && w[0] != "page":
		return no("give yourself another secret first: my secret"), false
	}
	if takes := takes(w); takes != "" && !slices.Contains(a.may, takes) {
		return no("class %s may not; it takes: %s", a.class, takes), false
	}
	switch w[0] + " " + w[1] {
	case " ":
		return nil, false
	case "page off", "page on":
		a.more = w[1] == "on"
		return nil, false
	case "away ":
		a.left = true
		return nil, false
	case "tell people":
		return s.people(), a.more
	case "tell keys":
		return blocks("person", "  key ", s.keys()), a.more
	case "tell classes":
		return blocks("class", "  may ", s.Is.Classes), a.more
	case "tell parties":
		return blocks("party", "  holds ", s.Is.Parties), a.more
	case "tell signed-in":
		return a.signedIn(), a.more
	case "tell keeps":
		return s.keeps(), a.more
	case "tell sheet":
		return s.tellSheet(), false
	case "tell self":
		return []string{"name: " + s.Is.Name, "version: 7.2", "clock: " + time.Now().UTC().Format("2006-01-02 15:04:05")}, false
	case "tell gate":
		return tellGate(w[2], s.Is.People[w[2]].open()), false
	case "tell needs":
		return tellNeeds(words(w[2])), false
	}
	if w[0] == "light" {
		if s.Is.Lights == nil {
			s.Is.Lights = map[string]bool{}
		}
		s.Is.Lights[w[1]] = w[2] == "on"
		return nil, false
	}
	return a.change(w, ask), false
}

// takes is the permission that a line takes; "" for none.
func takes(w []string) string {
	switch w[0] {
	case "tell":
		if w[1] != "needs" && w[1] != "self" {
			return "tell"
		}
		return ""
	case "light":
		return "lights"
	case "turn":
		return "turn out"
	case "", "page", "away", "my":
		return ""
	}
	return "change people"
}

// tellGate says whether somebody is let in.
func tellGate(name string, open bool) []string {
	if open {
		return []string{name + " is let in"}
	}
	return []string{name + " is kept out: shut, ended, or nobody"}
}

func tellNeeds(w []string) []string {
	w = append(w, "", "")
	if !slices.Contains([]string{"tell", "light", "turn", "open", "keep", "sheet", "drop", "new", "strike", "person", "party"}, w[0]) {
		return no("what is %s?", w[0])
	}
	if x := takes(w); x != "" {
		return []string{"it takes: " + x}
	}
	return []string{"anybody may"}
}

// asked is a secret that was asked for twice, as it is kept; "" for one that cannot be.
func asked(ask func(string) string) string {
	if one, two := ask("secret: "), ask("once more: "); one == two && len(one) >= 8 {
		return Hashed(one)
	}
	return ""
}

func (s *Skerry) people() []string {
	out := []string{cell("PERSON", 18) + cell("NAME", 48) + cell("CLASS", 12) + cell("MAY FROM", 24) + cell("SEEN", 9) + cell("UNTIL",
		12) + cell("RENEW", 7) + "STATE"}
	for _, n := range slices.Sorted(maps.Keys(s.Is.People)) {
		p := s.Is.People[n]
		state := "open"
		if p.Shut {
			state = "shut"
		}
		from := strings.Join(p.From, ",")
		out = append(out, cell(n, 17)+" "+cell(p.Name, 47)+" "+cell(p.Class, 11)+" "+cell(from, 23)+" "+cell(p.Seen, 8)+" "+
			cell(p.Until, 11)+" "+cell(map[bool]string{true: "yes", false: "no"}[p.Renew], 6)+" "+state)
	}
	return out
}

// keys are those that people have.
func (s *Skerry) keys() map[string][]string {
	out := map[string][]string{}
	for n, p := range s.Is.People {
		out[n] = p.Keys
	}
	return out
}

// blocks tell of things with what they have, a line each.
func blocks(what, has string, of map[string][]string) (out []string) {
	for _, n := range slices.Sorted(maps.Keys(of)) {
		out = append(out, what+" "+n)
		for _, m := range of[n] {
			out = append(out, has+m)
		}
	}
	return out
}

func (a *atSkerry) signedIn() (out []string) {
	for _, n := range slices.Sorted(maps.Keys(a.s.in)) {
		x, mark := a.s.in[n], ""
		if x == a {
			mark = " (you)"
		}
		out = append(out, fmt.Sprintf("%d %s from %s since %s as %s%s", n, x.login, x.from, x.since.Format("2006-01-02 15:04"), x.class,
			mark))
	}
	return out
}

func (s *Skerry) keeps() []string {
	out := []string{"number;by;at;people;words"}
	for _, k := range s.Is.Keeps {
		out = append(out, fmt.Sprintf(`%d;%s;%s;%s;"%s"`, k.ID, k.By, k.At.Format("02.01.2006 15:04:05"), strings.Join(k.Touched, ","),
			strings.ReplaceAll(k.Words, `"`, `""`)))
	}
	return out
}

// change carries out what changes something.
func (a *atSkerry) change(w []string, ask func(string) string) []string {
	s := a.s
	mine := s.sheet != nil && s.sheet.n == a.n
	switch {
	case w[0] == "open" && w[1] == "sheet":
		switch {
		case s.before != nil:
			return no("a sheet is on trial")
		case s.sheet != nil && !mine:
			return no("the sheet is open by %s", s.sheet.by)
		}
		s.sheet = &sheet{a.login, a.n, s.Is.copy()}
		return nil
	case w[0] == "turn" && w[1] == "out":
		for n := range s.in {
			if fmt.Sprint(n) == w[2] && n != a.n {
				delete(s.in, n)
				return nil
			}
		}
		return no("nobody is %s", w[2])
	case w[0] == "sheet" && w[1] == "stays":
		if s.before == nil {
			return no("nothing is on trial")
		}
		s.settle()
		return nil
	case w[0] == "drop" && w[1] == "sheet":
		if s.before != nil {
			s.back()
			return nil
		}
		if s.sheet != nil && s.sheet.by != a.login {
			return no("the sheet is %s's", s.sheet.by)
		}
		s.sheet = nil
		return nil
	case !mine:
		return no("open sheet first")
	}
	switch x := &s.sheet.is; w[0] {
	case "sheet":
		if w[1] == "shows" {
			return differ(s.Is, *x)
		}
		return x.fits()
	case "keep":
		return a.keep(w)
	case "new", "strike":
		return x.newOrStrike(w)
	case "party":
		return x.party(w)
	case "person":
		p, there := x.People[w[1]]
		if !there {
			return no("there is no %s", w[1])
		}
		switch w[2] {
		case "name":
			p.Name = w[3]
		case "class":
			if _, known := x.Classes[w[3]]; !known {
				return no("there is no class %s", w[3])
			}
			p.Class = w[3]
		case "from":
			p.From = slices.DeleteFunc(slices.Clone(w[3:]), func(x string) bool { return x == "" })
		case "shut", "opened":
			p.Shut = w[2] == "shut"
		case "keys":
			p.Keys = slices.DeleteFunc(slices.Clone(w[3:]), func(x string) bool { return x == "" })
		case "until":
			if _, err := time.Parse(time.DateOnly, w[3]); err != nil && w[3] != "" {
				return no("%s is no day", w[3])
			}
			p.Until = w[3]
		case "renew":
			p.Renew = w[3] == "yes"
		case "secret":
			if p.Hash = asked(ask); p.Hash == "" {
				return no("the secrets differ, or have fewer than 8 characters")
			}
		default:
			return no("a person has no %s", w[2])
		}
		x.People[w[1]] = p
		return nil
	}
	return no("what is %s?", w[0])
}

func (x *SkerryState) newOrStrike(w []string) []string {
	_, person := x.People[w[2]]
	_, party := x.Parties[w[2]]
	there := map[string]bool{"person": person, "party": party}[w[1]]
	switch {
	case w[1] != "person" && w[1] != "party":
		return no("what is a %s?", w[1])
	case there == (w[0] == "new"):
		return no("there is %s %s %s", map[bool]string{true: "a", false: "no"}[there], w[1], w[2])
	}
	switch w[0] + w[1] {
	case "newperson":
		x.People[w[2]] = Mooring{Class: "visitor"}
	case "newparty":
		x.Parties[w[2]] = nil
	case "strikeparty":
		delete(x.Parties, w[2])
	default:
		delete(x.People, w[2])
		for n := range x.Parties {
			x.Parties[n] = without(x.Parties[n], w[2])
		}
	}
	return nil
}

func (x *SkerryState) party(w []string) []string {
	list, there := x.Parties[w[1]]
	_, known := x.People[w[3]]
	switch {
	case !there:
		return no("there is no party %s", w[1])
	case !known:
		return no("there is no %s", w[3])
	}
	list = without(list, w[3])
	if w[2] == "takes" {
		list = append(list, w[3])
	}
	x.Parties[w[1]] = list
	return nil
}

func without(list []string, name string) []string {
	return slices.DeleteFunc(slices.Clone(list), func(x string) bool { return x == name })
}
