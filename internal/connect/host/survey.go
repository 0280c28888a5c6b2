package host

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

const (
	maxLine    = 64 << 10 // of one line of an answer: a group with 2,000 members has 20 kB
	maxObjects = 1 << 20  // a host that tells of more is broken or hostile
)

// reading is what the shell's survey printed, taken apart.
type reading struct {
	accounts []model.Object
	groups   []model.Object
	results  map[int]result
	refusal  string // why no step was tried at all
	whole    bool   // the closing line came
}

type result struct {
	did, rc, words string
}

// read takes an answer apart; the lines' first letters say what they are (lib.sh).
// An answer that is cut off is returned as far as it came, with whole false.
func read(from io.Reader) (*reading, error) {
	r := &reading{results: map[int]result{}}
	keysOf, elevated := map[string][]string{}, map[string]bool{}
	low, high := 1000, 60000
	sc := bufio.NewScanner(from)
	sc.Buffer(make([]byte, 16<<10), maxLine*16)
	for sc.Scan() {
		kind, rest, ok := strings.Cut(sc.Text(), ":")
		if !ok {
			continue
		}
		switch kind {
		case "A":
			if err := r.account(rest); err != nil {
				return nil, err
			}
		case "G":
			if err := r.group(rest); err != nil {
				return nil, err
			}
		case "K":
			name, line, _ := strings.Cut(rest, ":")
			if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "#") {
				keysOf[name] = append(keysOf[name], connect.Printable(line))
			}
		case "L":
			key, value, _ := strings.Cut(rest, ":")
			if n, err := strconv.Atoi(value); err == nil && key == "UID_MIN" {
				low = n
			} else if err == nil {
				high = n
			}
		case "D":
			elevated[rest] = true
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
	}
	if err := sc.Err(); err != nil {
		if errors.Is(err, bufio.ErrTooLong) {
			return nil, fmt.Errorf("the host sent a line longer than %d bytes", maxLine*16)
		}
		return r, nil // cut off: the caller sees that it is not whole
	}
	r.finish(keysOf, elevated, low, high)
	return r, nil
}

func (r *reading) account(line string) error {
	f := strings.SplitN(line, ":", 7)
	if len(f) != 7 || len(r.accounts) >= maxObjects {
		return fmt.Errorf("the host sent an account line that cannot be read: %q", connect.Printable(line))
	}
	o := model.Object{Kind: model.Account, Name: connect.Printable(f[0])}
	list := make([]model.Attribute, 0, 6)
	for i, name := range []string{model.Number, primaryGroup, model.Disabled, home, shell, model.FullName} {
		if f[i+1] = connect.Printable(f[i+1]); f[i+1] != "" {
			list = append(list, model.Attribute{Name: name, Values: f[i+1 : i+2]})
		}
	}
	o.Attributes = model.Pack(list...)
	r.accounts = append(r.accounts, o)
	return nil
}

func (r *reading) group(line string) error {
	f := strings.SplitN(line, ":", 3)
	if len(f) != 3 || len(r.groups) >= maxObjects {
		return fmt.Errorf("the host sent a group line that cannot be read: %q", connect.Printable(line))
	}
	o := model.Object{Kind: model.GroupKind, Name: connect.Printable(f[0])}
	o.Attributes = o.Attributes.With(model.Number, connect.Printable(f[1]))
	var members []string
	for m := range strings.SplitSeq(f[2], ",") {
		if m != "" {
			members = append(members, connect.Printable(m))
		}
	}
	o.Attributes = o.Attributes.With(model.Members, members...)
	r.groups = append(r.groups, o)
	return nil
}

// powerful are the groups whose members can become superuser on the systems we know.
var powerful = map[string]bool{"sudo": true, "wheel": true, "admin": true, "root": true}

func (r *reading) finish(keysOf map[string][]string, elevated map[string]bool, low, high int) {
	through := map[string][]string{}
	for _, g := range r.groups {
		if powerful[g.Name] || elevated["%"+g.Name] {
			for _, m := range g.Attributes.Get(model.Members) {
				through[m] = append(through[m], "group "+g.Name)
			}
		}
	}
	for i := range r.accounts {
		a := &r.accounts[i]
		n, err := strconv.Atoi(a.Attributes.One(model.Number))
		a.System = err != nil || n != 0 && n < low || n > high || n == 65534 || a.Name == "root"
		if k := keysOf[a.Name]; k != nil {
			a.Attributes = a.Attributes.With(keys, k...)
		}
		how := through[a.Name]
		if elevated[a.Name] {
			how = append(how, "sudoers")
		}
		if n == 0 && a.Name != "root" && err == nil {
			how = append(how, "uid 0")
		}
		if len(how) > 0 {
			a.Attributes = a.Attributes.With(model.Elevation, strings.Join(how, ", "))
		}
	}
}

func (r *reading) view(kind model.ObjectKind, name string) *model.Object {
	list := r.accounts
	if kind == model.GroupKind {
		list = r.groups
	}
	for i := range list {
		if list[i].Name == name {
			return &list[i]
		}
	}
	return nil
}
