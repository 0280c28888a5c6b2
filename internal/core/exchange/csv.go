package exchange

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"hen-roost/internal/core/declare"
)

// ReadCSV reads users from CSV (RFC 4180) whose first line names the columns.
// columns says for each field what column holds it: "name" → "Full name";
// fields that are not mapped are taken from a column of their own name.
func ReadCSV(text string, columns map[string]string) ([]User, []Unread) {
	r := csv.NewReader(strings.NewReader(strings.TrimPrefix(text, "\ufeff")))
	r.FieldsPerRecord = -1
	head, err := r.Read()
	if err != nil {
		return nil, []Unread{{1, fmt.Sprintf("no line that names the columns: %v", err)}}
	}
	fields, faults := mapping(head, columns)
	if len(faults) > 0 {
		return nil, faults
	}
	var users []User
	for {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			return Gather(users, faults)
		}
		var bad *csv.ParseError
		if errors.As(err, &bad) {
			return Gather(users, append(faults, Unread{bad.Line, bad.Err.Error() + "; nothing was read from here on"}))
		}
		line, _ := r.FieldPos(0)
		u := User{Line: line}
		var wrong error
		for i, cell := range row {
			if i >= len(fields) {
				wrong = fmt.Errorf("has %d cells, and there are %d columns", len(row), len(fields))
				break
			}
			if fields[i] != "" {
				wrong = errors.Join(wrong, u.Set(fields[i], Plain(cell)))
			}
		}
		if wrong != nil {
			faults = unread(faults, line, strings.ReplaceAll(wrong.Error(), "\n", "; "))
			continue
		}
		users = append(users, u)
	}
}

// mapping finds for each column which field it holds, "" for none.
func mapping(head []string, columns map[string]string) (fields []string, faults []Unread) {
	names := make([]string, len(head))
	for i, h := range head {
		names[i] = strings.TrimSpace(h)
	}
	fields = make([]string, len(head))
	for field, column := range columns {
		if !slices.Contains(Fields, field) && (!strings.HasPrefix(field, "details.") || len(field) == len("details.")) {
			faults = append(faults, Unread{1, declare.Meant(fmt.Sprintf("no field of a user is called %q", field), field,
				append(slices.Clone(Fields), "details.KEY"))})
			continue
		}
		i := slices.IndexFunc(names, func(n string) bool { return strings.EqualFold(n, column) })
		if i < 0 {
			faults = append(faults, Unread{1, declare.Meant(fmt.Sprintf("no column is called %q", column), column, names)})
			continue
		}
		fields[i] = field
	}
	for i, n := range names {
		field := strings.ToLower(n)
		if _, mapped := columns[field]; fields[i] == "" && !mapped &&
			(slices.Contains(Fields, field) || strings.HasPrefix(field, "details.")) {
			fields[i] = field
		}
	}
	if !slices.Contains(fields, "id") {
		faults = append(faults, Unread{1, fmt.Sprintf("no column holds the id; map one as id=COLUMN. Columns are %s",
			strings.Join(names, ", "))})
	}
	return fields, faults
}

// WriteCSV writes users with a column for every field that anybody has.
func WriteCSV(users []User) string {
	details := map[string]bool{}
	for _, u := range users {
		for k := range u.Details {
			details[k] = true
		}
	}
	head := []string{"id", "name", "given", "family", "number", "mail", "manager", "from", "until", "roles"}
	var keys []string
	for k := range details {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	for _, k := range keys {
		head = append(head, "details."+k)
	}
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	w.UseCRLF = true
	_ = w.Write(head) // a buffer takes everything
	for _, u := range users {
		row := []string{u.ID, u.Name, u.Given, u.Family, u.Number, u.Mail, u.Manager, u.From, u.Until, strings.Join(u.Roles, ";")}
		for _, k := range keys {
			row = append(row, u.Details[k])
		}
		for i := range row {
			row[i] = Defuse(row[i])
		}
		_ = w.Write(row)
	}
	w.Flush()
	return b.String()
}
