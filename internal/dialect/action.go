package dialect

import (
	"context"
	"fmt"
)

// Unknown says that a file does not tell what an action takes.
type Unknown struct{ Words string }

func (u *Unknown) Error() string { return u.Words }

// Takes returns the permissions that an action takes, by the table of the file. known is false where the system must be asked.
// The error is an *Unknown.
func (f *File) Takes(action string) (permissions []string, known bool, err error) {
	for _, a := range f.Actions.Table {
		if a.Is.MatchString(action) {
			return a.Takes, true, nil
		}
	}
	if f.Actions.Ask != nil {
		return nil, false, nil
	}
	return nil, true, &Unknown{fmt.Sprintf("the dialect %s does not say what %q takes%s", f.Kind, action, f.Actions.such())}
}

// Asked returns what the system answers of an action. say types a line.
func (f *File) Asked(ctx context.Context, action string, v Vars, say func(ctx context.Context, line string) (string, error)) ([]string,
	error) {
	v["action"] = action
	line, err := f.Actions.Ask.Say.Typed(v, f.Quote)
	if err != nil {
		return nil, &Unknown{err.Error()}
	}
	answer, err := say(ctx, line)
	if err != nil {
		return nil, err
	}
	if why := f.Failure(answer); why != "" {
		return nil, &Unknown{fmt.Sprintf("asked what %q takes it answers: %s%s", action, why, f.Actions.such())}
	}
	found, err := f.Actions.Ask.Objects(answer, v)
	var out []string
	for _, x := range found {
		out = append(out, x.Name)
	}
	return out, err
}

// such is what can be asked about, as words.
func (a *Actions) such() string {
	if len(a.Examples) == 0 {
		return ""
	}
	return fmt.Sprintf("; ask of one as %q", a.Examples[0])
}
