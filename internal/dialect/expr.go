package dialect

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/ext"
	"github.com/goccy/go-yaml/ast"
)

// Vars are what expressions can see. Attributes are named with _ in place of -.
type Vars map[string]any

// seen are the names of all there is to see: a row of an answer; the object, what is wanted of it and what it was; who is in
// which set, and of what kind; many names; the words of a commit and the minutes of a trial; the login, and the settings of the target.
var seen = []string{"row", "name", "want", "was", "value", "set", "member", "names", "words", "minutes", "login", "settings", "n", "job",
	"secret", "action", "kind"}

// env is made once: compiling needs nothing of a file.
var env = sync.OnceValue(func() *cel.Env {
	opts := []cel.EnvOption{ext.Strings(ext.StringsVersion(3)), cel.OptionalTypes(),
		texts("ordinal", ordinal), texts("julian", julian),
		inForm("day", day), inForm("moment", moment), orNever("day", day), orNever("moment", moment)}
	for _, name := range seen {
		opts = append(opts, cel.Variable(name, cel.DynType))
	}
	e, err := cel.NewEnv(opts...)
	if err != nil {
		panic(err) // it depends on nothing that is given
	}
	return e
})

// texts is a function of a text that makes a text of it.
func texts(name string, do func(string) (string, error)) cel.EnvOption {
	return cel.Function(name, cel.Overload(name+"_text", []*cel.Type{cel.DynType}, cel.StringType,
		cel.UnaryBinding(func(a ref.Val) ref.Val { return asText(do(fmt.Sprint(a.Value()))) })))
}

// inForm is a function of a text and the form that it is in.
func inForm(name string, do func(s, form string) (string, error)) cel.EnvOption {
	return cel.Function(name, cel.Overload(name+"_text_form", []*cel.Type{cel.DynType, cel.StringType}, cel.StringType,
		cel.BinaryBinding(func(a, b ref.Val) ref.Val { return asText(do(fmt.Sprint(a.Value()), fmt.Sprint(b.Value()))) })))
}

// orNever is such a function with a word more, by which the system says that it never is.
func orNever(name string, do func(s, form string) (string, error)) cel.EnvOption {
	return cel.Function(name, cel.Overload(name+"_text_form_never", []*cel.Type{cel.DynType, cel.StringType, cel.StringType},
		cel.StringType, cel.FunctionBinding(func(args ...ref.Val) ref.Val {
			s := strings.TrimSpace(fmt.Sprint(args[0].Value()))
			if strings.EqualFold(s, fmt.Sprint(args[2].Value())) {
				return types.String("never")
			}
			return asText(do(s, fmt.Sprint(args[1].Value())))
		})))
}

func asText(s string, err error) ref.Val {
	if err != nil {
		return types.NewErr("%v", err)
	}
	return types.String(s)
}

// ordinal is the day of a year and a day in it, as 2026330 or 26330; of nothing nothing.
func ordinal(s string) (string, error) {
	s = strings.TrimSpace(s)
	if strings.Trim(s, "0") == "" {
		return "", nil
	}
	year, err := strconv.Atoi(s[:max(len(s)-3, 0)])
	n, err2 := strconv.Atoi(s[max(len(s)-3, 0):])
	if err != nil || err2 != nil || len(s) != 5 && len(s) != 7 || n < 1 || n > 366 {
		return "", fmt.Errorf("%q is no day as 2026330 or 26330", s)
	}
	if len(s) == 5 {
		year += 2000
	}
	return time.Date(year, 1, n, 0, 0, 0, 0, time.UTC).Format(time.DateOnly), nil
}

// julian is the day of a Julian day number, as 2461371; of nothing nothing.
func julian(s string) (string, error) {
	s = strings.TrimSpace(s)
	if strings.Trim(s, "0") == "" {
		return "", nil
	}
	n, err := strconv.Atoi(s)
	if err != nil || n < 1721426 || n > 5373484 { // the years 1 to 9999
		return "", fmt.Errorf("%q is no Julian day number of our time", s)
	}
	return time.Unix(0, 0).UTC().AddDate(0, 0, n-2440588).Format(time.DateOnly), nil
}

var forms = strings.NewReplacer("YYYY", "2006", "YY", "06", "MON", "Jan", "MM", "01", "DD", "02", "hh", "15", "mm", "04", "ss", "05")

// day is the day that a text tells in a form, as DD.MM.YYYY hh:mm; of nothing nothing.
func day(s, form string) (string, error) {
	if s = strings.TrimSpace(s); s == "" {
		return "", nil
	}
	t, err := time.Parse(forms.Replace(form), s)
	if err != nil {
		return "", fmt.Errorf("%q is no day as %s", s, form)
	}
	return t.Format(time.DateOnly), nil
}

// moment is the time that a text tells in a form, as RFC 3339 has it; of nothing nothing.
func moment(s, form string) (string, error) {
	if s = strings.TrimSpace(s); s == "" {
		return "", nil
	}
	t, err := time.Parse(forms.Replace(form), s)
	if err != nil {
		return "", fmt.Errorf("%q is no time as %s", s, form)
	}
	return t.Format(time.RFC3339), nil
}

// Expression is CEL.
type Expression struct {
	Text
	program cel.Program
	cell    string   // the part of a row that it is, where it is nothing more
	reads   []string // parts of a row that it is made of
}

// cellOnly is an expression that is no more than a part of a row: most are, and there are as many rows as there are people.
var cellOnly = regexp.MustCompile(`^row\.([a-zA-Z_][a-zA-Z0-9_]*)$`)

// cells are the parts of a row that an expression names.
var cells = regexp.MustCompile(`\brow\.([a-zA-Z_][a-zA-Z0-9_]*)`)

// blurred says whether an expression is made of a part of a row that cannot be relied on.
func (e Expression) blurred(r Row) bool {
	return slices.ContainsFunc(r.blurred, func(cell string) bool { return slices.Contains(e.reads, cell) })
}

// Set says whether there is one.
func (e Expression) Set() bool { return e.program != nil }

// UnmarshalYAML implements yaml.NodeUnmarshaler.
func (e *Expression) UnmarshalYAML(n ast.Node) error {
	if err := e.Text.UnmarshalYAML(n); err != nil {
		return err
	}
	p, err := compile(e.Raw)
	if err != nil {
		return &located{e.Line, err.Error()}
	}
	e.program = p
	if m := cellOnly.FindStringSubmatch(e.Raw); m != nil {
		e.cell = m[1]
	}
	for _, m := range cells.FindAllStringSubmatch(e.Raw, -1) {
		e.reads = append(e.reads, m[1])
	}
	return nil
}

func compile(text string) (cel.Program, error) {
	tree, issues := env().Compile(text)
	if issues.Err() != nil {
		var words []string
		for _, e := range issues.Errors() {
			words = append(words, e.Message)
		}
		return nil, fmt.Errorf("%q is no expression: %s", text, strings.Join(words, "; "))
	}
	return env().Program(tree, cel.CostLimit(100_000))
}

// Values works the expression out: no value, one or several, truths as yes and no.
func (e Expression) Values(v Vars) ([]string, error) { return e.values(complete(v)) }

func (e Expression) values(all map[string]any) ([]string, error) {
	if row, ok := all["row"].(map[string]any); ok && e.cell != "" {
		if s, plain := row[e.cell].(string); plain {
			if s == "" {
				return nil, nil
			}
			return []string{s}, nil
		}
	}
	out, err := evalIn(e.program, all)
	if err != nil {
		return nil, fmt.Errorf("line %d, %s: %w", e.Line, e.Raw, err)
	}
	return out, nil
}

// True works a condition out.
func (e Expression) True(v Vars) (bool, error) { return e.holds(complete(v)) }

func (e Expression) holds(all map[string]any) (bool, error) {
	out, err := e.values(all)
	return len(out) == 1 && out[0] == "yes", err
}

// complete has something for all that there is to see.
func complete(v Vars) map[string]any {
	all := make(map[string]any, len(seen))
	for _, name := range seen {
		all[name] = types.NullValue
		if x, ok := v[name]; ok {
			all[name] = x
		}
	}
	return all
}

func eval(p cel.Program, v Vars) ([]string, error) { return evalIn(p, complete(v)) }

func evalIn(p cel.Program, all map[string]any) ([]string, error) {
	out, _, err := p.Eval(all)
	if err != nil {
		return nil, err
	}
	return listed(out)
}

func listed(v ref.Val) ([]string, error) {
	switch x := v.(type) {
	case types.Bool:
		if x {
			return []string{"yes"}, nil
		}
		return []string{"no"}, nil
	case types.String:
		if x == "" {
			return nil, nil
		}
		return []string{string(x)}, nil
	case types.Null:
		return nil, nil
	case types.Int, types.Uint, types.Double:
		return []string{plainNumber(x)}, nil
	case *types.Optional:
		if !x.HasValue() {
			return nil, nil
		}
		return listed(x.GetValue())
	}
	var list []any
	switch x := v.Value().(type) {
	case []any:
		list = x
	case []string:
		return slices.DeleteFunc(slices.Clone(x), func(y string) bool { return y == "" }), nil
	case []ref.Val:
		for _, y := range x {
			list = append(list, y)
		}
	default:
		return nil, fmt.Errorf("it makes %s, which is no text", v.Type().TypeName())
	}
	var out []string
	for _, y := range list {
		one, err := listed(types.DefaultTypeAdapter.NativeToValue(y))
		if err != nil {
			return nil, err
		}
		out = append(out, one...)
	}
	return slices.DeleteFunc(out, func(x string) bool { return x == "" }), nil
}

func plainNumber(v ref.Val) string {
	if f, ok := v.(types.Double); ok && float64(f) == float64(int64(f)) {
		return strconv.FormatInt(int64(f), 10)
	}
	return fmt.Sprint(v.Value())
}
