package scim

import (
	"cmp"
	"encoding/json"
	"strings"

	filter "github.com/scim2/filter-parser/v2"
)

// Filter chooses resources (RFC 7644 §3.4.2.2).
type Filter struct{ expr filter.Expression }

// filterMost bounds a filter: it is worked out for every resource.
const filterMost = 64 << 10

// ParseFilter reads one. Its error is an *Error.
func ParseFilter(s string) (f Filter, err error) {
	defer func() {
		if recover() != nil { // of a parser that is fed by strangers
			err = NewError(400, "invalidFilter", "the filter cannot be read")
		}
	}()
	if len(s) > filterMost {
		return f, NewError(400, "tooMany", "the filter is longer than 64 KB")
	}
	expr, err := filter.ParseFilter([]byte(s))
	if err != nil {
		return f, NewError(400, "invalidFilter", "the filter cannot be read: "+err.Error())
	}
	if !unescape(expr) {
		return f, NewError(400, "invalidFilter", "a string in the filter is not one of JSON")
	}
	return Filter{expr}, nil
}

// unescape reads the strings of an expression as JSON has them, which the parser leaves as they stand.
func unescape(e filter.Expression) bool {
	switch e := e.(type) {
	case *filter.LogicalExpression:
		return unescape(e.Left) && unescape(e.Right)
	case *filter.NotExpression:
		return unescape(e.Expression)
	case *filter.ValuePath:
		return unescape(e.ValueFilter)
	case *filter.AttributeExpression:
		s, ok := e.CompareValue.(string)
		if !ok || !strings.Contains(s, `\`) {
			return true
		}
		if json.Unmarshal([]byte(`"`+s+`"`), &s) != nil {
			return false
		}
		e.CompareValue = s
	}
	return true
}

// Only returns the value that an attribute must be equal to, where that is all that the filter asks.
func (f Filter) Only(attribute string) (string, bool) {
	x, ok := f.expr.(*filter.AttributeExpression)
	if !ok || x.Operator != filter.EQ || !strings.EqualFold(x.AttributePath.AttributeName, attribute) ||
		x.AttributePath.SubAttribute != nil {
		return "", false
	}
	s, ok := x.CompareValue.(string)
	return s, ok
}

// AnyOf returns the values of which an attribute must be equal to one, where that is all that the filter asks.
func (f Filter) AnyOf(attribute string) (values []string, ok bool) {
	var walk func(e filter.Expression) bool
	walk = func(e filter.Expression) bool {
		if l, is := e.(*filter.LogicalExpression); is && l.Operator == filter.OR {
			return walk(l.Left) && walk(l.Right)
		}
		v, is := Filter{e}.Only(attribute)
		values = append(values, v)
		return is
	}
	return values, f.expr != nil && walk(f.expr)
}

// Match says whether it chooses a resource. Of strings upper and lower case are the same, but of ids.
func (f Filter) Match(r Resource) bool { return matches(f.expr, r) }

func matches(e filter.Expression, r Resource) bool {
	switch e := e.(type) {
	case *filter.LogicalExpression:
		if e.Operator == filter.AND {
			return matches(e.Left, r) && matches(e.Right, r)
		}
		return matches(e.Left, r) || matches(e.Right, r)
	case *filter.NotExpression:
		return !matches(e.Expression, r)
	case *filter.ValuePath:
		list, _ := r.at(e.AttributePath).([]any)
		for _, x := range list {
			if m, ok := x.(map[string]any); ok && matches(e.ValueFilter, m) {
				return true
			}
		}
		return false
	case *filter.AttributeExpression:
		return compares(r.at(e.AttributePath), e.Operator, e.CompareValue, exact(e.AttributePath.AttributeName))
	}
	return false
}

// exact says whether upper and lower case differ (RFC 7643 §3.1, §4.1).
func exact(attribute string) bool {
	return strings.EqualFold(attribute, "id") || strings.EqualFold(attribute, "externalId")
}

// compares compares a value, or any of several, the main part of a complex one.
func compares(v any, op filter.CompareOperator, with any, exact bool) bool {
	switch v := v.(type) {
	case []any:
		if op == filter.NE {
			return !compares(v, filter.EQ, with, exact)
		}
		for _, x := range v {
			if compares(x, op, with, exact) {
				return true
			}
		}
		return false
	case map[string]any:
		if op == filter.PR {
			return len(v) > 0
		}
		return compares(Resource(v).Get("value"), op, with, exact)
	}
	if op == filter.PR {
		return v != nil && v != ""
	}
	if a, ok := v.(string); ok {
		b, ok := with.(string)
		if !exact {
			a, b = strings.ToLower(a), strings.ToLower(b)
		}
		return ok && texts(a, op, b) || !ok && op == filter.NE
	}
	if a, ok := number(v); ok {
		b, ok := number(with)
		return ok && orders(cmp.Compare(a, b), op)
	}
	return orders(map[bool]int{true: 0, false: 1}[v == with], op) && (op == filter.EQ || op == filter.NE)
}

func texts(a string, op filter.CompareOperator, b string) bool {
	switch op {
	case filter.CO:
		return strings.Contains(a, b)
	case filter.SW:
		return strings.HasPrefix(a, b)
	case filter.EW:
		return strings.HasSuffix(a, b)
	}
	return orders(strings.Compare(a, b), op)
}

func orders(c int, op filter.CompareOperator) bool {
	switch op {
	case filter.EQ:
		return c == 0
	case filter.NE:
		return c != 0
	case filter.GT:
		return c > 0
	case filter.GE:
		return c >= 0
	case filter.LT:
		return c < 0
	case filter.LE:
		return c <= 0
	}
	return false
}

func number(v any) (float64, bool) {
	switch v := v.(type) {
	case float64:
		return v, true
	case int:
		return float64(v), true
	case int64:
		return float64(v), true
	case json.Number:
		f, err := v.Float64()
		return f, err == nil
	}
	return 0, false
}

// Quote writes a string as a filter has it (RFC 7644 §3.4.2.2: as JSON does).
func Quote(s string) string {
	b, err := json.Marshal(s)
	if err != nil {
		panic(err) // of a string there is none
	}
	return string(b)
}
