package exchange

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"
)

// Change is one line of a bulk change: what to do to somebody's account on a target.
type Change struct {
	Line               int
	User, Target, What string
}

// ReadChanges reads bulk changes from CSV (RFC 4180) whose first line names the
// columns user, target and what, in any order, among others or not.
func ReadChanges(text string) ([]Change, error) {
	r := csv.NewReader(strings.NewReader(strings.TrimPrefix(text, "\ufeff")))
	r.FieldsPerRecord = -1
	head, err := r.Read()
	if err != nil {
		return nil, fmt.Errorf("no line with the columns user, target, what: %w", err)
	}
	at := map[string]int{}
	for i, h := range head {
		at[strings.ToLower(strings.TrimSpace(h))] = i
	}
	for _, want := range []string{"user", "target", "what"} {
		if _, ok := at[want]; !ok {
			return nil, fmt.Errorf("line 1 has no column %q; it has %s", want, strings.Join(head, ", "))
		}
	}
	var out []Change
	for {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
		cell := func(column string) string {
			if i := at[column]; i < len(row) {
				return Plain(strings.TrimSpace(row[i]))
			}
			return ""
		}
		line, _ := r.FieldPos(0)
		out = append(out, Change{Line: line, User: cell("user"), Target: cell("target"), What: cell("what")})
	}
}
