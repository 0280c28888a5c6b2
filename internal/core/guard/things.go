package guard

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"hen-roost/internal/core/model"
)

// targetValues are the guarded settings of a target.
func targetValues(t *model.Target, r model.Reach, dialect string) Values {
	v := Values{"kind": t.Kind, "address": r.Address, "via": t.Via.Name, "login.as": r.As, "login.secret": t.Login.Secret,
		"dialect": dialect, "protect": list(t.Protect), "lends": list(t.Lent), "leaves": list(t.Leaves),
		"unexpected": t.Unexpected, "removal.home": t.Removal.Home, "removal.retain": span(t.Removal.Retain),
		"removal.keep": span(t.Removal.Keep), "homes.under": list(t.Homes.Under), "repeat.survey": span(t.Repeat.Survey),
		"repeat.reconcile": span(t.Repeat.Reconcile), "window": windowValue(t.Window)}
	for name, n := range limits(&t.Limits) {
		v["limits."+name] = strconv.Itoa(*n)
	}
	for name, s := range r.Settings {
		v["settings."+name] = s
	}
	maps.DeleteFunc(v, func(_, value string) bool { return value == "" })
	return v
}

func limits(l *model.Limits) map[string]*int {
	return map[string]*int{"remove": &l.Remove, "remove-share": &l.RemoveShare, "disable": &l.Disable, "disable-share": &l.DisableShare,
		"fail-share": &l.FailShare}
}

// targetWith is a target with other guarded settings.
func targetWith(t *model.Target, v Values) *model.Target {
	out := *t
	out.Via.Name, out.Login.Secret = v["via"], v["login.secret"]
	out.Protect, out.Lent, out.Leaves = items(v["protect"]), items(v["lends"]), items(v["leaves"])
	out.Unexpected, out.Homes.Under = v["unexpected"], items(v["homes.under"])
	out.Removal = model.Removal{Home: v["removal.home"], Retain: duration(v["removal.retain"]), Keep: duration(v["removal.keep"])}
	out.Repeat = model.Repeat{Survey: duration(v["repeat.survey"]), Reconcile: duration(v["repeat.reconcile"])}
	out.Window = model.Window{}
	if w := v["window"]; w != "" {
		_ = json.Unmarshal([]byte(w), &out.Window) // what windowValue wrote
	}
	for name, n := range limits(&out.Limits) {
		*n = number(v["limits."+name])
	}
	out.InForce = &model.Reach{Address: v["address"], As: v["login.as"], Settings: map[string]string{}}
	for name, value := range v {
		if key, ok := strings.CutPrefix(name, "settings."); ok {
			out.InForce.Settings[key] = value
		}
	}
	return &out
}

func windowValue(w model.Window) string {
	if len(w.Days) == 0 && w.From == w.Till {
		return ""
	}
	b, _ := json.Marshal(w) // of numbers it cannot fail
	return string(b)
}

// window is a stretch of the week as a person reads it.
func window(value string) string {
	var w model.Window
	if json.Unmarshal([]byte(value), &w) != nil {
		return value
	}
	var days []string
	for _, d := range w.Days {
		days = append(days, strings.ToLower(d.String()[:3]))
	}
	return strings.TrimSpace(fmt.Sprintf("%s %02d:%02d-%02d:%02d", strings.Join(days, ","), w.From/60, w.From%60, w.Till/60, w.Till%60))
}

func (e *enforcer) targets(reached map[string]model.Reach) {
	for name, t := range e.d.Targets {
		thing := Thing{Target, name}
		values := targetValues(t, reached[name], e.schemas[t.Kind].Digest)
		if was := e.known[thing]; !was.Fresh() && was.Approved["kind"] != t.Kind {
			// Nothing of another kind can be kept in force: it is as a new target.
			s := State{Pending: map[string]Pending{}}
			for k, v := range values {
				s.Pending[k] = e.pending(was, k, v)
			}
			e.states[thing] = s
			continue
		}
		force, waits := e.judge(thing, values)
		if waits {
			put(&e.d.Targets, &e.own[0], name, targetWith(t, force))
		}
	}
}

func (e *enforcer) roles() {
	for name, r := range e.d.Roles {
		var names []string
		for _, n := range r.NeverWith {
			names = append(names, n.Name)
		}
		force, waits := e.judge(Thing{Role, name}, said("never-with", list(names)))
		if !waits {
			continue
		}
		out := *r
		out.NeverWith = slices.Clone(r.NeverWith)
		for _, n := range items(force["never-with"]) {
			if !slices.Contains(names, n) && e.d.Roles[n] != nil {
				out.NeverWith = append(out.NeverWith, model.Ref{Name: n, Pos: r.Pos})
			}
		}
		put(&e.d.Roles, &e.own[1], name, &out)
	}
}

// rights are guarded where they hold a permission that makes superuser.
func (e *enforcer) rights() {
	for name, r := range e.d.Rights {
		var mighty []string
		for _, a := range r.Allows {
			if e.mighty(r, a.Raw) {
				mighty = append(mighty, a.Raw)
			}
		}
		force, waits := e.judge(Thing{Right, name}, said("allows", list(mighty)))
		if !waits {
			continue
		}
		out, kept := *r, items(force["allows"])
		out.Allows = slices.DeleteFunc(slices.Clone(r.Allows), func(a model.Text) bool {
			return slices.Contains(mighty, a.Raw) && !slices.Contains(kept, a.Raw)
		})
		put(&e.d.Rights, &e.own[2], name, &out)
	}
}

// mighty says whether a permission makes superuser somewhere. Of one that is worked out nobody knows before.
func (e *enforcer) mighty(r *model.Right, permission string) bool {
	if strings.Contains(permission, "${") {
		return true
	}
	kinds := map[string]bool{}
	for _, t := range e.d.Targets {
		if !kinds[t.Kind] && slices.ContainsFunc(r.At, func(s model.Selector) bool { return s.Matches(t) }) {
			kinds[t.Kind] = true
		}
	}
	for kind := range kinds {
		schema := e.schemas[kind]
		k := schema.Of(model.RightKind)
		if k == nil || k.Spelled == nil || k.Spelled.Mighty == nil {
			continue
		}
		list, err := k.Spelled.Read(permission)
		if err != nil || slices.ContainsFunc(append(list, permission), k.Spelled.Mighty) {
			return true
		}
	}
	return false
}

// policies are guarded in what Hen Roost keeps of them itself. One that is gone
// is as one that says nothing any more.
func (e *enforcer) policies() {
	for thing := range e.known {
		if thing.Kind == Policy && e.d.Policies[thing.Name] == nil {
			if _, waits := e.judge(thing, Values{}); waits {
				e.kept(thing)
			}
		}
	}
	for name, p := range e.d.Policies {
		declared := said("words", list(p.Value(model.PolicyWords)))
		if s := p.Value(model.PolicyScreening); len(s) > 0 && s[0] != model.ScreenRefuse {
			declared["screening"] = s[0]
		}
		if len(declared) > 0 { // whom it is for is of weight where it says something
			declared["at"], declared["for"] = selectors(p.At), names(p.Groups)
			maps.DeleteFunc(declared, func(_, v string) bool { return v == "" })
		}
		force, waits := e.judge(Thing{Policy, name}, declared)
		if waits {
			e.policy(name, p, force)
		}
	}
}

// policy puts a policy in place with what of it is in force.
func (e *enforcer) policy(name string, p *model.Policy, force Values) {
	out := *p
	out.Values = slices.DeleteFunc(slices.Clone(p.Values), func(s model.Setting) bool {
		return s.Name == model.PolicyWords || s.Name == model.PolicyScreening
	})
	if w := items(force["words"]); w != nil {
		out.Values = append(out.Values, model.Setting{Name: model.PolicyWords, Values: w, Pos: p.Pos})
	}
	if s := force["screening"]; s != "" {
		out.Values = append(out.Values, model.Setting{Name: model.PolicyScreening, Values: []string{s}, Pos: p.Pos})
	}
	slices.SortFunc(out.Values, func(a, b model.Setting) int { return strings.Compare(a.Name, b.Name) })
	if len(out.Values) == 0 {
		return
	}
	if at := force["at"]; at != "" && at != selectors(p.At) {
		out.At = readSelectors(at)
	}
	if f := force["for"]; f != names(p.Groups) {
		out.Groups = nil
		for _, g := range items(f) {
			if e.d.Groups[g] != nil {
				out.Groups = append(out.Groups, model.Ref{Name: g, Pos: p.Pos})
			}
		}
	}
	put(&e.d.Policies, &e.own[3], name, &out)
}

// kept puts back a policy that was taken out and whose going waits.
func (e *enforcer) kept(t Thing) {
	e.policy(t.Name, &model.Policy{Name: t.Name}, e.known[t].Approved)
}

func said(name, value string) Values {
	if value == "" {
		return Values{}
	}
	return Values{name: value}
}

func names(refs []model.Ref) string {
	out := make([]string, len(refs))
	for i, r := range refs {
		out[i] = r.Name
	}
	return list(out)
}

// place is a selector as it is kept.
type place struct {
	Name string            `json:"name,omitempty"`
	Kind string            `json:"kind,omitempty"`
	Tags map[string]string `json:"tags,omitempty"`
}

// selectors write where a policy is as a list of texts, and readSelectors reads them.
func selectors(at []model.Selector) string {
	out := make([]string, len(at))
	for i, s := range at {
		b, _ := json.Marshal(place{s.Name, s.Kind, s.Tags}) // of texts it cannot fail
		out[i] = string(b)
	}
	return list(out)
}

func readSelectors(value string) (out []model.Selector) {
	for _, text := range items(value) {
		var p place
		if json.Unmarshal([]byte(text), &p) == nil {
			out = append(out, model.Selector{Name: p.Name, Kind: p.Kind, Tags: p.Tags})
		}
	}
	return out
}

// put puts a thing into a map that others hold too: into a copy of it.
func put[T any](m *map[string]T, own *bool, name string, x T) {
	if !*own {
		*m, *own = maps.Clone(*m), true
	}
	if *m == nil {
		*m = map[string]T{}
	}
	(*m)[name] = x
}
