package dialect

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
)

// Recording is a conversation that was held with such a system, and what is to be read out of it.
type Recording struct {
	Version int               `yaml:"recording"`
	About   string            `yaml:"about,omitempty"`
	With    map[string]string `yaml:"settings,omitempty"` // of the target
	Talk    []Turn            `yaml:"talk"`

	name string
}

// Turn is something that was typed, and what was answered.
type Turn struct {
	Typed    string                       `yaml:"typed"`
	Answered Text                         `yaml:"answered"`
	Reads    string                       `yaml:"reads,omitempty"`   // a kind of object, or target, signed-in, candidate, history
	Objects  map[string]map[string]Values `yaml:"objects,omitempty"` // what is read, by name
	Fails    string                       `yaml:"fails,omitempty"`   // the answer tells of a failure, in these words
}

// Values are one or several.
type Values []string

// UnmarshalYAML implements yaml.NodeUnmarshaler.
func (v *Values) UnmarshalYAML(n ast.Node) error {
	list, ok := n.(*ast.SequenceNode)
	if !ok {
		text, _, err := scalar(n)
		*v = Values{text}
		return err
	}
	for _, x := range list.Values {
		text, _, err := scalar(x)
		if err != nil {
			return err
		}
		*v = append(*v, text)
	}
	return nil
}

// MarshalYAML implements yaml.InterfaceMarshaler.
func (v Values) MarshalYAML() (any, error) {
	if len(v) == 1 {
		return v[0], nil
	}
	return []string(v), nil
}

// MarshalYAML implements yaml.InterfaceMarshaler.
func (t Text) MarshalYAML() (any, error) { return t.Raw, nil }

// ReadRecording reads one. What is wrong with it comes as Faults.
func ReadRecording(name string, text []byte) (*Recording, error) {
	r := &Recording{name: name}
	if err := yaml.UnmarshalWithOptions(text, r, yaml.Strict()); err != nil {
		return nil, Faults{unreadable(name, err)}
	}
	if r.Version != 1 {
		return nil, Faults{{name, 1, "a recording begins with recording: 1"}}
	}
	return r, nil
}

// Write is a recording as a file.
func (r *Recording) Write() ([]byte, error) {
	return yaml.MarshalWithOptions(r, yaml.UseLiteralStyleIfMultiline(true), yaml.Indent(2))
}

// Record types all by which something is read, and records what is answered and what is read out of it.
func (f *File) Record(v Vars, say func(line string) (string, error)) (*Recording, error) {
	r, v := &Recording{Version: 1, About: "looked at " + f.Kind, With: map[string]string{}}, complete(v)
	if settings, ok := v["settings"].(map[string]any); ok {
		for k, value := range settings {
			r.With[k] = fmt.Sprint(value)
		}
	}
	all := f.listings()
	for _, what := range inOrder(all) {
		for _, l := range all[what] {
			for _, action := range f.asked(what) {
				v["action"] = action
				t, err := f.turn(l, what, v, say)
				if err != nil {
					return r, err
				}
				r.Talk = append(r.Talk, t)
			}
		}
	}
	return r, nil
}

// struck is what is answered, without what nobody is to read.
func (f *File) struck(answer string) string {
	for _, p := range f.Strike {
		answer = p.ReplaceAllLiteralString(answer, "(sealed)")
	}
	return answer
}

// turn types a listing, and tells what is read out of what is answered.
func (f *File) turn(l *Listing, what string, v Vars, say func(line string) (string, error)) (Turn, error) {
	line, err := l.Say.Typed(v, f.Quote)
	if err != nil {
		return Turn{}, err
	}
	answer, err := say(line)
	if err != nil {
		return Turn{}, fmt.Errorf("%q: %w", line, err)
	}
	answer = f.struck(answer)
	t := Turn{Typed: line, Answered: Text{Raw: answer}, Reads: what, Fails: f.Failure(answer)}
	if t.Fails != "" && what == "actions" { // it does not know that action
		return t, nil
	}
	found, err := l.Objects(answer, v)
	if err != nil {
		return t, fmt.Errorf("%q: %w", line, err)
	}
	if t.Objects = told(found); len(t.Objects) == 0 {
		t.Objects = nil
	}
	return t, nil
}

// told are objects as a recording has them.
func told(found []Found) map[string]map[string]Values {
	out := map[string]map[string]Values{}
	for _, x := range found {
		out[x.Name] = map[string]Values{}
		for a, v := range x.Has {
			out[x.Name][a] = v
		}
		for kind, v := range x.In {
			if len(v) > 0 {
				out[x.Name]["in "+kind] = v
			}
		}
	}
	return out
}

// Check tries a file: recordings are read as the system's answers, and must come to what they say; hostile names and values
// must each stay one word of what is typed, or be refused. What is wrong comes as Faults, at the line that it is wrong in.
func (f *File) Check(recordings []*Recording) (checked Checked, err error) {
	c := &checker{file: f}
	covered := map[*Listing]bool{}
	for _, r := range recordings {
		for _, t := range r.Talk {
			checked.Turns++
			c.turn(r, t, covered)
		}
	}
	all := f.listings()
	for _, what := range inOrder(all) {
		for _, l := range all[what] {
			if !covered[l] {
				c.fault(l.Say.Line, "no recording has what is answered to %q, by which %s is read", l.Say.Raw, what)
			}
		}
	}
	checked.Attacks = c.attack()
	slices.SortStableFunc(c.faults, func(a, b Fault) int { return cmp.Or(strings.Compare(a.File, b.File), a.Line-b.Line) })
	if len(c.faults) > 0 {
		return checked, c.faults
	}
	return checked, nil
}

// Checked counts what was tried.
type Checked struct {
	Turns   int `json:"turns"`
	Attacks int `json:"attacks"`
}

func (c *checker) at(r *Recording, line int, format string, args ...any) {
	c.faults = append(c.faults, Fault{r.name, line, fmt.Sprintf(format, args...)})
}

func (c *checker) turn(r *Recording, t Turn, covered map[*Listing]bool) {
	f := c.file
	if why := f.Failure(t.Answered.Raw); why != t.Fails {
		c.at(r, t.Answered.Line, "it is taken for %s, and should be for %s", failing(why), failing(t.Fails))
	}
	if t.Reads == "" || t.Fails != "" {
		return
	}
	list, vars := f.listings()[t.Reads], Vars{"settings": map[string]any{}}
	for k, v := range r.With {
		vars["settings"].(map[string]any)[Key(k)] = v
	}
	i := slices.IndexFunc(list, func(l *Listing) bool {
		return slices.ContainsFunc(f.asked(t.Reads), func(action string) bool {
			vars["action"] = action
			line, err := l.Say.Typed(vars, f.Quote)
			return err == nil && line == t.Typed
		})
	})
	if i < 0 {
		c.at(r, t.Answered.Line, "nothing is read of %s by typing %q", t.Reads, t.Typed)
		return
	}
	covered[list[i]] = true
	found, err := list[i].Objects(t.Answered.Raw, vars)
	if err != nil {
		c.at(r, t.Answered.Line, "%v", err)
		return
	}
	seen := told(found)
	for _, name := range inOrder(t.Objects) {
		if seen[name] == nil {
			c.at(r, t.Answered.Line, "%s %q is not read out of it", t.Reads, name)
			continue
		}
		for _, a := range slices.Sorted(maps.Keys(merged(seen[name], t.Objects[name]))) {
			if got, want := strings.Join(seen[name][a], ", "), strings.Join(t.Objects[name][a], ", "); got != want {
				c.at(r, t.Answered.Line, "%s of %s %q is read as %q, and should be %q", a, t.Reads, name, got, want)
			}
		}
	}
	for _, name := range inOrder(seen) {
		if t.Objects != nil && t.Objects[name] == nil {
			c.at(r, t.Answered.Line, "%s %q is read out of it, and should not be", t.Reads, name)
		}
	}
}

func merged(a, b map[string]Values) map[string]Values {
	out := maps.Clone(a)
	if out == nil {
		out = map[string]Values{}
	}
	maps.Copy(out, b)
	return out
}

func failing(words string) string {
	if words == "" {
		return "no failure"
	}
	return fmt.Sprintf("the failure %q", words)
}

// hostile are names and values that must not become anything else on their way.
var hostile = []string{"", "x", "a b", `a"b`, "a'b", `a\`, `\"`, `" ; strike person odd "`, "a;b", "a|b", "$(reboot)", "`reboot`",
	"${x}", "a,b",
	"--all", "-", "*", "ö ñ 🐦", "a\tb", "a\nb", "a\rb", "\x1b[2J", "a#b", "!", "?", "'; shutdown now; '", "a\u2028b", "a=b", "\x00", "%s%n",
	strings.Repeat("x", 300), `""`, "''", "a'\\''b"}

// attack tries what is typed with hostile values.
func (c *checker) attack() (tried int) {
	f, all := c.file, c.file.commands()
	for _, what := range inOrder(all) {
		for _, cmd := range all[what] {
			plain, err := cmd.Say.Typed(c.vars("x"), f.Quote)
			if err != nil {
				continue // it takes something that is not there at this time
			}
			words := f.Quote.Words(plain)
			for _, v := range hostile {
				tried++
				line, err := cmd.Say.Typed(c.vars(v), f.Quote)
				if err != nil {
					continue
				}
				got := f.Quote.Words(line)
				ok := len(got) == len(words) && !strings.ContainsFunc(line, func(r rune) bool { return r < ' ' })
				for i := range words {
					ok = ok && (got[i] == words[i] || got[i] == strings.ReplaceAll(words[i], "x", v) || got[i] == v)
				}
				if !ok {
					c.fault(cmd.Say.Line, "%s: with the value %q what is typed is %q, which the system takes for the words %q", what, v,
						line, got)
					break
				}
			}
		}
	}
	return tried
}

// vars has a value wherever there may be one.
func (c *checker) vars(v string) Vars {
	every := map[string]any{}
	for _, h := range c.file.Holds {
		for a := range h.Attributes {
			every[Key(a)] = v
		}
	}
	for _, s := range c.file.Needs {
		every[Key(s)] = v
	}
	return Vars{"name": v, "set": v, "member": v, "value": v, "names": []string{v}, "words": v, "want": every, "was": every,
		"settings": every, "minutes": "2", "login": "x", "action": v}
}

var keyName = regexp.MustCompile(`[^a-z0-9]+`)

// Key is an attribute as expressions name it.
func Key(attribute string) string { return keyName.ReplaceAllString(strings.ToLower(attribute), "_") }
