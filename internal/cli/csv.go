package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"hen-roost/internal/core/exchange"
)

// CSV for programs (RFC 4180) has a column for each field that JSON has, by the
// same name and with one type of value: of lists of values the values with "; "
// between them, of what is deeper a name with a dot. What a spreadsheet would
// take for a formula is defused (exchange.Defuse).

// writeCSV writes a list, or one thing, as a table.
func writeCSV(to io.Writer, value any) error {
	v := reflect.Indirect(reflect.ValueOf(value))
	if v.Kind() == reflect.Interface {
		v = v.Elem()
	}
	list := []reflect.Value{}
	elem := reflect.TypeFor[struct{}]()
	switch {
	case !v.IsValid():
	case v.Kind() == reflect.Slice:
		elem = v.Type().Elem()
		for i := range v.Len() {
			list = append(list, v.Index(i))
		}
	default:
		elem, list = v.Type(), append(list, v)
	}
	head := columnsOf(elem, list, "")
	w := csv.NewWriter(to)
	if err := w.Write(head); err != nil {
		return err
	}
	for _, x := range list {
		cells := map[string]string{}
		fillCells(x, "", cells)
		row := make([]string, len(head))
		for i, h := range head {
			row[i] = cells[h]
		}
		if err := w.Write(row); err != nil {
			return err
		}
	}
	w.Flush()
	return w.Error()
}

// columnsOf are the names of the columns, in the order of the fields; those of a map are what its keys are.
func columnsOf(t reflect.Type, list []reflect.Value, prefix string) (out []string) {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	switch {
	case t.Kind() == reflect.Map:
		keys := map[string]bool{}
		for _, v := range list {
			if v = reflect.Indirect(v); v.IsValid() && v.Kind() == reflect.Map {
				for _, k := range v.MapKeys() {
					keys[fmt.Sprint(k)] = true
				}
			}
		}
		for k := range keys {
			out = append(out, prefix+k)
		}
		slices.Sort(out)
		return out
	case t.Kind() == reflect.Struct && t != reflect.TypeFor[time.Time]():
		for i := range t.NumField() {
			f := t.Field(i)
			name, shown := jsonName(f)
			if !shown {
				continue
			}
			var inner []reflect.Value
			for _, v := range list {
				if v = reflect.Indirect(v); v.IsValid() {
					inner = append(inner, v.Field(i))
				}
			}
			if f.Anonymous && name == "" {
				out = append(out, columnsOf(f.Type, inner, prefix)...)
			} else {
				out = append(out, columnsOf(f.Type, inner, prefix+name+".")...)
			}
		}
		return out
	case t.Kind() == reflect.Slice && deep(t.Elem()):
		return nil
	default:
		return []string{strings.TrimSuffix(prefix, ".")}
	}
}

func jsonName(f reflect.StructField) (name string, shown bool) {
	tag, has := f.Tag.Lookup("json")
	name, _, _ = strings.Cut(tag, ",")
	switch {
	case name == "-" || !f.IsExported():
		return "", false
	case !has && !f.Anonymous:
		name = f.Name
	}
	return name, true
}

func deep(t reflect.Type) bool {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	return t.Kind() == reflect.Struct && t != reflect.TypeFor[time.Time]() || t.Kind() == reflect.Map || t.Kind() == reflect.Slice &&
		t != reflect.TypeFor[[]byte]()
}

// fillCells puts the values into their columns.
func fillCells(v reflect.Value, prefix string, into map[string]string) {
	for v.Kind() == reflect.Pointer || v.Kind() == reflect.Interface {
		if v.IsNil() {
			return
		}
		v = v.Elem()
	}
	at := strings.TrimSuffix(prefix, ".")
	switch x := v.Interface().(type) {
	case time.Time:
		into[at] = x.UTC().Format(time.RFC3339)
		return
	case json.Marshaler:
		if b, err := json.Marshal(x); err == nil {
			into[at] = exchange.Defuse(strings.Trim(string(b), `"`))
		}
		return
	}
	switch v.Kind() {
	case reflect.Struct:
		for i := range v.NumField() {
			f := v.Type().Field(i)
			name, shown := jsonName(f)
			switch {
			case !shown:
			case f.Anonymous && name == "":
				fillCells(v.Field(i), prefix, into)
			default:
				fillCells(v.Field(i), prefix+name+".", into)
			}
		}
	case reflect.Map:
		for _, k := range v.MapKeys() {
			fillCells(v.MapIndex(k), prefix+fmt.Sprint(k)+".", into)
		}
	case reflect.Slice:
		if deep(v.Type().Elem()) {
			return
		}
		var parts []string
		for i := range v.Len() {
			parts = append(parts, fmt.Sprint(v.Index(i)))
		}
		into[at] = exchange.Defuse(strings.Join(parts, "; "))
	case reflect.String:
		into[at] = exchange.Defuse(v.String())
	case reflect.Int, reflect.Int64, reflect.Int32:
		into[at] = strconv.FormatInt(v.Int(), 10)
	default:
		into[at] = fmt.Sprint(v)
	}
}
