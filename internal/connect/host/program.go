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

// line is an act of a batch, by its number in that.
type line struct {
	number int
	form
}

// few is up to how many acts are left to the host's tools, which see to whatever else the system wants done.
const few = 7

// newProgram is for a host that keeps its accounts in a way that it told.
func newProgram(kept, elevation string) *program {
	return &program{asks: elevation != "no-password", files: kept == "files", slow: kept == "shadow-slow"}
}

// add takes an act, which is the n-th of its batch.
func (p *program) add(n int, a connect.Act, view connect.View) {
	x := line{n, formOf(n, a, view, p.asks)}
	switch {
	case x.ops == "" && x.after == "", !p.files && (p.slow || x.ops == "" || x.heavy || x.after != "" && a.Verb != model.Disable):
		p.flush()
		fmt.Fprintf(&p.script, "s %d\n%se\n", n, x.tools)
	case p.files && x.after != "": // what follows needs an answer of its own
		p.flush()
		p.write([]line{x})
	default:
		p.run = append(p.run, x)
	}
}

// flush tells the host of the acts that wait.
func (p *program) flush() {
	switch {
	case len(p.run) == 0:
	case p.files || len(p.run) > few:
		p.write(p.run)
	default:
		for _, x := range p.run {
			fmt.Fprintf(&p.script, "s %d\n%se\n", x.number, x.tools)
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
