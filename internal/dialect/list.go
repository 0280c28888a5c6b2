package dialect

import (
	"errors"
	"fmt"
	"maps"
	"slices"

	"hen-roost/internal/core/model"
)

// Found is one object that an answer tells of.
type Found struct {
	Name string
	Has  map[string][]string // attributes, but name
	In   map[string][]string // names of sets that it is in, by their kind
	Line int                 // of the answer
	Odd  string              // why not all of it can be relied on
}

// Objects are those that an answer to a listing tells of, in its order.
func (l *Listing) Objects(answer string, v Vars) ([]Found, error) {
	rows, err := l.Read.Rows(answer, l.Say.Line)
	if err != nil {
		return nil, err
	}
	if l.one && len(rows) > 1 {
		rows = together(rows)
	}
	out := make([]Found, 0, len(rows))
	vars := complete(v)
	for _, r := range rows {
		vars["row"] = r.Has
		if l.When.Set() {
			is, err := l.When.holds(vars)
			if err != nil {
				return nil, fmt.Errorf("line %d of the answer: %w", r.Line, err)
			}
			if !is {
				continue
			}
		}
		if l.vital(r) {
			return nil, r.odd
		}
		f := Found{Line: r.Line, Has: map[string][]string{}, In: map[string][]string{}}
		for a, e := range l.Is {
			values, err := e.values(vars)
			if err != nil {
				return nil, fmt.Errorf("line %d of the answer: %w", r.Line, err)
			}
			if e.blurred(r) {
				f.Odd = r.odd.Error()
				continue
			}
			if a == "name" {
				if len(values) != 1 {
					return nil, fmt.Errorf("line %d of the answer: line %d makes %d names of it", r.Line, e.Line, len(values))
				}
				f.Name = values[0]
			} else if len(values) > 0 {
				f.Has[a] = values
			}
		}
		for kind, e := range l.In {
			values, err := e.values(vars)
			if err != nil {
				return nil, fmt.Errorf("line %d of the answer: %w", r.Line, err)
			}
			f.In[kind] = values
		}
		out = append(out, f)
	}
	return out, nil
}

// together makes one row of several that tell of one thing; what is told first counts.
func together(rows []Row) []Row {
	one := Row{Line: rows[0].Line, Has: map[string]any{}}
	for _, r := range rows {
		for name, value := range r.Has {
			if was, told := one.Has[name]; !told || was == "" {
				one.Has[name] = value
			}
		}
		if one.blurred = append(one.blurred, r.blurred...); one.odd == nil {
			one.odd = r.odd
		}
	}
	return []Row{one}
}

// vital says whether what cannot be relied on in a row is whose it is, whether it is open, or what power it has: then nothing is
// known of the system.
func (l *Listing) vital(r Row) bool {
	if len(r.blurred) == 0 {
		return false
	}
	vital := []Expression{l.When, l.Is["name"], l.Is["members"], l.Is[model.Disabled], l.Is[model.Elevation]}
	return slices.ContainsFunc(slices.AppendSeq(vital, maps.Values(l.In)), func(e Expression) bool { return e.blurred(r) })
}

// listings are all of a file, by what they list: a kind of object, target, signed-in, candidate and history.
func (f *File) listings() map[string][]*Listing {
	out := map[string][]*Listing{}
	for kind, h := range f.Holds {
		out[kind] = h.List
	}
	for what, l := range map[string]*Listing{"target": f.Target, "history": f.History} {
		if l != nil {
			out[what] = append(out[what], l)
		}
	}
	if f.Signed != nil && f.Signed.List != nil {
		out["signed-in"] = append(out["signed-in"], f.Signed.List)
	}
	if f.Actions != nil && f.Actions.Ask != nil {
		out["actions"] = append(out["actions"], f.Actions.Ask)
	}
	if f.Draft != nil {
		if f.Draft.State != nil {
			out["candidate"] = append(out["candidate"], f.Draft.State)
		}
	}
	return out
}

// asked is what a listing is typed for, when it is recorded and when recordings are tried: each example of an action, or nothing
// in particular.
func (f *File) asked(what string) []string {
	if what == "actions" {
		return f.Actions.Examples
	}
	return []string{""}
}

// commands are all by which something is changed, by what they change.
func (f *File) commands() map[string][]Command {
	out := map[string][]Command{}
	for kind, h := range f.Holds {
		for what, list := range map[string][]Command{"create": h.Create, "then": h.Then, "remove": h.Remove, "disable": h.Disable,
			"enable": h.Enable,
			"join":   h.Join, "leave": h.Leave} {
			out[kind+" "+what] = list
		}
		for a, list := range h.Set {
			out[kind+" set "+a] = list
		}
	}
	if f.Signed != nil {
		out["signed-in end"] = f.Signed.End
	}
	if f.LetsIn != nil {
		out["lets-in"] = []Command{{Say: f.LetsIn.Say}}
	}
	if f.Actions != nil && f.Actions.Ask != nil {
		out["actions ask"] = []Command{{Say: f.Actions.Ask.Say}}
	}
	return out
}

// Sent types commands, one after the other, and says why one of them did not do what it is for. say types a line, and answers
// what is asked.
func (f *File) Sent(list []Command, v Vars, say func(line string, c Command) (answer string, err error)) error {
	for _, c := range list {
		if c.When.Set() {
			is, err := c.When.True(v)
			if err != nil {
				return err
			}
			if !is {
				continue
			}
		}
		line, err := c.Say.Typed(v, f.Quote)
		if err != nil {
			return err
		}
		answer, err := say(line, c)
		if err != nil {
			return err
		}
		if why := f.Failure(answer); why != "" {
			return &Failed{why}
		}
		if c.Done.Set() && !c.Done.inLine(answer) {
			return &Failed{fmt.Sprintf("it does not say that it did (%s): %q", c.Done, clip(answer))}
		}
	}
	return nil
}

// Failed says what a system said that did not do something.
type Failed struct{ Said string }

func (f *Failed) Error() string { return f.Said }

// Broken says whether an error means that the conversation is over: that it is no failure that was told, and nothing that cannot
// be said.
func Broken(err error) bool {
	var failed *Failed
	return errors.As(err, new(*Refusal)) || err != nil && !errors.As(err, &failed) && !errors.As(err, new(*Unsaid))
}

// names of what is listed, in order.
func inOrder[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }
