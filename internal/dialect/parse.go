package dialect

import (
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"hen-roost/internal/core/model"
)

// fileMost bounds a file.
const fileMost = 1 << 20

// Fault is something wrong with a file.
type Fault struct {
	File  string
	Line  int // 0 where it is the file as a whole
	Words string
}

func (f Fault) Error() string {
	if f.Line == 0 {
		return f.File + ": " + f.Words
	}
	return fmt.Sprintf("%s:%d: %s", f.File, f.Line, f.Words)
}

// Faults are all that is wrong, one a line.
type Faults []Fault

func (f Faults) Error() string {
	lines := make([]string, len(f))
	for i, x := range f {
		lines[i] = x.Error()
	}
	return strings.Join(lines, "\n")
}

// Read reads a file. What is wrong with it comes as Faults, all of it.
func Read(name string, text []byte) (*File, error) {
	f := &File{name: name}
	if len(text) > fileMost {
		return nil, Faults{{name, 0, "it has more than 1 MB"}}
	}
	if err := yaml.UnmarshalWithOptions(text, f, yaml.Strict()); err != nil {
		return nil, Faults{unreadable(name, err)}
	}
	c := &checker{file: f}
	c.run()
	if len(c.faults) > 0 {
		slices.SortStableFunc(c.faults, func(a, b Fault) int { return a.Line - b.Line })
		return nil, c.faults
	}
	f.schema = f.makeSchema()
	return f, nil
}

// unreadable is what the parser says, at its line.
func unreadable(name string, err error) Fault {
	var at *located
	if errors.As(err, &at) {
		return Fault{name, at.line, at.words}
	}
	if e, ok := errors.AsType[yaml.Error](err); ok {
		line := 0
		if t := e.GetToken(); t != nil && t.Position != nil {
			line = t.Position.Line
		}
		return Fault{name, line, e.GetMessage()}
	}
	return Fault{name, 0, err.Error()}
}

// located is an error of a value, with its line.
type located struct {
	line  int
	words string
}

func (l *located) Error() string { return l.words }

// scalar is the text of a node, and its line.
func scalar(n ast.Node) (string, int, error) {
	line := n.GetToken().Position.Line
	switch x := n.(type) {
	case *ast.StringNode:
		return x.Value, line, nil
	case *ast.LiteralNode:
		return strings.TrimSuffix(x.Value.Value, "\n"), line + 1, nil
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode:
		return n.String(), line, nil
	}
	return "", line, &located{line, "a text is expected here"}
}

// UnmarshalYAML implements yaml.NodeUnmarshaler.
func (t *Text) UnmarshalYAML(n ast.Node) (err error) {
	t.Raw, t.Line, err = scalar(n)
	return err
}

// UnmarshalYAML implements yaml.NodeUnmarshaler.
func (p *Pattern) UnmarshalYAML(n ast.Node) error {
	text, line, err := scalar(n)
	if err != nil {
		return err
	}
	if p.Regexp, err = regexp.Compile(text); err != nil {
		return &located{line, err.Error()}
	}
	p.Line = line
	return nil
}

// checker finds what is wrong with a file that could be read.
type checker struct {
	file   *File
	faults Faults
}

func (c *checker) fault(line int, format string, args ...any) {
	c.faults = append(c.faults, Fault{c.file.name, line, fmt.Sprintf(format, args...)})
}

func (c *checker) oneOf(what, is string, words ...string) {
	if !slices.Contains(words, is) {
		c.fault(0, "%s is %q; it is %s", what, is, strings.Join(words, ", "))
	}
}

var kindName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,40}$`)

func (c *checker) run() {
	f := c.file
	if f.Version != 1 {
		c.fault(1, "a dialect begins with dialect: 1")
	}
	if !kindName.MatchString(f.Kind) {
		c.fault(0, "kind %q does not begin with a letter, or has other characters than a to z, 0 to 9 and -", f.Kind)
	}
	for _, s := range f.Needs {
		if !kindName.MatchString(s) {
			c.fault(0, "settings: %q does not begin with a letter, or has other characters than a to z, 0 to 9 and -", s)
		}
	}
	c.oneOf("reach: over", f.Reach.Over, "ssh", "tcp", "host", "here")
	c.oneOf("reach: as", f.Reach.As, "exec", "session")
	if f.Reach.programs() {
		if f.Quote.Rule != "" {
			c.fault(0, "quote: what is run on a host is given its arguments as they are, and needs none")
		}
		f.Quote.Rule, f.Quote.options = "shell", true
	}
	c.oneOf("quote: rule", f.Quote.Rule, "double", "doubled", "shell", "never")
	if f.Reach.Over == "tcp" && f.Reach.As == "exec" {
		c.fault(0, "over tcp there is nothing but a session")
	}
	if f.Reach.programs() && f.Reach.As == "session" {
		c.fault(0, "on a host programs are run, and there is no session: reach: {over: %s, as: exec}", f.Reach.Over)
	}
	if f.Session.Wide < 0 || f.Session.Wide > 0 && f.Session.Twice {
		c.fault(0, "session: wide is how many characters a line has at most, and does not go together with twice")
	}
	if f.Mode != nil && (f.Reach.As != "session" || f.Draft != nil) {
		c.fault(0, "changing is a mode of a session without a candidate; a candidate has begin and drop")
	}
	if f.Reach.As == "session" && !f.Session.Prompt.Set() {
		c.fault(0, "a session needs a prompt")
	}
	if f.Reach.Over == "tcp" && len(f.Session.SignIn) == 0 {
		c.fault(0, "over tcp a session begins with sign-in: what is asked, and what is typed")
	}
	if f.Quote.Rule == "never" && !f.Quote.Only.Set() {
		c.fault(0, "values that are never quoted need only: a pattern of those that can be said")
	}
	if f.Holds["account"] == nil {
		c.fault(0, "holds says nothing of account: a system without accounts is nothing to look after")
	}
	for _, kind := range slices.Sorted(maps.Keys(f.Holds)) {
		if k := model.KindNamed(kind); k != model.Account && k != model.GroupKind && k != model.RightKind && k != model.LicenceKind {
			c.fault(0, "holds: %q is not one of account, group, right, licence", kind)
			continue
		}
		c.holds(kind, f.Holds[kind])
	}
	for _, what := range slices.Sorted(maps.Keys(f.commands())) {
		for _, cmd := range f.commands()[what] {
			if f.Job == nil && typedSecret.MatchString(cmd.Say.Raw) { // it would stand in the list of processes, or on a screen
				c.fault(cmd.Say.Line, "%s: a secret is never typed as part of a line; it is what answer or input gives", what)
			}
		}
	}
	if c.listing("target", f.Target); f.Target != nil {
		f.Target.one = true
	}
	c.listing("history", f.History)
	if f.Actions != nil {
		c.actions(f.Actions)
	}
	if g := f.LetsIn; g != nil && (!g.Say.Set() || !g.Yes.Set() || !g.No.Set()) {
		c.fault(g.Say.Line, "lets-in: say, yes and no say how it is asked whether somebody is let in, and what is answered")
	}
	if f.Signed != nil {
		c.listing("signed-in", f.Signed.List)
	}
	if f.Draft != nil {
		c.draft(f.Draft)
	}
	if f.Job != nil {
		c.job(f.Job)
	}
}

func (c *checker) job(j *Job) {
	if c.file.Reach.As != "exec" {
		c.fault(j.Hand.Say.Line, "job: jobs are handed in on standard input, which only exec has")
	}
	for _, x := range []struct {
		p    Pattern
		part string
	}{{j.Number, "job"}, {j.Each, "n"}} {
		if !x.p.Set() || x.p.SubexpIndex(x.part) < 0 {
			c.fault(j.Hand.Say.Line, "job: number and each are patterns with the parts job and n")
		}
	}
	if !j.Hand.Say.Set() || !j.Ready.Say.Set() || !j.Is.Set() || !j.Output.Say.Set() {
		c.fault(j.Hand.Say.Line, "job: hand, ready, is and output say how one is handed in, waited for and fetched")
	}
}

// typedSecret is a secret in what is typed.
var typedSecret = regexp.MustCompile(`\$\{[^}]*\bsecret\b`)

func (c *checker) holds(kind string, h *Holds) {
	if h == nil || len(h.List) == 0 && len(h.Names) == 0 {
		c.fault(0, "%s: nothing says how they are listed", kind)
		return
	}
	c.names(kind, h)
	for _, l := range h.List {
		c.listing(kind, l)
		if _, named := l.Is["name"]; !named {
			c.fault(l.Say.Line, "%s: the list does not say which is the name: is: {name: row.…}", kind)
		}
		for a := range l.Is {
			if a != "name" && a != "members" && a != "ours" && a != "system" && a != model.Disabled && a != model.Elevation {
				if _, known := h.Attributes[a]; !known {
					c.fault(l.Is[a].Line, "%s: %q is no attribute; attributes has those", kind, a)
				}
			}
		}
	}
	for a := range h.Set {
		if _, known := h.Attributes[a]; !known && a != model.Password {
			c.fault(0, "%s: set has %q, which attributes does not", kind, a)
		}
	}
	if len(h.OneOf) > 0 && kind != "right" {
		c.fault(0, "%s: one-of is of rights", kind)
	}
	for _, m := range h.Members {
		c.oneOf(kind+": members", m, "account", "group")
	}
	if (len(h.Join) > 0) != (len(h.Members) > 0) || (len(h.Leave) > 0) != (len(h.Members) > 0) {
		c.fault(0, "%s: join, leave and members go together", kind)
	}
}

// names are of sets that are always there; who is in them some list tells.
func (c *checker) names(kind string, h *Holds) {
	if len(h.Names) > 0 && kind == "account" {
		c.fault(0, "account: names are of sets that the system always has; accounts are listed")
	}
	for _, name := range h.Names {
		if h.Name.Set() && !h.Name.MatchString(name) {
			c.fault(0, "%s: names has %q, which is no name by the pattern %s", kind, name, h.Name)
		}
	}
	told := len(h.List) > 0 || len(h.Names) == 0
	for _, other := range c.file.Holds {
		for _, l := range other.lists() {
			told = told || l.In[kind].Set()
		}
	}
	if !told {
		c.fault(0, "%s: no list tells who is in them: in: {%s: row.…} at accounts", kind, kind)
	}
}

func (h *Holds) lists() []*Listing {
	if h == nil {
		return nil
	}
	return h.List
}

func (c *checker) listing(what string, l *Listing) {
	if l == nil {
		return
	}
	if l.Say.Raw == "" {
		c.fault(0, "%s: a list says nothing to be typed", what)
	}
	if n := l.Read.ways(); n != 1 {
		c.fault(l.Say.Line, "%s: read says %d ways to read the answer; it is one of json, csv, columns, lines, pairs, blocks", what, n)
	}
}

// actions need a table or a question, and something that gives what they take.
func (c *checker) actions(a *Actions) {
	if len(a.Table) == 0 && a.Ask == nil {
		c.fault(0, "actions: table or ask says which permissions an action takes")
	}
	for _, x := range a.Table {
		if !x.Is.Set() {
			c.fault(0, "actions: a line of the table says no action: {action: '^…$', takes: […]}")
		}
	}
	if c.listing("actions", a.Ask); a.Ask != nil && len(a.Examples) == 0 {
		c.fault(a.Ask.Say.Line, "actions: ask needs examples of actions, to be tried with")
	}
	if a.Ask != nil && !a.Ask.Is["name"].Set() {
		c.fault(a.Ask.Say.Line, "actions: ask does not say which is the permission: is: {name: row.…}")
	}
	for _, h := range c.file.Holds {
		if h != nil {
			if _, has := h.Attributes[a.Given]; has {
				return
			}
		}
	}
	c.fault(0, "actions: given-by is %q, which is an attribute of nothing that it holds", a.Given)
}

// minutesMost bounds a trial: nothing else is done on the target meanwhile.
const minutesMost = 60

func (c *checker) draft(d *Draft) {
	if len(d.Begin) == 0 || d.Drop.Raw == "" || d.Keep.Raw == "" {
		c.fault(0, "candidate: begin, keep and drop say how it is made, taken and thrown away")
	}
	if d.Trial.Raw != "" && (d.Confirm.Raw == "" || d.State == nil) {
		c.fault(d.Trial.Line, "candidate: a trial needs confirm, and state to tell whether it still runs")
	}
	if d.Trial.Raw == "" {
		c.fault(0, "candidate: without trial it is not known to go back by itself; leave candidate out, and changes are made one by one")
	}
	if d.Minutes < 0 || d.Minutes > minutesMost {
		c.fault(d.Trial.Line, "candidate: minutes is %d; a trial has between 1 and %d", d.Minutes, minutesMost)
	}
	c.listing("candidate: state", d.State)
}
