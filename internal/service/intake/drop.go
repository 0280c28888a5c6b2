package intake

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"hen-roost/internal/core/exchange"
	"hen-roost/internal/scim"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// Answer is what became of one line of a file that was dropped.
type Answer struct {
	Line    int
	Name    string // what the person is called there
	Outcome string // new, changed, the same, gone, not read
	Words   string
}

// Outcomes of lines.
const (
	Fresh   = "new"
	Changed = "changed"
	Same    = "the same"
	Gone    = "gone"
	NotRead = "not read"
)

// Drop takes in people out of a file that a system dropped: CSV (RFC 4180) whose first line names the attributes, or JSON Lines
// with a user in each, as it would be pushed. With everybody, the file holds all people of the system: who is not in it is gone,
// unless a line could not be read, for it may have been theirs. Each line is answered. The error is that of the whole.
func (s *Intake) Drop(ctx context.Context, system string, csv, everybody bool, text []byte) ([]Answer, error) {
	who := door.Operator{Name: system, Duties: []door.Duty{door.Push}}
	if err := s.mayPush(ctx, who); err != nil {
		if e := (*scim.Error)(nil); errors.As(err, &e) {
			err = &door.Problem{Kind: door.Forbidden, Words: e.Detail, Err: err}
		}
		return nil, err
	}
	if err := s.pushes(ctx, door.Itself, system); err != nil { // they may have been allowed to once
		return nil, err
	}
	from, err := s.named(ctx, system)
	if err != nil {
		return nil, err
	}
	lines, err := readLines(text)
	if csv {
		lines, err = readTable(text, from.Settings.Fields["id"])
	}
	if err != nil {
		return nil, door.Wrong("file", "%v", err)
	}
	if everybody && len(lines) == 0 {
		return nil, door.Wrong("file", "nobody is in it, and it is to hold everybody: nobody is taken for gone")
	}
	d := &dropping{Intake: s, system: system, there: map[string]store.Pushed{}, here: map[string]int{}}
	if err := s.Store.EachPushed(ctx, system, func(p store.Pushed) bool {
		d.there[p.Name] = p
		return true
	}); err != nil {
		return nil, err
	}
	for _, l := range lines {
		if err := d.line(ctx, l); err != nil {
			return d.answers, err
		}
	}
	if everybody {
		err = d.rest(ctx)
	}
	return d.answers, err
}

// dropped is one line of a file: what it says of a person, or why it cannot be read.
type dropped struct {
	at    int
	says  scim.Resource
	fault error
}

const lineMost = bodyMost + 1024

// readLines reads JSON Lines.
func readLines(text []byte) (out []dropped, err error) {
	lines := bufio.NewScanner(bytes.NewReader(bytes.TrimPrefix(text, []byte("\ufeff"))))
	lines.Buffer(nil, lineMost)
	n := 0
	for lines.Scan() {
		if n++; len(bytes.TrimSpace(lines.Bytes())) > 0 {
			r, err := read(lines.Bytes())
			out = append(out, dropped{n, r, err})
		}
	}
	if err := lines.Err(); err != nil {
		return nil, fmt.Errorf("line %d: %w", n+1, err)
	}
	return out, nil
}

// ofWork are attributes of the enterprise extension, which tables name without its name (RFC 7643 §4.3).
var ofWork = []string{"employeenumber", "costcenter", "organization", "division", "department", "manager"}

// readTable reads CSV. Columns are called as attributes are; one of another name is kept under it, for the settings to name.
func readTable(text []byte, id string) (out []dropped, err error) {
	r := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(text, []byte("\ufeff"))))
	head, err := r.Read()
	if err != nil {
		return nil, fmt.Errorf("no line names the columns: %w", err)
	}
	login := -1
	for i, h := range head {
		head[i] = strings.TrimSpace(h)
		if strings.EqualFold(head[i], "userName") || login < 0 && id != "" && strings.EqualFold(head[i], id) {
			login = i
		}
	}
	if login < 0 {
		return nil, fmt.Errorf("no column is called userName, and none is the id's by the settings; columns are %s", strings.Join(head,
			", "))
	}
	for {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		var bad *csv.ParseError
		switch {
		case errors.As(err, &bad) && errors.Is(err, csv.ErrFieldCount):
			out = append(out, dropped{bad.StartLine, nil, fmt.Errorf("it has %d cells, and there are %d columns", len(row), len(head))})
			continue
		case err != nil:
			return nil, err // where the next line begins is not known
		}
		line, _ := r.FieldPos(0)
		says := scim.Resource{"userName": exchange.Plain(row[login])}
		for i, cell := range row {
			if cell = strings.TrimSpace(exchange.Plain(cell)); cell != "" && !strings.EqualFold(head[i], "userName") {
				err = errors.Join(err, put(says, head[i], cell))
			}
		}
		out = append(out, dropped{line, says, err})
	}
}

// put says in a resource what a cell does.
func put(r scim.Resource, column, cell string) error {
	low := strings.ToLower(column)
	at := strings.LastIndexByte(column, ':')
	switch {
	case strings.HasPrefix(low, "urn:"):
		in, _ := r[column[:at]].(map[string]any)
		if in == nil {
			in = map[string]any{}
			r[column[:at]] = in
		}
		return put(in, column[at+1:], cell)
	case slices.Contains(ofWork, low):
		return put(r, scim.EnterpriseSchema+":"+column+map[bool]string{true: ".value"}[low == "manager"], cell)
	case low == "active":
		is, ok := map[string]bool{"true": true, "yes": true, "1": true, "false": false, "no": false, "0": false}[strings.ToLower(cell)]
		if !ok {
			return fmt.Errorf("active is true or false, not %q", cell)
		}
		r["active"] = is
	case low == "emails", low == "phonenumbers":
		r[column] = []any{map[string]any{"value": cell, "primary": true}}
	default:
		name, sub, deep := strings.Cut(column, ".")
		if !deep {
			r[column] = cell
			break
		}
		in, _ := r[name].(map[string]any)
		if in == nil {
			in = map[string]any{}
			r[name] = in
		}
		return put(in, sub, cell)
	}
	return nil
}

// dropping is a file that is taken in.
type dropping struct {
	*Intake
	system  string
	there   map[string]store.Pushed // by name, who is gone too
	here    map[string]int          // by name: the line
	answers []Answer
	unread  int
}

func (d *dropping) answer(line int, name, outcome, words string) {
	if outcome == NotRead {
		d.unread++
	}
	d.answers = append(d.answers, Answer{line, door.ClipTo(name, 100), outcome, door.ClipTo(words, 1000)})
}

// line takes in one line. Its error is of the database.
func (d *dropping) line(ctx context.Context, l dropped) error {
	now := d.moment()
	p := store.Pushed{Source: d.system, ID: rand.Text(), Version: 1, Made: now, At: now}
	if l.fault == nil {
		l.fault = fill(&p, l.says)
	}
	if l.fault != nil {
		words := l.fault.Error()
		if e := (*scim.Error)(nil); errors.As(l.fault, &e) {
			words = e.Detail
		}
		d.answer(l.at, l.says.Text("userName"), NotRead, words)
		return nil
	}
	if first, twice := d.here[p.Name]; twice {
		d.answer(l.at, p.Name, NotRead, fmt.Sprintf("it stands on line %d already", first))
		return nil
	}
	d.here[p.Name] = l.at
	was, known := d.there[p.Name]
	outcome, err := Fresh, error(nil)
	switch {
	case !known || was.Gone:
		err = d.Store.AddPushed(ctx, p)
	case alike(was.Body, p.Body):
		outcome = Same
	default:
		outcome = Changed
		p.ID, p.Version, p.Made = was.ID, was.Version, was.Made
		err = d.Store.PutPushed(ctx, p)
	}
	if errors.Is(err, store.ErrTaken) || errors.Is(err, store.ErrNone) {
		d.answer(l.at, p.Name, NotRead, "the system pushed somebody of that name at the same moment; drop the file again")
		return nil
	}
	if err == nil {
		d.answer(l.at, p.Name, outcome, "")
	}
	return err
}

// alike says whether two resources say the same, in whatever order.
func alike(a, b []byte) bool {
	var x, y any
	if json.Unmarshal(a, &x) != nil || json.Unmarshal(b, &y) != nil {
		return false
	}
	a, _ = json.Marshal(x)
	b, _ = json.Marshal(y)
	return bytes.Equal(a, b)
}

// rest takes who was not in the file for gone.
func (d *dropping) rest(ctx context.Context) error {
	names := door.KeysOf(d.there)
	for _, n := range names {
		p := d.there[n]
		if _, here := d.here[n]; here || p.Gone {
			continue
		}
		if d.unread > 0 {
			d.answer(0, n, Same, "it is not in the file, and is not taken for gone, since lines could not be read")
			continue
		}
		p.Gone, p.At = true, d.moment()
		if err := d.Store.PutPushed(ctx, p); err != nil && !errors.Is(err, store.ErrNone) {
			return err
		}
		d.answer(0, n, Gone, "it is not in the file")
	}
	return nil
}
