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
}

// Mooring is one person there.
type Mooring struct {
	Name  string
	Class string
	From  []string
	Hash  string
	Shut  bool
	Seen  string // day of the last sign-in, as 2026330
}

// Keep is one sheet that was kept.
type Keep struct {
	ID        int
	By, Words string
	At        time.Time
}

type sheet struct {
	by string
	n  int // the conversation in which it was opened
	is SkerryState
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
	p, ok := s.Is.People[login]
	return ok && !p.Shut && opens(p.Hash, password)
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
	}
	if !slices.Contains(a.may, "change people") {
		return no("class %s may not", a.class), false
	}
	return a.change(w, ask), false
}

func (s *Skerry) people() []string {
	out := []string{cell("PERSON", 18) + cell("NAME", 48) + cell("CLASS", 12) + cell("MAY FROM", 24) + cell("SEEN", 9) + "STATE"}
	for _, n := range slices.Sorted(maps.Keys(s.Is.People)) {
		p := s.Is.People[n]
		state := "open"
		if p.Shut {
			state = "shut"
		}
		from := strings.Join(p.From, ",")
		out = append(out, cell(n, 17)+" "+cell(p.Name, 47)+" "+cell(p.Class, 11)+" "+cell(from, 23)+" "+cell(p.Seen, 8)+" "+state)
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
	out := []string{"number;by;at;words"}
	for _, k := range s.Is.Keeps {
		out = append(out, fmt.Sprintf(`%d;%s;%s;"%s"`, k.ID, k.By, k.At.Format("02.01.2006 15:04:05"), strings.ReplaceAll(k.Words, `"`,
			`""`)))
	}
	return out
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
		case "secret":
			if one, two := ask("secret: "), ask("once more: "); one != two || len(one) < 8 {
				return no("the secrets differ, or have fewer than 8 characters")
			} else {
				p.Hash = Hashed(one)
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
	s.Is.Keeps = append(s.Is.Keeps, Keep{id, a.login, words, time.Now().UTC()})
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
		case !there:
			out = append(out, fmt.Sprintf("+ person %s, class %s", n, q.Class))
		case !stays:
			out = append(out, "- person "+n)
		default:
			for _, x := range [][3]string{{"name", p.Name, q.Name}, {"class", p.Class, q.Class}, {"from", strings.Join(p.From, " "),
				strings.Join(q.From, " ")}, {"shut", fmt.Sprint(p.Shut), fmt.Sprint(q.Shut)}} {
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
