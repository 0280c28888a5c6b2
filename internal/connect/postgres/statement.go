package postgres

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// statement is what carries out an act, and in which database.
func (b *batch) statement(i int) (db, sql string, err error) {
	a := b.Acts[i]
	for _, n := range []string{a.Name, a.Member} {
		if !fits(n) && (a.Object != model.RightKind || strings.ContainsRune(n, 0)) {
			return "", "", fmt.Errorf("a name has at most %d bytes here", nameMost)
		}
	}
	give := a.Verb == model.JoinIt
	switch {
	case a.Object == model.Account:
		sql, err = b.ofAccount(i)
	case a.Moves() && a.Object == model.RightKind:
		r, err := dialect.One(a.Name)
		if err != nil {
			return "", "", err
		}
		return within(r), statement(r, a.Member, give), nil
	case a.Moves() && give:
		sql = "GRANT " + name(a.Name) + " TO " + name(a.Member)
	case a.Moves():
		sql = b.takeBack("", a.Name, a.Member)
	case a.Verb == model.Create:
		sql = "CREATE ROLE " + name(a.Name) + " NOLOGIN"
	case a.Verb == model.Remove:
		sql = "DROP ROLE " + name(a.Name)
	default:
		sql = b.keepers(i)
	}
	return "", sql, err
}

// keepers changes who may give a group on.
func (b *batch) keepers(i int) string {
	a := b.Acts[i]
	before, after := a.Before().Get(model.Administrators), a.After().Get(model.Administrators)
	var out []string
	for _, n := range after {
		if !slices.Contains(before, n) {
			out = append(out, "GRANT "+name(a.Name)+" TO "+name(n)+" WITH ADMIN OPTION")
		}
	}
	for _, n := range before {
		if !slices.Contains(after, n) {
			out = append(out, b.takeBack("ADMIN OPTION FOR ", a.Name, n))
		}
	}
	return strings.Join(out, ";")
}

// takeBack takes a group, or an option of being in it, from somebody: since memberships have options, from each who gave it.
func (b *batch) takeBack(what, group, from string) string {
	one := "REVOKE " + what + name(group) + " FROM " + name(from)
	var out []string
	for _, n := range b.before.by[holding{model.GroupKind, group, from}] {
		out = append(out, one+" GRANTED BY "+name(n))
	}
	if out == nil {
		return one
	}
	return strings.Join(out, ";")
}

// options sets with what a role is in its groups. Being in one comes with it; what is no more asked for is given back only
// where it is still in.
func (b *batch) options(a connect.Act) (out []string, err error) {
	var has role
	if r := b.before.roles[a.Name]; r != nil {
		has = *r
	}
	for _, x := range []struct {
		attribute, option string
		has               []string
	}{{onRequest, "INHERIT", has.request}, {neverAs, "SET", has.never}} {
		if !slices.ContainsFunc(a.Changes, func(c model.Change) bool { return c.Attribute == x.attribute }) {
			continue
		}
		want := a.After().Get(x.attribute)
		if b.version < withOptions && len(want) > 0 {
			return nil, fmt.Errorf("%s is for PostgreSQL 16 and later; before that, %s holds for all groups of an account",
				x.attribute, inherits)
		}
		set := func(list, but []string, to string) {
			for _, g := range list {
				if !slices.Contains(but, g) {
					out = append(out, "GRANT "+name(g)+" TO "+name(a.Name)+" WITH "+x.option+" "+to)
				}
			}
		}
		set(want, x.has, "FALSE")
		set(x.has, want, "TRUE")
	}
	return out, nil
}

// ofAccount makes, changes or removes one. ALTER ROLE leaves what it does not name as it is.
func (b *batch) ofAccount(i int) (string, error) {
	a := b.Acts[i]
	who := name(a.Name)
	if a.Verb == model.Remove {
		return "DROP ROLE " + who, nil
	}
	want := a.After()
	head, more := "ALTER ROLE ", ""
	if a.Verb == model.Create && b.before.roles[a.Name] == nil {
		head = "CREATE ROLE "
		more = " LOGIN"
	}
	var after []string
	switch want.One(model.Disabled) {
	case "yes":
		more = " NOLOGIN"
		after = append(after, "ALTER ROLE "+who+" SET "+marker+" = 'shut'")
	case "no":
		more = " LOGIN"
		after = append(after, "ALTER ROLE "+who+" RESET "+marker)
	}
	if secret, has := a.Secrets[model.Password]; has {
		if secret.Empty() {
			return "", errors.New("a password of no letters is none")
		}
		v, err := verifier(secret.Reveal())
		if err != nil {
			return "", err
		}
		more += " PASSWORD " + text(v)
	}
	if hash, has := a.Secrets[model.PasswordKept]; has {
		if !kept.Match(hash.Reveal()) {
			return "", errors.New("that is not how this server keeps a password")
		}
		more += " PASSWORD " + text(string(hash.Reveal()))
	}
	switch v := want.One(inherits); v {
	case "":
	case "yes":
		more += " INHERIT"
	case "no":
		more += " NOINHERIT"
	default:
		return "", fmt.Errorf("%s is %q; it is yes or no", inherits, v)
	}
	switch v := want.One(sessionsMost); v {
	case "":
	case "any":
		more += " CONNECTION LIMIT -1"
	default:
		n, err := strconv.ParseUint(v, 10, 31)
		if err != nil {
			return "", fmt.Errorf("%s is %q; it is a number, or any", sessionsMost, v)
		}
		more += fmt.Sprintf(" CONNECTION LIMIT %d", n)
	}
	switch v := want.One(model.PasswordEnds); v {
	case "":
	case never:
		more += " VALID UNTIL 'infinity'"
	default:
		_, err1 := time.Parse(time.DateOnly, v)
		_, err2 := time.Parse(time.RFC3339, v)
		if err1 != nil && err2 != nil {
			return "", fmt.Errorf("%s is %q; it is a day, a time, or never", model.PasswordEnds, v)
		}
		more += " VALID UNTIL " + text(v)
	}
	sets, err := setting(who, a.Before().Get(settings), want.Get(settings))
	if err != nil {
		return "", err
	}
	options, err := b.options(a)
	if err != nil {
		return "", err
	}
	after = slices.Concat(after, sets, options)
	if more != "" {
		after = append([]string{head + who + more}, after...)
	}
	return strings.Join(after, ";"), nil
}

// setting changes settings of a role's own, as work_mem=64MB or search_path=crew in rota.
func setting(who string, before, after []string) (out []string, err error) {
	take := func(list, other []string, what func(key, value string) string) {
		for _, x := range list {
			if slices.Contains(other, x) {
				continue
			}
			rest, db, in := cutLast(x, " in ")
			key, value, ok := strings.Cut(rest, "=")
			if !ok || key == "" {
				err = fmt.Errorf("setting %q is not as work_mem=64MB", x)
				return
			}
			at := "ALTER ROLE " + who
			if in {
				at += " IN DATABASE " + name(db)
			}
			out = append(out, at+what(key, value))
		}
	}
	key := func(k string) string { // a name with a dot is of an extension
		parts := strings.Split(k, ".")
		for i := range parts {
			parts[i] = name(parts[i])
		}
		return strings.Join(parts, ".")
	}
	take(before, after, func(k, _ string) string { return " RESET " + key(k) })
	take(after, before, func(k, v string) string {
		if k == "search_path" { // a list, of which each is a name
			parts := strings.Split(v, ",")
			for i := range parts {
				parts[i] = text(strings.Trim(strings.TrimSpace(parts[i]), `"`))
			}
			return " SET search_path TO " + strings.Join(parts, ", ")
		}
		return " SET " + key(k) + " TO " + text(v)
	})
	return out, err
}

func cutLast(s, sep string) (before, after string, ok bool) {
	if at := strings.LastIndex(s, sep); at >= 0 {
		return s[:at], s[at+len(sep):], true
	}
	return s, "", false
}
