package scim

import (
	"encoding/json"
	"slices"
	"strings"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
	protocol "hen-roost/internal/scim"
)

// group is what is read of one, or of a pool of seats.
type group struct {
	ID      string  `json:"id"`
	Name    string  `json:"displayName"`
	Members []value `json:"members"`
	Meta    struct {
		Version string `json:"version"`
	} `json:"meta"`
	raw json.RawMessage
}

func readGroup(raw json.RawMessage) (g *group, odd string) {
	g = &group{raw: raw}
	if err := json.Unmarshal(raw, g); err != nil {
		odd = "what the server says of it is not what the standard says: " + connect.Printable(err.Error())
	}
	if g.Name == "" && g.ID != "" {
		g.Name, odd = "id "+g.ID, "it has no displayName"
	}
	return g, odd
}

// object is a group as an object, with those members that are known by their ids.
func (g *group) object(odd string, logins, groups map[string]string) *model.Object {
	name, why := connect.Fit(g.Name)
	if odd == "" {
		odd = why
	}
	o := &model.Object{Kind: model.GroupKind, Name: name, Unique: g.ID}
	var accounts, within []string
	for _, m := range g.Members {
		if login, ok := logins[m.Value]; ok {
			accounts = append(accounts, login)
		} else if name, ok := groups[m.Value]; ok {
			within = append(within, name)
		}
	}
	o.Attributes = model.Pack(model.Attribute{Name: model.Members, Values: unique(accounts)},
		model.Attribute{Name: model.MemberGroups, Values: unique(within)})
	if odd != "" {
		o.Attributes, o.Marked = o.Attributes.With(model.Odd, odd), true
	}
	return o
}

func unique(list []string) []string {
	slices.Sort(list)
	return slices.Compact(list)
}

// seats is how many a pool has, as the server tells; "" when it does not.
func (s *session) seats(g *group) string {
	var all map[string]any
	_ = json.Unmarshal(g.raw, &all)
	for k, v := range all {
		if strings.EqualFold(k, s.setting(seatsIn, "seats")) {
			word, _ := scalar(v)
			return shown(word)
		}
	}
	return ""
}

// groupKind is what the server says of what kind a group is, where the settings say in what attribute that is.
func (s *session) groupKind(g *group) string {
	path := s.setting(groupKindIn, "")
	if path == "" {
		return ""
	}
	var all protocol.Resource
	_ = json.Unmarshal(g.raw, &all)
	words, _ := all.Get(path).([]any)
	if words == nil {
		words = []any{all.Get(path)}
	}
	var out []string
	for _, w := range words {
		if word, ok := scalar(w); ok {
			out = append(out, shown(word))
		}
	}
	return strings.Join(unique(out), ", ")
}

// freshGroup is a group that is to be made, of the kind that the settings say.
func (b *batch) freshGroup(name string) (protocol.Resource, error) {
	r := protocol.Resource{"displayName": name}
	if kind := b.setting(newGroups, ""); kind != "" {
		p := protocol.Patch{Operations: []protocol.Change{{Op: "add", Path: b.setting(groupKindIn, ""), Value: text(kind)}}}
		if err := p.Make(r); err != nil {
			return nil, err
		}
	}
	schemas := []any{protocol.GroupSchema}
	for k := range r {
		if strings.HasPrefix(k, "urn:") {
			schemas = append(schemas, k)
		}
	}
	r["schemas"] = schemas
	return r, nil
}
