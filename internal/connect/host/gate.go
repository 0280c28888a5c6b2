package host

import (
	"context"
	_ "embed"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"hen-roost/internal/connect"
)

//go:embed gate.sh
var gateLib string

// asked is how many accounts a host is asked of at once.
const asked = 16

// Admits implements connect.Offers in one exec: the host asks itself. An account whose
// password alone is locked is let in, since keys still open it.
func (s *session) Admits(ctx context.Context, accounts []string) []connect.Admission {
	out := connect.NotKnown(len(accounts), "the host did not answer")
	var script strings.Builder
	script.WriteString(lib + gateLib)
	for i, name := range accounts {
		fmt.Fprintf(&script, "gate %d %s\n", i, quote(name))
		if (i+1)%asked == 0 || i == len(accounts)-1 {
			script.WriteString("told\n")
		}
	}
	err := s.ask(ctx, s.access.Patience()+time.Duration(len(accounts)/asked)*2*time.Second, script.String(), func(line string) {
		f := strings.SplitN(line, ":", 4)
		if len(f) != 4 || f[0] != "P" {
			return
		}
		if n, err := strconv.Atoi(f[1]); err == nil && n >= 0 && n < len(out) {
			out[n] = admission(f[2], connect.Printable(f[3]))
		}
	})
	if err != nil {
		err = &connect.Error{Target: s.access.Target, Op: "ask whether accounts are let in", Err: err}
		for i := range out {
			if out[i].State == connect.NotTold {
				out[i].Words = err.Error()
			}
		}
	}
	return out
}

// refusals is what su says of an account that is not let in, or is not there.
var refusals = []string{"account has expired", "account is locked", "does not exist", "no passwd entry", "unknown id"}

// admission reads what su said of an account: only what speaks of the account is
// a refusal, whatever else went wrong is nothing known.
func admission(code, said string) connect.Admission {
	lower := strings.ToLower(said)
	switch {
	case code == "0":
		return connect.Admission{State: connect.LetIn, Words: "the host lets it in"}
	case slices.ContainsFunc(refusals, func(r string) bool { return strings.Contains(lower, r) }):
		return connect.Admission{State: connect.KeptOut, Words: "the host refuses it: " + strings.TrimSpace(said)}
	case said == "":
		said = "su ended with status " + code
	}
	return connect.Admission{State: connect.NotTold, Words: "the host does not say: " + strings.TrimSpace(said)}
}
