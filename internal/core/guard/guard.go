// Package guard knows the settings of a declaration that guard power or say
// where a secret goes. A change of one is pending, and the old value stays in
// force, until an operator who did not make it has approved it.
package guard

import (
	"encoding/json"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"hen-roost/internal/core/model"
)

// Setting is one guarded setting.
type Setting struct {
	Name   string `json:"name"`   // as it is typed in the declaration; "settings.*" stands for all of them
	Why    string `json:"why"`    // it is guarded
	Secret bool   `json:"secret"` // it says where a secret goes: an administrator must approve it
}

// Reconciles is the setting by which rounds run without anybody asking, in the
// name of who declared it and who approved it (State.By).
const Reconciles = "repeat.reconcile"

// Settings are the guarded ones by what has them: target, role, right, policy.
// It is the one list; docs/security.md is held to it by a test.
var Settings = map[string][]Setting{
	Target: {
		{"kind", "decides how Hen Roost signs in", true},
		{"address", "says to whom the secret is sent", true},
		{"via", "the secret's way leads through it", true},
		{"login.as", "the identity that the secret belongs to", true},
		{"login.secret", "chooses the secret that is sent", true},
		{"settings.*", "says how to sign in, what is trusted or who administers", true},
		{"dialect", "types the secret", true},
		{"protect", "names what no step may touch", false},
		{"lends", "lends the target's own accounts", false},
		{"leaves", "leaves attributes to another system", false},
		{"unexpected", "decides what becomes of accounts that nobody declared", false},
		{"removal", "decides what is kept of who goes", false},
		{"limits", "holds rounds that do too much", false},
		{"homes.under", "says where the homes of people may be", false},
		{"repeat", "has rounds run without anybody asking", false},
		{"window", "says when rounds start by themselves", false},
	},
	Role:   {{"never-with", "keeps two roles apart", false}},
	Right:  {{"allows", "gives what makes somebody superuser", false}},
	Policy: {{"screening", "lets weak passwords pass", false}, {"words", "names what no password may be built from", false}},
}

// What has guarded settings.
const (
	Target = "target"
	Role   = "role"
	Right  = "right"
	Policy = "policy"
)

// Thing is a declared thing that has guarded settings.
type Thing struct{ Kind, Name string }

func (t Thing) String() string { return t.Kind + " " + t.Name }

// ThingOf reads what String writes.
func ThingOf(text string) Thing {
	kind, name, _ := strings.Cut(text, " ")
	return Thing{kind, name}
}

// Secret says whether a setting says where a secret goes.
func (t Thing) Secret(name string) bool {
	s, _ := About(t.Kind, name)
	return s.Secret
}

// About finds a guarded setting in the list, also one of settings.* and of a group such as limits.
func About(kind, name string) (Setting, bool) {
	group, _, _ := strings.Cut(name, ".")
	for _, s := range Settings[kind] {
		if s.Name == name || s.Name == group || s.Name == group+".*" {
			return s, true
		}
	}
	return Setting{}, false
}

// Values are the guarded settings of one thing by name, as they are compared and
// shown. A setting that is not said has no value.
type Values map[string]string

// State is what is approved of one thing, and what waits.
type State struct {
	Approved Values             `json:"approved"` // nil: a target of which nothing was approved yet
	Pending  map[string]Pending `json:"pending,omitempty"`
	By       [2]string          `json:"by"` // who declared, and who approved, the value of Reconciles
}

// Pending is a value that waits.
type Pending struct {
	Value    string `json:"value"`
	By       string `json:"by"`
	Revision int    `json:"revision"`
}

// Fresh says that nothing of it was ever approved.
func (s State) Fresh() bool { return s.Approved == nil }

// Approve takes over what waits of the named settings, none for all, in the name of who approves them.
func (s State) Approve(names []string, by string) State {
	out := State{Approved: Values{}, Pending: map[string]Pending{}, By: s.By}
	maps.Copy(out.Approved, s.Approved)
	for name, p := range s.Pending {
		switch {
		case len(names) > 0 && !slices.Contains(names, name):
			out.Pending[name] = p
			continue
		case p.Value == "":
			delete(out.Approved, name)
		default:
			out.Approved[name] = p.Value
		}
		if name == Reconciles {
			out.By = [2]string{p.By, by}
		}
	}
	return out
}

// Guarded is a declaration with its guarded settings as they are in force.
type Guarded struct {
	*model.Declaration
	States map[Thing]State // of all that has guarded settings
}

// Enforce puts the values that were approved into a declaration, in place of
// those that wait. reached are the targets' addresses, logins and settings with
// their expressions filled in. known is what stood before, and is not changed;
// what waits anew is noted as by's, of a revision.
//
// A value that is stricter than the one approved counts at once, and is the one
// that is approved from then on. A target that was never approved is as it is
// declared, and nobody signs in to it (State.Fresh).
func Enforce(d *model.Declaration, reached map[string]model.Reach, schemas map[string]model.Schema, known map[Thing]State,
	by string, revision int) Guarded {
	out := Guarded{States: maps.Clone(known)}
	if out.States == nil {
		out.States = map[Thing]State{}
	}
	e := enforcer{d: *d, known: known, states: out.States, by: by, revision: revision, schemas: schemas}
	e.targets(reached)
	e.roles()
	e.rights()
	e.policies()
	e.forget()
	out.Declaration = &e.d
	return out
}

type enforcer struct {
	d        model.Declaration
	known    map[Thing]State
	states   map[Thing]State
	schemas  map[string]model.Schema
	by       string
	revision int
	own      [4]bool // which maps of d are copies: targets, roles, rights, policies
}

// forget drops what waits of things that are no longer declared. What was approved of them stays: if they come again, it is what
// they are measured against.
func (e *enforcer) forget() {
	for t, s := range e.known {
		there := true
		switch t.Kind {
		case Target:
			_, there = e.d.Targets[t.Name]
		case Role:
			_, there = e.d.Roles[t.Name]
		case Right:
			_, there = e.d.Rights[t.Name]
		}
		if !there && len(s.Pending) > 0 {
			s.Pending = nil
			e.states[t] = s
		}
	}
}

// judge compares what is declared of a thing with what is approved, notes what
// waits, and returns the values that are in force.
func (e *enforcer) judge(t Thing, declared Values) (force Values, waits bool) {
	was, seen := e.known[t]
	if t.Kind == Target && was.Fresh() {
		s := State{Pending: map[string]Pending{}}
		for name, v := range declared {
			s.Pending[name] = e.pending(was, name, v)
		}
		e.states[t] = s
		return declared, false
	}
	s := State{Approved: Values{}, Pending: map[string]Pending{}, By: was.By}
	maps.Copy(s.Approved, was.Approved)
	force = Values{}
	for name := range union(declared, was.Approved) {
		old, new := was.Approved[name], declared[name]
		v := strict(t.Kind, name, old, new)
		if t.Kind == Policy && was.Approved["words"]+was.Approved["screening"] == "" && (name == "at" || name == "for") {
			v = new // it said nothing so far
		}
		if key, ok := strings.CutPrefix(name, "settings."); ok && old != new && slices.Contains(e.schemas[declared["kind"]].Admins, key) {
			v = wider(old, new)
		}
		switch {
		case v == new && new == "":
			delete(s.Approved, name)
		case v == new:
			s.Approved[name] = new
		default:
			s.Pending[name], waits = e.pending(was, name, new), true
		}
		if v != "" {
			force[name] = v
		}
	}
	if len(s.Pending) == 0 {
		s.Pending = nil
	}
	if seen || len(s.Approved)+len(s.Pending) > 0 {
		e.states[t] = s
	}
	return force, waits
}

func (e *enforcer) pending(was State, name, value string) Pending {
	if p, ok := was.Pending[name]; ok && p.Value == value {
		return p
	}
	return Pending{Value: value, By: e.by, Revision: e.revision}
}

func union(a, b Values) map[string]bool {
	out := make(map[string]bool, len(a))
	for k := range a {
		out[k] = true
	}
	for k := range b {
		out[k] = true
	}
	return out
}

// strict is what is in force while new waits in place of old: old, or what of both is the stricter.
func strict(kind, name, old, new string) string {
	if old == new {
		return new
	}
	switch group, _, _ := strings.Cut(name, "."); {
	case kind == Target && name == "protect", kind == Role && name == "never-with", kind == Policy && name == "words":
		return list(merged(items(old), items(new)))
	case kind == Target && (name == "lends" || name == "leaves"):
		return list(common(items(old), items(new)))
	case kind == Target && group == "limits":
		return fewer(old, new)
	case kind == Policy && name == "screening":
		return "" // refuse
	case kind == Right:
		return list(common(items(old), items(new)))
	}
	return old
}

// wider is all names that two lists with commas hold.
func wider(a, b string) string {
	split := func(c rune) bool { return c == ',' || c == ' ' }
	return strings.Join(merged(strings.FieldsFunc(a, split), strings.FieldsFunc(b, split)), ",")
}

// fewer is the smaller of two bounds; -1 is none.
func fewer(a, b string) string {
	x, y := number(a), number(b)
	if x < 0 || y >= 0 && y < x {
		return b
	}
	return a
}

func merged(a, b []string) []string {
	all := append(slices.Clone(a), b...)
	slices.Sort(all)
	return slices.Compact(all)
}

func common(a, b []string) []string {
	return slices.DeleteFunc(slices.Clone(a), func(x string) bool { return !slices.Contains(b, x) })
}

// list writes names as one value, sorted; items reads it.
func list(names []string) string {
	if len(names) == 0 {
		return ""
	}
	names = slices.Clone(names)
	slices.Sort(names)
	b, _ := json.Marshal(slices.Compact(names)) // of texts it cannot fail
	return string(b)
}

func items(value string) (out []string) {
	if value != "" {
		_ = json.Unmarshal([]byte(value), &out) // what list wrote
	}
	return out
}

func number(value string) int {
	n, err := strconv.Atoi(value)
	if err != nil {
		return -1
	}
	return n
}

func span(d time.Duration) string {
	switch d {
	case 0:
		return ""
	case model.AtOnce:
		return "0d"
	}
	text := d.String()
	for _, none := range []string{"0s", "0m"} { // "1h0m0s" is "1h"
		if shorter, ok := strings.CutSuffix(text, none); ok && !endsInFigure(shorter) {
			text = shorter
		}
	}
	return text
}

func endsInFigure(s string) bool { return s == "" || s[len(s)-1] >= '0' && s[len(s)-1] <= '9' }

func duration(value string) time.Duration {
	d, _ := time.ParseDuration(value) // what span wrote; "" is none
	return d
}

// Say is a value as a person reads it.
func Say(name, value string) string {
	switch {
	case value == "":
		return "none"
	case strings.HasPrefix(value, "["):
		return strings.Join(items(value), ", ")
	case value == "-1" && strings.HasPrefix(name, "limits."):
		return "no limit"
	case strings.HasPrefix(value, "{"):
		return window(value)
	}
	return value
}
