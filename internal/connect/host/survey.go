package host

import (
	"bufio"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

const (
	maxLine    = 64 << 10 // of one line of an answer: a group with 2,000 members has 20 kB
	maxObjects = 1 << 20  // a host that tells of more is broken or hostile
)

var errTooMany = fmt.Errorf("the host tells of more than %d accounts or groups, the most that is read", maxObjects)

// answer is what a shell prints, line by line.
type answer struct {
	*bufio.Scanner
	as string // who asks
}

func newAnswer(from io.Reader, as string) *answer {
	sc := bufio.NewScanner(from)
	sc.Buffer(make([]byte, 16<<10), maxLine*16)
	return &answer{sc, as}
}

// reading is what the shell told at once, taken apart.
type reading struct {
	accounts  []model.Object
	groups    []model.Object // of a reading of some names without their members
	power     *power
	places    map[model.Named]int      // in accounts and groups, made when first asked for
	members   map[[2]string]bool       // group and account, of those that were asked for
	twice     map[model.Named]string   // the file in which a name stands again
	results   map[int]string           // what a step's commands complained of
	system    model.Object             // the host itself, of a whole survey
	homes     map[string]*model.Object // by folder, where they were asked for
	passwords map[string]bool          // accounts with the superuser's number that a password opens
	seen      map[string]string        // by account: the day of its last sign-in
	refusal   string                   // why nothing more is done
	whole     bool                     // the closing line came
}

// gathered is what belongs to accounts and groups but is told apart from them.
type gathered struct {
	keys      map[string][]string // by account
	open      map[string]bool     // accounts that ask nobody for a password
	must      map[string]bool     // accounts whose password must be changed
	odd       map[model.Named]string
	joined    map[string][]string          // by account: groups, of a reading of some names
	numbers   map[string]string            // of groups, of such a reading
	more      map[string][]model.Attribute // by account
	admins    map[string][]string          // by group
	given     []given                      // by us, of what may be done as superuser
	others    []model.Object               // accounts that a directory has
	low, high int                          // numbers of people
}

// read takes what the shell tells apart, up to a closing line; the lines' first
// letters say what they are (lib.sh). What is cut off is returned as far as it
// came, with whole false.
func (a *answer) read() (*reading, error) {
	r := &reading{results: map[int]string{}, power: newPower(), members: map[[2]string]bool{}, twice: map[model.Named]string{},
		homes: map[string]*model.Object{}, seen: map[string]string{}, passwords: map[string]bool{}}
	g := gathered{keys: map[string][]string{}, open: map[string]bool{}, must: map[string]bool{}, odd: map[model.Named]string{},
		joined: map[string][]string{}, numbers: map[string]string{}, more: map[string][]model.Attribute{},
		admins: map[string][]string{}, low: 1000, high: 60000}
	for !r.whole && a.Scan() {
		kind, rest, ok := strings.Cut(a.Text(), ":")
		if !ok {
			continue
		}
		if err := r.line(kind, rest, &g); err != nil {
			return nil, err
		}
	}
	if err := a.Err(); err != nil {
		if errors.Is(err, bufio.ErrTooLong) {
			return nil, fmt.Errorf("the host sent a line longer than %d bytes", maxLine*16)
		}
		if errors.Is(err, errGreeting) {
			return nil, err
		}
		return r, nil // cut off: the caller sees that it is not whole
	}
	r.finish(g, a.as)
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
			n := model.Named{Kind: map[string]model.ObjectKind{"passwd": model.Account, "group": model.GroupKind}[f[2]], Name: name(f[0])}
			r.twice[n] = "/etc/" + connect.Printable(f[2])
			g.odd[n] = fmt.Sprintf("its name stands in %s again, on line %s; the system takes the first", r.twice[n],
				connect.Printable(f[1]))
		}
	case "N":
		g.open[name(rest)] = true
	case "W":
		g.must[name(rest)] = true
	case "K":
		of, line, _ := strings.Cut(rest, ":")
		if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "#") {
			g.keys[name(of)] = append(g.keys[name(of)], connect.Printable(line))
		}
	case "age":
		of, days, _ := strings.Cut(rest, ":")
		g.more[name(of)] = append(g.more[name(of)], ageOf(days)...)
	case "other":
		return r.elsewhere(rest, g)
	case "home":
		return r.home(rest)
	default:
		r.told(kind, rest, g)
	}
	return nil
}

// told reads the short lines.
func (r *reading) told(kind, rest string, g *gathered) {
	one, other, _ := strings.Cut(rest, ":")
	note := func(attribute, value string) {
		g.more[name(one)] = append(g.more[name(one)], model.Attribute{Name: attribute, Values: []string{value}})
	}
	switch kind {
	case "D":
		r.power.rule(connect.Printable(rest))
	case "doas":
		r.power.doas(connect.Printable(rest))
	case "su":
		r.power.su(connect.Printable(rest))
	case "own":
		if x, ok := givenOf(rest); ok {
			g.given = append(g.given, x)
		} else {
			r.power.rule(connect.Printable(rest))
		}
	case "super":
		r.passwords[name(one)] = other != ""
		note(model.Locked, map[bool]string{true: "no", false: "yes"}[other != ""])
	case "admins":
		g.admins[name(one)] = names(other)
	case "leaves":
		g.more[name(other)] = append(g.more[name(other)], model.Attribute{Name: model.LyingAbout, Values: []string{connect.Printable(one)}})
	case "seen":
		if at, err := time.Parse("Jan 2 2006 15:04:05 -0700", other); err == nil {
			r.seen[name(one)] = at.UTC().Format(time.DateOnly)
			note(model.LastSignIn, r.seen[name(one)])
		}
	case "failed":
		if n, err := strconv.Atoi(other); err == nil && n >= failedLeast {
			note(model.FailedSignIns, about(n)+" or more")
		}
	case "l":
		note(otherKeys, connect.Printable(other))
	case "L":
		if n, err := strconv.Atoi(other); err == nil && one == "UID_MIN" {
			g.low = n
		} else if err == nil {
			g.high = n
		}
	case "I":
		r.members[[2]string{name(one), name(other)}] = true
	case "J":
		g.joined[name(one)] = append(g.joined[name(one)], name(other))
	case "H":
		g.numbers[name(one)] = connect.Printable(other)
	case "R":
		_, words, _ := strings.Cut(other, ":")
		if i, err := strconv.Atoi(one); err == nil {
			r.results[i] = connect.Printable(words)
		}
	case "S":
		r.detail(one, connect.Printable(other))
	case "X":
		r.refusal, r.whole = connect.Printable(rest), true
	case "Y", "Z":
		r.whole = true
	}
}

const addressesMost = 64 // a host that runs many others has more, and nobody reads them

// detail notes what a host tells of itself.
func (r *reading) detail(what, value string) {
	r.system.Kind, r.system.Name, r.system.System = model.SystemKind, model.Itself, true
	n, err := strconv.ParseInt(value, 10, 64)
	switch a := &r.system.Attributes; {
	case what == "clock" && err == nil:
		*a = a.With(model.ClockOff, connect.ClockOff(time.Unix(n, 0)))
	case what == "booted" && err == nil:
		*a = a.With(model.UpSince, time.Unix(n, 0).UTC().Format(time.RFC3339))
	case what == model.Addresses && len(a.Get(model.Addresses)) < addressesMost:
		if b, err := hex.DecodeString(value); err == nil && len(b) == 16 { // as the kernel writes one of version 6
			value = netip.AddrFrom16([16]byte(b)).String()
		}
		*a = a.With(model.Addresses, append(a.Get(model.Addresses), value)...)
	case what == model.System || what == model.Version || what == model.HostName || what == tools || what == "directory":
		*a = a.With(what, value)
	}
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
func oddName(kind model.ObjectKind, raw string, g *gathered) {
	if n := name(raw); n != raw {
		why := "its name holds control characters"
		if !utf8.ValidString(raw) {
			why = "its name is not UTF-8"
		}
		g.odd[model.Named{Kind: kind, Name: n}] = why + ", so Hen Roost does not touch it"
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
	o := model.Object{Kind: model.Account, System: true,
		Name: fmt.Sprintf("(line %s of /etc/%s)", connect.Printable(f[1]), connect.Printable(f[0]))}
	r.accounts = append(r.accounts, o)
	g.odd[model.Named{Kind: model.Account, Name: o.Name}] = fmt.Sprintf("is no account or group, and the system passes over it: %q",
		connect.Printable(f[2]))
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
	oddName(model.Account, f[0], g)
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
	oddName(model.GroupKind, f[0], g)
	o.Attributes = o.Attributes.With(model.Number, connect.Printable(f[1]))
	if members := names(f[2]); len(members) > 0 {
		o.Attributes = o.Attributes.With(model.Members, members...)
	}
	r.groups = append(r.groups, o)
	return nil
}

// names takes a list of group(5) apart.
func names(list string) (out []string) {
	for m := range strings.SplitSeq(list, ",") {
		if m != "" {
			out = append(out, name(m))
		}
	}
	return out
}

// finish joins what was told apart.
func (r *reading) finish(g gathered, as string) {
	r.give(g.given)
	r.power.settle(r, g.numbers)
	through := map[string][]string{}
	for account, groups := range g.joined {
		for _, name := range groups {
			if _, gives := r.power.groups[name]; gives {
				through[account] = append(through[account], name)
			}
		}
	}
	for i := range r.groups {
		o := &r.groups[i]
		if a := g.admins[o.Name]; a != nil {
			o.Attributes = o.Attributes.With(model.Administrators, a...)
		}
		mark(o, g.odd[model.Named{Kind: o.Kind, Name: o.Name}])
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
		var more []model.Attribute
		for _, m := range g.more[a.Name] {
			if n := len(more); n > 0 && more[n-1].Name == m.Name { // keys of others, things lying about
				more[n-1].Values = append(more[n-1].Values, m.Values...)
				continue
			}
			more = append(more, m)
		}
		if k := g.keys[a.Name]; k != nil {
			more = append(more, model.Attribute{Name: keys, Values: k})
		}
		if a.Name != "root" {
			if how := r.power.ways(a, through[a.Name]); len(how) > 0 {
				more = append(more, model.Attribute{Name: model.Elevation, Values: how})
			}
			if err == nil && n == superuser {
				mark(a, "it has the superuser's number beside root")
			}
		}
		if g.must[a.Name] {
			more = append(more, model.Attribute{Name: model.MustChange, Values: []string{"yes"}})
		}
		if g.open[a.Name] {
			a.Marked, more = true, append(more, model.Attribute{Name: model.Passwordless, Values: []string{"yes"}})
		}
		if len(more) > 0 {
			for attribute, values := range a.Attributes.All() {
				more = append(more, model.Attribute{Name: attribute, Values: values})
			}
			a.Attributes = model.Pack(more...)
		}
		mark(a, g.odd[model.Named{Kind: a.Kind, Name: a.Name}])
	}
	r.accounts = append(r.accounts, g.others...)
}

// mark says why an object cannot be looked after as it stands; "" that it can.
func mark(o *model.Object, odd string) {
	if odd != "" {
		o.Marked, o.Attributes = true, o.Attributes.With(model.Odd, odd)
	}
}

// Object implements connect.View.
func (r *reading) Object(n model.Named) *model.Object {
	if r.places == nil {
		r.places = make(map[model.Named]int, len(r.accounts)+len(r.groups))
		for _, list := range [][]model.Object{r.accounts, r.groups} {
			for i := range list {
				r.places[model.Named{Kind: list[i].Kind, Name: list[i].Name}] = i
			}
		}
	}
	if n.Kind == model.HomeKind {
		return r.folder(n.Name)
	}
	i, there := r.places[n]
	switch {
	case !there:
		return nil
	case n.Kind == model.Account:
		return &r.accounts[i]
	}
	return &r.groups[i]
}

// Member implements connect.View for the pairs that were asked for.
func (r *reading) Member(set, member model.Named) bool {
	if set.Kind == model.ElevationKind {
		o := r.Object(set)
		return o != nil && slices.Contains(o.Attributes.Get(model.Members), member.Name)
	}
	return r.members[[2]string{set.Name, member.Name}]
}
