package declare

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"hen-roost/internal/core/model"
)

// DefaultLimits hold for a target that declares none of its own.
var DefaultLimits = model.Limits{Remove: 5, RemoveShare: 10, Disable: 20, DisableShare: 25, FailShare: 25}

func (p *fileParser) right(name string, at model.Pos, n *node) {
	r := &model.Right{Name: name, Pos: at}
	p.has.rights = append(p.has.rights, r)
	p.mapping(n, "right "+name, keys{"at": p.selectors(&r.At), "allows": func(n *node) {
		p.list(n, func(item *node) {
			x := model.Text{Pos: p.pos(item)}
			p.str(&x.Raw)(item)
			r.Allows = append(r.Allows, x)
		})
	}})
	p.placed("right "+name, at, r.At)
	slices.SortFunc(r.Allows, func(a, b model.Text) int { return strings.Compare(a.Raw, b.Raw) })
	r.Allows = slices.CompactFunc(r.Allows, func(a, b model.Text) bool { return a.Raw == b.Raw })
}

// spelled faults permissions that the targets at which they are declared do not know.
func (c *checker) spelled(r *model.Right) {
	told := map[model.Pos]bool{}
	for _, s := range r.At {
		for _, t := range c.chosen(s) {
			schema := c.schemas[t.Kind]
			k := schema.Of(model.RightKind)
			if k == nil || k.Spelled == nil {
				continue
			}
			for _, x := range r.Allows {
				if _, err := k.Spelled.Read(x.Raw); err != nil && !told[x.Pos] {
					told[x.Pos] = true
					c.fault(x.Pos, "right %s, at %s: %v", r.Name, t.Name, err)
				}
			}
		}
	}
}

func (p *fileParser) container(name string, at model.Pos, n *node) {
	c := &model.Container{Name: name, Pos: at}
	p.has.containers = append(p.has.containers, c)
	p.mapping(n, "container "+name, keys{"at": p.selectors(&c.At), "path": p.text(&c.Path), "protected": p.yes(&c.Protected)})
	p.placed("container "+name, at, c.At)
	if c.Path.Raw == "" {
		p.fault(at, "container %q has no path", name)
	}
}

func (p *fileParser) policy(name string, at model.Pos, n *node) {
	o := &model.Policy{Name: name, Pos: at}
	p.has.policies = append(p.has.policies, o)
	what := "policy " + name
	set := func(key string, value ...string) func(*node) {
		return func(n *node) {
			o.Values = append(o.Values, model.Setting{Name: key, Values: value, Pos: p.pos(n)})
		}
	}
	number := func(key string, most int) func(*node) {
		return func(n *node) {
			var i int
			p.number(&i, 0, most)(n)
			set(key, strconv.Itoa(i))(n)
		}
	}
	// Lengths of time are kept in whole seconds, 0 for never, whatever they were written in.
	age := func(key string) func(*node) {
		return func(n *node) {
			var d time.Duration
			p.span(&d)(n)
			set(key, strconv.FormatInt(int64(d/time.Second), 10))(n)
		}
	}
	p.mapping(n, what, keys{
		"at": p.selectors(&o.At),
		"for": func(n *node) {
			p.mapping(n, "for of "+what, keys{"groups": p.refs(&o.Groups)})
		},
		"password": func(n *node) {
			p.mapping(n, "password of "+what, keys{
				"length": number("password.length", 255), "history": number("password.history", 1000),
				"complex": func(n *node) {
					var word string
					p.oneOf(&word, "off", "on")(n)
					set("password.complex", word)(n)
				},
				"min-age": age("password.min-age"), "max-age": age("password.max-age"),
			})
		},
		"lockout": func(n *node) {
			p.mapping(n, "lockout of "+what, keys{"after": number("lockout.after", 10000), "within": age("lockout.within"),
				"for": age("lockout.for")})
		},
		"words": func(n *node) {
			var words []string
			p.strings(&words)(n)
			slices.Sort(words)
			set(model.PolicyWords, slices.Compact(words)...)(n)
		},
		"screening": func(n *node) {
			var word string
			p.oneOf(&word, model.ScreenRefuse, model.ScreenWatch)(n)
			set(model.PolicyScreening, word)(n)
		},
	})
	p.placed(what, at, o.At)
	slices.SortFunc(o.Values, func(a, b model.Setting) int { return strings.Compare(a.Name, b.Name) })
}

// selectors reads one or several choices of targets.
func (p *fileParser) selectors(into *[]model.Selector) func(*node) {
	return func(n *node) {
		p.list(n, func(item *node) { *into = append(*into, p.selector(item)) })
	}
}

func (p *fileParser) placed(what string, at model.Pos, where []model.Selector) {
	if len(where) == 0 {
		p.fault(at, "%s does not say at which targets", what)
	}
}

// elevate reads what an account may do as superuser: commands, all, or none.
func (p *fileParser) elevate(n *node) []string {
	out := []string{}
	p.list(n, func(item *node) {
		var s string
		p.str(&s)(item)
		switch {
		case s == "none":
		case s == "all" || strings.HasPrefix(s, "/"):
			out = append(out, s)
		default:
			p.fault(p.pos(item), "elevate: %q is neither all, none nor a command with its whole path", s)
		}
	})
	if len(out) > 1 && slices.Contains(out, "all") {
		p.fault(p.pos(n), "elevate: all stands beside single commands; it holds them already")
	}
	slices.Sort(out)
	return slices.Compact(out)
}

func (p *fileParser) removal(target string, into *model.Removal, n *node) {
	p.mapping(n, "removal of "+target, keys{"home": p.oneOf(&into.Home, model.HomeKept, model.HomeArchived, model.HomeRemoved,
		model.HomeSealed), "keep": p.keep(&into.Keep), "retain": p.span(&into.Retain)})
}

// keep reads a length of time that may be none.
func (p *fileParser) keep(into *time.Duration) func(*node) {
	span := p.span(into)
	return func(n *node) {
		var s string
		if p.str(&s)(n); s == "0d" || s == "0" {
			*into = model.AtOnce
			return
		}
		span(n)
	}
}

// numbers reads a range, as 2000-2999.
func (p *fileParser) numbers(into *model.Range) func(*node) {
	return func(n *node) {
		var s string
		p.str(&s)(n)
		low, high, ok := strings.Cut(s, "-")
		a, err := strconv.Atoi(strings.TrimSpace(low))
		b, err2 := strconv.Atoi(strings.TrimSpace(high))
		if !ok || err != nil || err2 != nil || a < 1 || b < a || b > 1<<31-2 {
			p.fault(p.pos(n), "%q is no range of numbers; write it as 2000-2999", s)
			return
		}
		*into = model.Range{Low: a, High: b}
	}
}

func (p *fileParser) homes(target string, into *model.Homes, n *node) {
	p.mapping(n, "homes of "+target, keys{"stale": p.span(&into.Stale), "leave": p.strings(&into.Leave),
		"under": p.strings(&into.Under)})
}

func (p *fileParser) limits(target string, into *model.Limits, n *node) {
	bound := func(into *int) func(*node) {
		return func(n *node) {
			var word string
			if p.str(&word)(n); word == "none" {
				*into = -1
				return
			}
			p.number(into, 0, 1_000_000)(n)
		}
	}
	share := func(into *int) func(*node) {
		return func(n *node) {
			var word string
			if p.str(&word)(n); word == "none" {
				*into = -1
				return
			}
			p.share(into)(n)
		}
	}
	p.mapping(n, "limits of "+target, keys{
		"remove": bound(&into.Remove), "remove-share": share(&into.RemoveShare),
		"disable": bound(&into.Disable), "disable-share": share(&into.DisableShare), "fail-share": share(&into.FailShare),
	})
}

var weekdays = []string{"sunday", "monday", "tuesday", "wednesday", "thursday", "friday", "saturday"}

func (p *fileParser) window(target string, into *model.Window, n *node) {
	clock := func(into *int) func(*node) {
		return func(n *node) {
			var s string
			p.str(&s)(n)
			at, err := time.Parse("15:04", s)
			if err != nil {
				p.fault(p.pos(n), "%q is not a time of day; write it as 22:30, in UTC", s)
				return
			}
			*into = at.Hour()*60 + at.Minute()
		}
	}
	p.mapping(n, "window of "+target, keys{
		"days": func(n *node) {
			p.list(n, func(item *node) {
				var day string
				p.oneOf(&day, weekdays...)(item)
				into.Days = append(into.Days, time.Weekday(slices.Index(weekdays, day)))
			})
		},
		"from": clock(&into.From), "till": clock(&into.Till),
	})
}
