// Package declare reads declaration files into a model.Declaration and says,
// for everything wrong with them, where it is and what would be right.
//
//	Parse   the text of each file, one by one: keys, types, names twice
//	Check   all files together: names that lead nowhere, loops, clashes
//
// Both go on after a fault, so that one edit can mend them all.
package declare

import (
	"regexp"
	"slices"
	"strings"

	"hen-roost/internal/core/model"
)

// What one revision may hold: 200,000 users with ten lines each.
const (
	maxFile  = 32 << 20 // bytes of one file
	maxFiles = 48 << 20 // bytes of all
	maxLines = 3 << 20  // lines of one file
)

// MatchRules are the ways a found account can be recognised. Those used when a
// target names none leave out the last, which is weak.
var MatchRules = []string{"name", "number", "mail", "full-name"}

// paramName is what can follow "params." in an expression.
var paramName = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_]*$`)

// Read parses and checks the files of one revision.
// It returns the declaration, or Faults with all that is wrong.
func Read(files []File, schemas map[string]model.Schema) (*model.Declaration, error) {
	s, err := ReadOn(nil, files, schemas)
	if err != nil {
		return nil, err
	}
	return s.Declaration, s.Fresh()
}

// contents is what one part of a file defines, in its order.
type contents struct {
	root       model.Pos // where it begins
	first      string    // the first key
	version    int
	broken     bool // not YAML
	params     []param
	users      []*model.User
	groups     []*model.Group
	roles      []*model.Role
	targets    []*model.Target
	rights     []*model.Right
	containers []*model.Container
	policies   []*model.Policy
	pools      []*model.Pool
}

// param is a named text of the declaration's own.
type param struct{ model.NamedText }

func (p param) Called() (string, model.Pos) { return p.Name, p.Text.Pos }

type fileParser struct {
	*reader
	has *contents
}

// read takes apart what the parser made of a part.
func (p *fileParser) read(n *node, err error) {
	root := p.root(n, err)
	if p.has.broken = root == nil; p.has.broken {
		return
	}
	p.has.root = p.pos(root)
	p.mapping(root, "the file", keys{
		"roost":      p.number(&p.has.version, 1, 1),
		"params":     p.params,
		"users":      func(n *node) { p.named(n, "user", p.user) },
		"groups":     func(n *node) { p.named(n, "group", p.group) },
		"roles":      func(n *node) { p.named(n, "role", p.role) },
		"targets":    func(n *node) { p.named(n, "target", p.target) },
		"rights":     func(n *node) { p.named(n, "right", p.right) },
		"containers": func(n *node) { p.named(n, "container", p.container) },
		"policies":   func(n *node) { p.named(n, "policy", p.policy) },
		"pools":      func(n *node) { p.named(n, "pool", p.pool) },
	})
	if pairs := p.pairs(root, "the file"); len(pairs) > 0 {
		p.has.first = pairs[0].text
	}
}

// addressable refuses names that cannot stand in the address of a page.
func (p *fileParser) addressable(what, name string, at model.Pos) {
	if strings.Contains(name, "/") || name == "." || name == ".." {
		p.fault(at, "%s %q holds a / or is nothing but dots; names stand in addresses of pages", what, name)
	}
}

func (p *fileParser) params(n *node) {
	p.named(n, "param", func(name string, at model.Pos, v *node) {
		if !paramName.MatchString(name) {
			p.fault(at, "param %q must be letters, digits and _, so that expressions can name it", name)
			return
		}
		x := param{model.NamedText{Name: name, Text: model.Text{Pos: at}}}
		p.text(&x.Text)(v)
		p.has.params = append(p.has.params, x)
	})
}

func (p *fileParser) user(id string, at model.Pos, n *node) {
	p.of = []string{id}
	defer func() { p.of = nil }()
	p.addressable("user", id, at)
	u := &model.User{ID: id, Pos: at}
	p.has.users = append(p.has.users, u)
	p.mapping(n, "user "+id, keys{
		"name": p.text(&u.Name), "given": p.text(&u.Given), "family": p.text(&u.Family),
		"number": p.number(&u.Number, 1, 1<<31-2), "mail": p.text(&u.Mail), "manager": p.ref(&u.Manager),
		"service": p.yes(&u.Service), "details": p.details(&u.Details),
		"from": p.day(&u.Span.From), "until": p.day(&u.Span.Until),
		"suspended": p.suspended(id, &u.Suspended),
		"roles":     p.holdings(id, &u.Roles),
		"accounts":  func(n *node) { u.Accounts = p.hints(n) },
		"keys": func(n *node) {
			u.Keys = []model.Text{}
			p.list(n, func(item *node) {
				var t model.Text
				p.text(&t)(item)
				u.Keys = append(u.Keys, t)
			})
		},
	})
	if u.Name.Raw == "" {
		p.fault(at, "user %q has no name", id)
	}
}

func (p *fileParser) details(into *model.Details) func(*node) {
	return func(n *node) {
		p.named(n, "detail", func(name string, _ model.Pos, v *node) {
			x := model.NamedText{Name: name}
			p.text(&x.Text)(v)
			*into = append(*into, x)
		})
		slices.SortStableFunc(*into, func(a, b model.NamedText) int { return strings.Compare(a.Name, b.Name) })
	}
}

func (p *fileParser) suspended(id string, into *model.Suspension) func(*node) {
	return func(n *node) {
		into.Pos = p.pos(n)
		p.mapping(n, "suspended of user "+id, keys{"since": p.day(&into.Since), "because": p.about(&into.Because)})
		if into.Since == "" {
			p.fault(into.Pos, "user %q is suspended, and it does not say since when; write {since: 2026-11-25, because: …}", id)
		}
		if into.Because == "" {
			p.fault(into.Pos, "user %q is suspended, and it does not say why; write {since: …, because: …}", id)
		}
	}
}

func (p *fileParser) holdings(id string, into *[]model.Holding) func(*node) {
	return func(n *node) {
		p.list(n, func(item *node) {
			h := model.Holding{Ref: model.Ref{Pos: p.pos(item)}}
			switch p.plain(item).form {
			case mapping:
				p.mapping(item, "a role of user "+id, keys{"role": p.str(&h.Name), "from": p.day(&h.Span.From),
					"until": p.day(&h.Span.Until), "because": p.about(&h.Because)})
				if h.Name == "" {
					p.fault(h.Pos, "a role of user %s without its name; write {role: …}", id)
				}
			default:
				p.str(&h.Name)(item)
			}
			if h.Name != "" {
				*into = append(*into, h)
			}
		})
	}
}

func (p *fileParser) hints(n *node) map[string]model.AccountHint {
	out := map[string]model.AccountHint{}
	p.named(n, "account on target", func(target string, at model.Pos, v *node) {
		h := model.AccountHint{Pos: at}
		switch p.plain(v).form {
		case mapping:
			p.named(v, "part of a name", func(key string, at model.Pos, v *node) {
				switch key {
				case "name":
					p.str(&h.Name)(v)
					return
				case "number":
					p.number(&h.Number, 1, 1<<31-2)(v)
					return
				}
				h.Parts = append(h.Parts, p.parts(key, at, v))
			})
		default:
			var word string
			p.oneOf(&word, "none")(v)
			h.None = true
		}
		out[target] = h
	})
	return out
}

// parts reads what a part of the names of accounts is to be: one text, or several.
func (p *fileParser) parts(name string, at model.Pos, n *node) model.Parts {
	out := model.Parts{Name: name, Pos: at}
	one := func(n *node) {
		var t model.Text
		p.text(&t)(n)
		out.Values = append(out.Values, t)
	}
	if p.plain(n).form == sequence {
		p.list(n, one)
	} else {
		one(n)
	}
	if len(out.Values) == 0 {
		p.fault(at, "%s holds nothing", name)
	}
	return out
}

func (p *fileParser) group(name string, at model.Pos, n *node) {
	g := &model.Group{Name: name, Pos: at}
	p.has.groups = append(p.has.groups, g)
	var members string
	p.mapping(n, "group "+name, keys{
		"about": p.about(&g.About), "number": p.number(&g.Number, 1, 1<<31-2), "in": p.refs(&g.In),
		"owner":   p.ref(&g.Owner),
		"members": p.oneOf(&members, "exactly", "at-least"),
		"keepers": func(n *node) {
			g.Keepers = []model.Ref{} // none is declared, too
			p.refs(&g.Keepers)(n)
		},
	})
	g.AtLeast = members == "at-least"
}

func (p *fileParser) role(name string, at model.Pos, n *node) {
	r := &model.Role{Name: name, Pos: at}
	p.has.roles = append(p.has.roles, r)
	p.mapping(n, "role "+name, keys{
		"about": p.about(&r.About), "held-when": p.prose(&r.HeldWhen), "includes": p.refs(&r.Includes),
		"never-with": p.refs(&r.NeverWith), "numbers": p.numbers(&r.Numbers), "group-numbers": p.numbers(&r.GroupNumbers),
		"gives": func(n *node) { p.list(n, func(item *node) { r.Gives = append(r.Gives, p.grant(name, item)) }) },
	})
}

func (p *fileParser) grant(role string, n *node) model.Grant {
	g := model.Grant{Pos: p.pos(n)}
	what := "a grant of role " + role
	p.mapping(n, what, keys{
		"at":     func(n *node) { g.At = p.selector(n) },
		"groups": p.refs(&g.Groups),
		"account": func(n *node) {
			p.named(n, "attribute", func(name string, at model.Pos, v *node) {
				if name == "container" {
					p.fault(at, "%q in account is not yet carried out by this version; nothing is stored while it stands here", name)
					return
				}
				if p.plain(v).form == sequence {
					g.Parts = append(g.Parts, p.parts(name, at, v))
					return
				}
				t := model.Text{}
				p.text(&t)(v)
				t.Pos = at
				g.Account = append(g.Account, model.NamedText{Name: name, Text: t})
			})
		},
		"rights":   p.refs(&g.Rights),
		"licences": p.strings(&g.Licences),
		"elevate":  func(n *node) { g.Elevate = p.elevate(n) },
	})
	if g.At.Pos.Line == 0 {
		p.fault(g.Pos, "%s does not say at which targets", what)
	}
	return g
}

func (p *fileParser) selector(n *node) model.Selector {
	s := model.Selector{Pos: p.pos(n)}
	switch p.plain(n).form {
	case mapping:
		p.mapping(n, "at", keys{"kind": p.str(&s.Kind), "tags": func(n *node) { s.Tags = p.tags(n) }})
	default:
		p.str(&s.Name)(n)
	}
	return s
}

func (p *fileParser) tags(n *node) map[string]string {
	out := map[string]string{}
	p.named(n, "tag", func(name string, _ model.Pos, v *node) {
		var s string
		p.str(&s)(v)
		out[name] = s
	})
	return out
}

func (p *fileParser) target(name string, at model.Pos, n *node) {
	p.addressable("target", name, at)
	t := &model.Target{Name: name, Pos: at, Unexpected: model.ReportUnexpected, Removal: model.Removal{Home: "keep"}, Limits: DefaultLimits}
	p.has.targets = append(p.has.targets, t)
	p.mapping(n, "target "+name, keys{
		"kind": p.str(&t.Kind), "address": p.text(&t.Address),
		"login": func(n *node) {
			t.Login.Pos = p.pos(n)
			p.mapping(n, "login of "+name, keys{"as": p.text(&t.Login.As), "secret": p.str(&t.Login.Secret)})
		},
		"tags":     func(n *node) { t.Tags = p.tags(n) },
		"settings": p.texts(&t.Settings, "setting"),
		"match": func(n *node) {
			p.list(n, func(item *node) {
				var rule string
				p.oneOf(&rule, MatchRules...)(item)
				t.Match = append(t.Match, rule)
			})
		},
		"unexpected":   p.oneOf(&t.Unexpected, model.ReportUnexpected, model.DisableUnexpected, model.RemoveUnexpected),
		"after":        p.refs(&t.After),
		"via":          p.ref(&t.Via),
		"homes":        func(n *node) { p.homes(name, &t.Homes, n) },
		"dormant":      p.span(&t.Dormant),
		"unused-seats": p.span(&t.UnusedSeats),
		"removal":      func(n *node) { p.removal(name, &t.Removal, n) },
		"limits":       func(n *node) { p.limits(name, &t.Limits, n) },
		"window":       func(n *node) { p.window(name, &t.Window, n) },
		"repeat": func(n *node) {
			p.mapping(n, "repeat of "+name, keys{"survey": p.span(&t.Repeat.Survey), "reconcile": p.span(&t.Repeat.Reconcile)})
		},
		"protect": p.strings(&t.Protect),
		"lends":   p.strings(&t.Lent),
		"leaves":  p.strings(&t.Leaves),
	})
	if t.Match == nil {
		t.Match = MatchRules[:3]
	}
	for _, need := range []struct{ key, value string }{{"kind", t.Kind}, {"login", t.Login.As.Raw}} {
		if need.value == "" {
			p.fault(at, "target %q has no %s", name, need.key)
		}
	}
}
