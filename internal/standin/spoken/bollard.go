package spoken

import (
	"fmt"
	"maps"
	"slices"
	"time"
)

// Bollard is an old bridge's router: what is typed holds at once, what was done is answered with nothing, and its clock is years
// off.
type Bollard struct {
	kept
	Is    BollardState
	hands *atBollard // whose are on: nobody else can change anything
}

// BollardState is what it keeps.
type BollardState struct {
	Users  map[string]Hand
	Behind time.Duration // of its clock
}

// Hand is a user of one.
type Hand struct {
	Full    string
	Level   int // 9 may do everything, 1 look
	Hash    string
	Blocked bool
	Last    int // Julian day number
}

// NewBollard makes one with the state in a file or, where there is none, as it is found.
func NewBollard(file string, found BollardState) (*Bollard, error) {
	b := &Bollard{kept: kept{file}, Is: found}
	return b, b.load(&b.Is)
}

// SignIn implements Language.
func (b *Bollard) SignIn(login, password string) bool {
	h, ok := b.Is.Users[login]
	return ok && !h.Blocked && opens(h.Hash, password)
}

// Open implements Language.
func (b *Bollard) Open(login, _ string) Speaker {
	h := b.Is.Users[login]
	h.Last = int(time.Now().Add(-b.Is.Behind).Unix()/86400) + 2440588
	b.Is.Users[login] = h
	return &atBollard{b: b, login: login, level: h.Level}
}

type atBollard struct {
	b     *Bollard
	login string
	level int
	left  bool
}

func (a *atBollard) Greeting() string { return "bollard/2" }

func (a *atBollard) Prompt() string {
	if a.b.hands == a {
		return "bridge, hands on# "
	}
	return "bridge# "
}

// bollardWide is how many characters it writes in a line. A line of just as many is followed by one of none.
const bollardWide = 60

func broken(lines []string, wide int) (out []string) {
	for _, l := range lines {
		r := []rune(l)
		for ; len(r) >= wide; r = r[wide:] {
			out = append(out, string(r[:wide]))
		}
		out = append(out, string(r))
	}
	return out
}
func (a *atBollard) Left() bool { return a.left }

func (a *atBollard) Close() {
	if a.b.hands == a {
		a.b.hands = nil
	}
}

func (a *atBollard) Say(line string, ask func(string) string) ([]string, bool) {
	w := append(words(line), "", "", "", "")
	bad := func(why string) ([]string, bool) { return []string{"%% " + why}, false }
	switch {
	case w[0] == "":
		return nil, false
	case w[0] == "quit":
		a.left = true
		return nil, false
	case w[0] == "users":
		var out []string
		for _, n := range slices.Sorted(maps.Keys(a.b.Is.Users)) {
			h := a.b.Is.Users[n]
			out = append(out, "user = "+n, "full = "+h.Full, fmt.Sprintf("level = %d", h.Level), fmt.Sprintf("blocked = %v",
				map[bool]int{true: 1}[h.Blocked]),
				fmt.Sprintf("last = %d", h.Last), "")
		}
		return broken(out, bollardWide), true
	case w[0] == "hands" && a.b.hands != nil && a.b.hands != a:
		return bad("hands are on by " + a.b.hands.login)
	case w[0] == "hands" && w[1] == "on":
		a.b.hands = a
		return nil, false
	case w[0] == "hands":
		a.b.hands = nil
		return nil, false
	case w[0] == "gate":
		h, there := a.b.Is.Users[w[1]]
		return tellGate(w[1], there && !h.Blocked), false
	case w[0] == "clock":
		return []string{"clock = " + time.Now().Add(-a.b.Is.Behind).UTC().Format("02 Jan 2006 15:04:05")}, false
	case w[0] != "user":
		return bad("unknown word")
	case a.level < 9:
		return bad("level too low")
	case a.b.hands != a:
		return bad("hands are off")
	}
	h, there := a.b.Is.Users[w[1]]
	if !there && w[2] != "make" {
		return bad("no such user")
	}
	switch w[2] {
	case "make":
		if there {
			return bad("user is there")
		}
		h = Hand{Level: 1, Blocked: true}
	case "full":
		h.Full = w[3]
	case "level":
		if n, err := fmt.Sscan(w[3], &h.Level); n != 1 || err != nil || h.Level < 1 || h.Level > 9 {
			return bad("level 1 to 9")
		}
	case "pass":
		if h.Hash = Hashed(ask("pass: ")); h.Hash == "" {
			return bad("no pass")
		}
	case "block", "free":
		h.Blocked = w[2] == "block"
	case "drop":
		delete(a.b.Is.Users, w[1])
		a.b.save(a.b.Is)
		return nil, false
	default:
		return bad("unknown word")
	}
	a.b.Is.Users[w[1]] = h
	a.b.save(a.b.Is)
	return nil, false
}
