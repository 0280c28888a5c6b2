package host

import (
	"fmt"
	"strings"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// program is what a host is told to do about the acts of a batch that are ready. Few are carried out with its own
// account tools, one call each. Where many follow one another that only change account files, or where the host has no
// such tools, the files are written once for all of them; see files.sh.
type program struct {
	script strings.Builder
	asks   bool   // for a password, of whoever is elevated
	files  bool   // the host has no account tools
	slow   bool   // it has, but nothing that lends us their lock
	sent   bool   // files.sh
	run    []line // acts that can be written to files together
}

// line is an act, as operations on the account files and as a step with the host's tools.
type line struct {
	number     int
	ops, after string
	step       string
}

// few is up to how many acts are left to the host's tools, which see to whatever else the system wants done.
const few = 7

// newProgram is for a host that keeps its accounts in a way that it told.
func newProgram(kept, elevation string) *program {
	return &program{asks: elevation != "no-password", files: kept == "files", slow: kept == "shadow-slow"}
}

// add takes an act, which is the n-th of its batch.
func (p *program) add(n int, a connect.Act, view connect.View) {
	x := line{number: n, step: step(a, view, p.asks)}
	x.ops, x.after = ops(n, a, view)
	switch {
	case x.ops == "" && x.after == "", !p.files && (p.slow || x.ops == "" || heavy(a) || x.after != "" && a.Verb != model.Disable):
		p.flush()
		fmt.Fprintf(&p.script, "s %d\n%se\n", n, x.step)
	case p.files && x.after != "": // what follows needs an answer of its own
		p.flush()
		p.write([]line{x})
	default:
		p.run = append(p.run, x)
	}
}

// heavy says that an act does more than to change account files, on a host whose tools know how.
func heavy(a connect.Act) bool {
	switch {
	case a.Object == model.HomeKind, a.Object == model.ElevationKind, a.Verb == model.Remove, a.Verb == model.AdoptIt:
		return true
	case a.Object == model.GroupKind:
		return a.Verb == model.Modify && a.After().Has(model.Number) || a.Formerly() != ""
	case a.Object == model.Account && a.Verb == model.Modify:
		c := a.After()
		return c.Has(model.Number) || c.Has(home) || c.Has(keys) || len(a.Secrets) > 0
	}
	return len(a.Secrets) > 0
}

// flush tells the host of the acts that wait.
func (p *program) flush() {
	switch {
	case len(p.run) == 0:
	case p.files || len(p.run) > few:
		p.write(p.run)
	default:
		for _, x := range p.run {
			fmt.Fprintf(&p.script, "s %d\n%se\n", x.number, x.step)
		}
	}
	p.run = p.run[:0]
}

// write has the files written for some acts.
func (p *program) write(run []line) {
	if !p.sent {
		p.sent = true
		p.script.WriteString("cat >\"$lock/edit\" <<'EDIT-ENDS'\n" + filesLib + "EDIT-ENDS\n")
	}
	if len(run) == 1 && run[0].after != "" {
		ops := ""
		for op := range strings.Lines(run[0].ops) {
			_, op, _ = strings.Cut(strings.TrimSuffix(op, "\n"), "\t")
			ops += " " + quote(op)
		}
		if ops != "" {
			ops = "one_file" + ops + "\n"
		}
		fmt.Fprintf(&p.script, "s %d\n%s%se\n", run[0].number, ops, run[0].after)
		return
	}
	p.script.WriteString("files <<'OPS-END'\n")
	for _, x := range run {
		p.script.WriteString(x.ops)
	}
	p.script.WriteString("OPS-END\n")
}

// ops are an act as operations on the account files, and what is to be done after them; both empty when it is no matter
// of files. Values hold neither tabs nor line breaks: see unfit.
func ops(n int, a connect.Act, view connect.View) (ops, after string) {
	var b strings.Builder
	op := func(words ...string) { fmt.Fprintf(&b, "%d\t%s\n", n, strings.Join(words, "\t")) }
	c := a.After()
	switch {
	case a.Object == model.HomeKind, a.Object == model.ElevationKind, a.Verb == model.AdoptIt:
		return "", ""
	case a.Verb == model.JoinIt:
		op("join", a.Name, a.Member)
	case a.Verb == model.LeaveIt:
		op("leave", a.Name, a.Member)
	case a.Object == model.GroupKind:
		switch {
		case a.Verb == model.Remove:
			op("ungroup", a.Name)
		case a.Formerly() != "":
			op("callgroup", a.Formerly(), a.Name)
		case a.Verb == model.Create:
			op("group", a.Name, c.One(model.Number))
		case c.Has(model.Number):
			after = "regroup " + quoted(a.Name, c.One(model.Number))
		}
		if c.Has(model.Administrators) {
			op("admins", a.Name, strings.Join(c.Get(model.Administrators), ","))
		}
	case a.Verb == model.Disable:
		op("set", a.Name, "lock", "")
		op("set", a.Name, "expiry", "1")
		after = layAside(a.Name)
	case a.Verb == model.Enable:
		return "", insideStep(a) + "reopen " + quoted(a.Name)
	case a.Verb == model.Remove:
		return "", "remove " + quoted(a.Name, c.One(home))
	default:
		there := view.Object(a.Of()) != nil
		if !there {
			op("add", a.Name, c.One(model.Number), c.One(model.PrimaryGroup), c.One(home), c.One(shell), c.One(model.FullName))
		}
		if after = accountOps(op, a, there); there && a.Verb == model.Create {
			after = "finish_home " + quoted(a.Name) + after // ours, cut off before that
		}
	}
	return b.String(), after
}

// columns are the fields of passwd(5) and shadow(5) as files.sh calls them.
var columns = map[string]string{model.PrimaryGroup: "gid", model.FullName: "gecos", shell: "shell", least: "least", most: "most",
	warning: "warning", inactive: "inactive", expires: "expiry"}

// accountOps sets values of an account, and returns what is to be done after that.
func accountOps(op func(...string), a connect.Act, there bool) (after string) {
	for _, c := range a.Changes {
		column, v := columns[c.Attribute], one(c.After)
		switch {
		case c.Attribute == model.Locked:
			op("set", a.Name, map[bool]string{true: "lock", false: "open"}[v == "yes"], "")
		case ages[c.Attribute] != "":
			op("set", a.Name, column, daysFor(c.Attribute, v))
		case column != "" && there:
			op("set", a.Name, column, v)
		case c.Attribute == keys && !there:
			for _, k := range c.After {
				op("keys", a.Name, k)
			}
		case c.Attribute == model.MustChange && v == "yes" && len(a.Secrets) == 0:
			op("set", a.Name, "changed", "0")
		case c.Attribute == model.Number && there:
			after += "renumber " + quoted(a.Name, v)
		case c.Attribute == home && there:
			after += "move_home " + quoted(a.Name, v)
		case c.Attribute == keys, c.Attribute == model.MustChange, c.Sealed != "":
			one := a
			one.Changes = []model.Change{c}
			after += insideStep(one)
		}
	}
	return after
}
