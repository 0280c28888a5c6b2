package scim

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
	protocol "hen-roost/internal/scim"
)

// changes are what makes an account so, or so from as it was read.
func (b *batch) changes(a connect.Act) ([]protocol.Change, error) {
	u := b.before.one(a.Name)
	if u == nil {
		u = &user{}
	}
	main, others := split(u.Mails)
	mails := false
	var out []protocol.Change
	set := func(path string, v any) {
		out = append(out, protocol.Change{Op: "replace", Path: path, Value: text(v)})
	}
	for _, c := range a.Changes {
		one := ""
		if len(c.After) > 0 {
			one = c.After[0]
		}
		at := slices.IndexFunc(simple, func(s struct{ name, path, about, from string }) bool { return s.name == c.Attribute })
		switch {
		case at >= 0 && one == "":
			out = append(out, protocol.Change{Op: "remove", Path: simple[at].path})
		case at >= 0:
			set(simple[at].path, one)
		case c.Attribute == model.Disabled:
			set("active", one != "yes")
		case c.Attribute == model.Mail:
			main, mails = one, true
		case c.Attribute == moreMails:
			others, mails = untold(c.After, others), true
		case c.Attribute == telephones:
			set("phoneNumbers", untold(c.After, u.Phones))
		case c.Attribute == manager:
			more, err := b.led(one)
			if err != nil {
				return nil, err
			}
			out = append(out, more)
		case c.Attribute == extensions:
			more, err := b.extend(c)
			if err != nil {
				return nil, err
			}
			out = append(out, more...)
		case c.Attribute == model.MustChange:
			path := b.setting(mustChange, "")
			if path == "" {
				return nil, fmt.Errorf("nothing says where that a password must be changed stands (setting %s)", mustChange)
			}
			set(path, one == "yes")
		case c.Attribute == model.Password:
			secret := a.Secrets[model.Password]
			if secret.Empty() {
				return nil, errors.New("a password of no letters is none")
			}
			set("password", string(secret.Reveal()))
		default:
			return nil, fmt.Errorf("%s cannot be set", c.Attribute)
		}
	}
	if mails {
		var list []value
		if main != "" {
			first := value{Value: main, Type: "work", Primary: true}
			if old, _ := split(u.Mails); old != "" {
				first = u.Mails[slices.IndexFunc(u.Mails, func(v value) bool { return v.Value == old })]
				first.Value, first.Primary, first.Display = main, true, ""
			}
			list = append(list, first)
		}
		set("emails", append(list, others...))
	}
	return out, nil
}

// untold are values as they are declared; what is there already stays as it is.
func untold(list []string, have []value) (out []value) {
	out = []value{}
	for _, x := range list {
		x = typed(x)
		if at := slices.IndexFunc(have, func(v value) bool { return typed(sortOf(v)+" "+v.Value) == x }); at >= 0 {
			have[at].Primary = false
			out = append(out, have[at])
			continue
		}
		sort, v, _ := strings.Cut(x, " ")
		out = append(out, value{Value: v, Type: sort})
	}
	return out
}

// led names who leads somebody.
func (b *batch) led(by string) (protocol.Change, error) {
	path := enterprise + "manager"
	if by == "" {
		return protocol.Change{Op: "remove", Path: path}, nil
	}
	id := b.id(model.Named{Kind: model.Account, Name: by})
	if id == "" {
		return protocol.Change{}, fmt.Errorf("%s, who should lead them, has no account there", by)
	}
	return protocol.Change{Op: "replace", Path: path, Value: text(map[string]string{"value": id})}, nil
}

// extend changes what stands in other extensions.
func (b *batch) extend(c model.Change) (out []protocol.Change, err error) {
	set := map[string]bool{}
	for _, x := range c.After {
		path, v, ok := strings.Cut(x, "=")
		at := strings.LastIndexByte(path, ':')
		if !ok || at < 0 || !strings.HasPrefix(path, "urn:") {
			return nil, fmt.Errorf("%q is not as SCHEMA:attribute=value", x)
		}
		set[path] = true
		if slices.Contains(c.Before, x) {
			continue
		}
		out = append(out, protocol.Change{Op: "replace", Path: path, Value: as(b.schemas[path[:at]].Find(path[at+1:]), v)})
	}
	for _, x := range c.Before {
		if path, _, _ := strings.Cut(x, "="); !set[path] {
			out = append(out, protocol.Change{Op: "remove", Path: path})
		}
	}
	return out, nil
}

// as is a value in the type that the server says.
func as(a *protocol.Attribute, v string) json.RawMessage {
	if a != nil {
		switch a.Type {
		case "boolean":
			return text(v == "true" || v == "yes")
		case "integer", "decimal":
			if f, err := strconv.ParseFloat(v, 64); err == nil {
				return text(f)
			}
		}
	}
	return text(v)
}
