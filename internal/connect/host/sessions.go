package host

import (
	"context"
	_ "embed"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

//go:embed sessions.sh
var sessionLib string

// Sessions implements connect.Offers in one exec.
func (s *session) Sessions(ctx context.Context) ([]model.Object, error) {
	var out []model.Object
	err := s.ask(ctx, s.access.Patience(), lib+sessionLib+"sessions\n", func(line string) {
		if o, ok := sessionOf(line); ok && len(out) < maxObjects {
			out = append(out, o)
		}
	})
	if err != nil {
		return nil, &connect.Error{Target: s.access.Target, Op: "list sessions", Err: err}
	}
	return out, nil
}

// sessionOf reads a line V:process:start:account:terminal:since:from.
func sessionOf(line string) (model.Object, bool) {
	f := strings.SplitN(line, ":", 7)
	if len(f) != 7 || f[0] != "V" || !sessionName.MatchString(f[1]+"-"+f[2]) {
		return model.Object{}, false
	}
	since := ""
	if n, err := strconv.ParseInt(f[5], 10, 64); err == nil {
		since = time.Unix(n, 0).UTC().Format(time.RFC3339)
	}
	o := model.Object{Kind: model.SessionKind, Name: f[1] + "-" + f[2]}
	for attribute, value := range map[string]string{model.HeldBy: name(f[3]), "terminal": connect.Printable(f[4]), model.Since: since,
		model.From: connect.Printable(f[6])} {
		if value != "" {
			o.Attributes = o.Attributes.With(attribute, value)
		}
	}
	return o, true
}

// sessionName is how a session is called: by its process, and when that began.
var sessionName = regexp.MustCompile(`^[0-9]{1,10}-[0-9]{1,20}$`)

// End implements connect.Offers in one exec.
func (s *session) End(ctx context.Context, names []string) []connect.Answer {
	out := connect.All(make([]connect.Act, len(names)), connect.Failed, "that is no session")
	var script strings.Builder
	script.WriteString(lib + sessionLib)
	for i, n := range names {
		if sessionName.MatchString(n) {
			pid, began, _ := strings.Cut(n, "-")
			fmt.Fprintf(&script, "finish %d %s %s\n", i, pid, began)
			out[i] = connect.Answer{Outcome: connect.Unsure, Words: "the connection was lost before the host answered"}
		}
	}
	err := s.ask(ctx, s.access.Patience()+time.Duration(len(names))*5*time.Second, script.String(), func(line string) {
		f := strings.SplitN(line, ":", 4)
		if i, err := strconv.Atoi(f[min(1, len(f)-1)]); len(f) == 4 && f[0] == "R" && err == nil && i < len(out) && i >= 0 {
			out[i] = ended(f[2], connect.Printable(f[3]))
		}
	})
	for i := range out {
		if out[i].Outcome == connect.Unsure && err != nil {
			out[i].Words = err.Error()
		}
	}
	return out
}

func ended(rc, words string) connect.Answer {
	switch {
	case rc != "0":
		return connect.Answer{Outcome: connect.Failed, Words: words}
	case words == "gone":
		return connect.Answer{Outcome: connect.AlreadySo, Words: "it had ended by itself"}
	}
	return connect.Answer{Outcome: connect.Done}
}
