package host

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"unicode/utf8"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

const (
	maxLine    = 64 << 10 // of one line of an answer: a group with 2,000 members has 20 kB
	maxObjects = 1 << 20  // a host that tells of more is broken or hostile
)

var errTooMany = fmt.Errorf("the host tells of more than %d accounts or groups, the most that is read", maxObjects)

// reading is what the shell's survey printed, taken apart.
type reading struct {
	accounts []model.Object
	groups   []model.Object
	power    *power
	byName   map[string]int // places in accounts and groups by kind and name, made when first asked for
	results  map[int]result
	refusal  string // why no step was tried at all
	whole    bool   // the closing line came
}

type result struct {
	did, rc, words string
}

// gathered is what belongs to accounts and groups but is told apart from them.
type gathered struct {
	keys      map[string][]string // by account
	open      map[string]bool     // accounts that ask nobody for a password
	odd       map[string]string   // by kind and name: why it is odd
	low, high int                 // numbers of people
}

// read takes an answer apart; the lines' first letters say what they are
// (lib.sh). as is who asks. An answer that is cut off is returned as far as it
// came, with whole false.
func read(from io.Reader, as string) (*reading, error) {
	r := &reading{results: map[int]result{}, power: newPower()}
	g := gathered{keys: map[string][]string{}, open: map[string]bool{}, odd: map[string]string{}, low: 1000, high: 60000}
	sc := bufio.NewScanner(from)
	sc.Buffer(make([]byte, 16<<10), maxLine*16)
	for sc.Scan() {
		kind, rest, ok := strings.Cut(sc.Text(), ":")
		if !ok {
			continue
		}
		if err := r.line(kind, rest, &g); err != nil {
			return nil, err
		}
	}
	if err := sc.Err(); err != nil {
		if errors.Is(err, bufio.ErrTooLong) {
			return nil, fmt.Errorf("the host sent a line longer than %d bytes", maxLine*16)
		}
		return r, nil // cut off: the caller sees that it is not whole
	}
	r.finish(g, as)
	return r, nil
}

func (r *reading) line(kind, rest string, g *gathered) error {
	switch kind {
	case "A":
		return r.account(rest, g)
	case "G":
		return r.group(rest, g)
	case "B":
		return r.broken(rest, g)
	case "T":
		if f := strings.SplitN(rest, ":", 3); len(f) == 3 {
			what := map[string]string{"passwd": "account", "group": "group"}[f[2]]
			g.odd[what+" "+name(f[0])] = fmt.Sprintf("its name stands in /etc/%s again, on line %s; the system takes the first", f[2], connect.Printable(f[1]))
		}
	case "N":
		g.open[name(rest)] = true
	case "K":
		of, line, _ := strings.Cut(rest, ":")
		if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "#") {
			g.keys[name(of)] = append(g.keys[name(of)], connect.Printable(line))
		}
	case "L":
		key, value, _ := strings.Cut(rest, ":")
		if n, err := strconv.Atoi(value); err == nil && key == "UID_MIN" {
			g.low = n
		} else if err == nil {
			g.high = n
		}
	case "D":
		r.power.rule(connect.Printable(rest))
	case "R":
		f := strings.SplitN(rest, ":", 4)
		if i, err := strconv.Atoi(f[0]); err == nil && len(f) == 4 {
			r.results[i] = result{f[1], f[2], connect.Printable(f[3])}
		}
	case "X":
		r.refusal = connect.Printable(rest)
	case "Z":
		r.whole = true
	}
	return nil
}

// name is a name as the host has it, in a form that can be stored and shown. One
// that is not UTF-8 is written with its bytes in hexadecimal: two of them stay two.
func name(s string) string {
	if utf8.ValidString(s) {
		return connect.Printable(s)
	}
	var b strings.Builder
	for len(s) > 0 {
		c, n := utf8.DecodeRuneInString(s)
		if c == utf8.RuneError && n == 1 {
			fmt.Fprintf(&b, "\\x%02x", s[0])
		} else {
			b.WriteString(connect.Printable(s[:n]))
		}
		s = s[n:]
	}
	return b.String()
}

// oddName says of names that could not be handed to the host's tools as they are.
func oddName(kind, raw string, g *gathered) {
	if n := name(raw); n != raw {
		why := "its name holds control characters"
		if !utf8.ValidString(raw) {
			why = "its name is not UTF-8"
		}
		g.odd[kind+" "+n] = why + ", so Hen Roost does not touch it"
	}
}

// broken notes a line that is no account or group, which the system passes over: something of the host's own that a person should know.
func (r *reading) broken(line string, g *gathered) error {
	f := strings.SplitN(line, ":", 3)
	if len(r.accounts) >= maxObjects {
		return errTooMany
	}
	if len(f) != 3 {
		return fmt.Errorf("the host sent a line that cannot be read: %q", connect.Printable(line))
	}
	o := model.Object{Kind: model.Account, System: true, Name: fmt.Sprintf("(line %s of /etc/%s)", connect.Printable(f[1]), connect.Printable(f[0]))}
	r.accounts = append(r.accounts, o)
	g.odd["account "+o.Name] = fmt.Sprintf("is no account or group, and the system passes over it: %q", connect.Printable(f[2]))
	return nil
}

func (r *reading) account(line string, g *gathered) error {
	f := strings.SplitN(line, ":", 7)
	if len(r.accounts) >= maxObjects {
		return errTooMany
	}
	if len(f) != 7 {
		return fmt.Errorf("the host sent an account line that cannot be read: %q", connect.Printable(line))
	}
	o := model.Object{Kind: model.Account, Name: name(f[0])}
	oddName("account", f[0], g)
	list := make([]model.Attribute, 0, 6)
	for i, name := range []string{model.Number, model.PrimaryGroup, model.Disabled, home, shell, model.FullName} {
		if f[i+1] = connect.Printable(f[i+1]); f[i+1] != "" {
			list = append(list, model.Attribute{Name: name, Values: f[i+1 : i+2]})
		}
	}
	o.Attributes = model.Pack(list...)
	r.accounts = append(r.accounts, o)
	return nil
}

func (r *reading) group(line string, g *gathered) error {
	f := strings.SplitN(line, ":", 3)
	if len(r.groups) >= maxObjects {
		return errTooMany
	}
	if len(f) != 3 {
		return fmt.Errorf("the host sent a group line that cannot be read: %q", connect.Printable(line))
	}
	o := model.Object{Kind: model.GroupKind, Name: name(f[0])}
	oddName("group", f[0], g)
	o.Attributes = o.Attributes.With(model.Number, connect.Printable(f[1]))
	var members []string
	for m := range strings.SplitSeq(f[2], ",") {
		if m != "" {
			members = append(members, name(m))
		}
	}
	o.Attributes = o.Attributes.With(model.Members, members...)
	r.groups = append(r.groups, o)
	return nil
}

// finish joins what was told apart.
func (r *reading) finish(g gathered, as string) {
	r.power.settle(r)
	through := map[string][]string{}
	for i := range r.groups {
		o := &r.groups[i]
		mark(o, g.odd["group "+o.Name])
		if _, gives := r.power.groups[o.Name]; gives {
			for _, m := range o.Attributes.Get(model.Members) {
				through[m] = append(through[m], o.Name)
			}
		}
	}
	for i := range r.accounts {
		a := &r.accounts[i]
		n, err := strconv.Atoi(a.Attributes.One(model.Number))
		a.System = a.System || err != nil || n < g.low || n > g.high || n == 65534
		a.Ours = a.Name == as
		if k := g.keys[a.Name]; k != nil {
			a.Attributes = a.Attributes.With(keys, k...)
		}
		if a.Name != "root" {
			if how := r.power.ways(a, through[a.Name]); len(how) > 0 {
				a.Attributes = a.Attributes.With(model.Elevation, how...)
			}
			if err == nil && n == superuser {
				mark(a, "it has the superuser's number beside root")
			}
		}
		if g.open[a.Name] {
			a.Marked, a.Attributes = true, a.Attributes.With(model.Passwordless, "yes")
		}
		mark(a, g.odd["account "+a.Name])
	}
}

// mark says why an object cannot be looked after as it stands; "" that it can.
func mark(o *model.Object, odd string) {
	if odd != "" {
		o.Marked, o.Attributes = true, o.Attributes.With(model.Odd, odd)
	}
}

func (r *reading) view(kind model.ObjectKind, name string) *model.Object {
	if r.byName == nil {
		r.byName = make(map[string]int, len(r.accounts)+len(r.groups))
		for i := range r.accounts {
			r.byName["a"+r.accounts[i].Name] = i
		}
		for i := range r.groups {
			r.byName["g"+r.groups[i].Name] = i
		}
	}
	if kind == model.GroupKind {
		if i, ok := r.byName["g"+name]; ok {
			return &r.groups[i]
		}
	} else if i, ok := r.byName["a"+name]; ok {
		return &r.accounts[i]
	}
	return nil
}
