package dialect

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"hen-roost/internal/connect"
	language "hen-roost/internal/dialect"
)

// Admits implements connect.Offers by a question for each account.
func (s *session) Admits(ctx context.Context, accounts []string) []connect.Admission {
	out := make([]connect.Admission, len(accounts))
	for i, name := range accounts {
		out[i] = s.admits(ctx, name)
	}
	return out
}

func (s *session) admits(ctx context.Context, name string) connect.Admission {
	vars := s.vars()
	vars["name"] = name
	line, err := s.file.LetsIn.Say.Typed(vars, s.file.Quote)
	answer := ""
	if err == nil {
		answer, err = s.say(ctx, line, nil, vars, "")
	}
	var failed *language.Failed
	if err != nil && !errors.As(err, &failed) { // one that ends with a status has answered too
		return connect.Admission{State: connect.NotTold, Words: connect.Printable(err.Error())}
	}
	in, why := s.file.LetsIn.Told(answer)
	switch in {
	case "no":
		words := strings.TrimSuffix("the system keeps it out: "+why, ": ")
		return connect.Admission{State: connect.KeptOut, Words: connect.Printable(words)}
	case "yes":
		return connect.Admission{State: connect.LetIn, Words: "the system would let it in"}
	}
	return connect.Admission{State: connect.NotTold, Words: connect.Printable(fmt.Sprintf("to %q it answers %q", line, answer))}
}
