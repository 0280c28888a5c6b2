package declare

import (
	"regexp"
	"strings"

	"hen-roost/internal/core/model"
)

// What is wrong with users, alone and beside each other.

// claims faults an account that can be nobody's, or not this user's.
func (c *checker) claims(u *model.User, t *model.Target, h model.AccountHint) {
	schema := c.schemas[t.Kind]
	shield := model.Shield{Target: t, Fold: schema.FoldNames, System: schema.SystemNames}
	if !strings.Contains(t.Login.As.Raw, "${") {
		shield.Login = t.Login.As.Raw
	}
	if why, shut := shield.Protects(h.Name); shut {
		c.lately(h.Pos, "the account %q on %s can be nobody's: %s", h.Name, t.Name, why)
	} else if shield.Lends(h.Name) && !u.Service {
		c.lately(h.Pos, "the account %q on %s is lent to service identities, and user %q is none (service: true)", h.Name, t.Name, u.ID)
	}
}

func (c *checker) user(u *model.User) {
	for _, x := range [...]model.NamedText{{Name: "name", Text: u.Name}, {Name: "given", Text: u.Given}, {Name: "family", Text: u.Family},
		{Name: "mail", Text: u.Mail}} {
		c.template(x.Text)
		c.edged(x.Text, x.Name)
	}
	for _, x := range u.Details {
		c.template(x.Text)
	}
	for _, key := range u.Keys {
		c.template(key)
		if !strings.Contains(key.Raw, "${") && !looksLikeKey(key.Raw) {
			c.fault(key.Pos, "a key is one line of the form \"ssh-ed25519 AAAA… comment\", with options before it as "+
				"from=\"10.0.0.0/8\" if need be")
		}
	}
	if u.Span.From != "" && u.Span.Until != "" && u.Span.From > u.Span.Until {
		c.fault(u.Pos, "user %q starts on %s, after the end on %s", u.ID, u.Span.From, u.Span.Until)
	}
	c.holdings(u)
	for _, target := range sorted(u.Accounts) {
		h := u.Accounts[target]
		if !known(c, "target", model.Ref{Name: target, Pos: h.Pos}, c.d.Targets) {
			continue
		}
		if h.Name != "" {
			c.fits(h.Pos, model.Account, h.Name, []*model.Target{c.d.Targets[target]})
			c.claims(u, c.d.Targets[target], h)
		}
		for _, p := range h.Parts {
			c.nameParts(p, []*model.Target{c.d.Targets[target]})
		}
	}
	if u.Manager.Name != "" {
		if known(c, "user", u.Manager, c.d.Users) && u.Manager.Name == u.ID {
			c.fault(u.Manager.Pos, "user %q is their own manager", u.ID)
		}
	}
}

// holdings checks the roles a user is given by name: known, in a span that can
// be, none twice on one day, none that nobody may hold beside another.
func (c *checker) holdings(u *model.User) {
	for i, h := range u.Roles {
		if !known(c, "role", h.Ref, c.d.Roles) {
			continue
		}
		if c.d.Roles[h.Name].HeldWhen.Raw != "" {
			c.fault(h.Pos, "role %q is held by condition (held-when) and cannot be given by name", h.Name)
		}
		if h.Span.From != "" && h.Span.Until != "" && h.Span.From > h.Span.Until {
			c.fault(h.Pos, "role %q of user %q starts on %s, after its end on %s", h.Name, u.ID, h.Span.From, h.Span.Until)
		}
		for _, other := range u.Roles[:i] {
			if !h.Span.Meets(other.Span) {
				continue
			}
			if h.Name == other.Name {
				c.fault(h.Pos, "user %q is given role %q twice for the same days, first on line %d", u.ID, h.Name,
					c.d.Locate(other.Pos).Line)
			} else if a, b, ok := c.clash(h.Name, other.Name); ok {
				c.fault(h.Pos, "user %q would hold %s beside %s, which nobody may (never-with)", u.ID, through(a, h.Name),
					through(b, other.Name))
			}
		}
	}
}

func through(role, given string) string {
	if role == given {
		return "role " + role
	}
	return "role " + role + " (through " + given + ")"
}

// looksLikeKey checks the shape of a line of authorized keys (RFC 4253 §6.6 in the one-line form), with options before
// the key as sshd(8) has them: they bound what the key is good for.
func looksLikeKey(s string) bool {
	if strings.ContainsAny(s, "\n\r\x00") {
		return false
	}
	s = strings.TrimSpace(s)
	if m := keyOptions.FindString(s); m != "" {
		s = s[len(m):]
	}
	f := strings.Fields(s)
	return len(f) > 1 && keyKind.MatchString(f[0]) && keyBody.MatchString(f[1])
}

var (
	// keyOptions are a list of them: from="10.0.0.0/8,192.0.2.7",restrict,pty and a space.
	keyOptions = regexp.MustCompile(`^(?:(?:from|expiry-time|command|permitopen|permitlisten)="(?:[^"\\]|\\.)*"|restrict|pty|` +
		`(?:no-)?(?:agent|port|X11)-forwarding|no-pty|no-user-rc|user-rc|verify-required)` +
		`(?:,(?:(?:from|expiry-time|command|permitopen|permitlisten)="(?:[^"\\]|\\.)*"|restrict|pty|` +
		`(?:no-)?(?:agent|port|X11)-forwarding|no-pty|no-user-rc|user-rc|verify-required))*[ \t]+`)
	keyKind = regexp.MustCompile(`^(ssh|ecdsa|sk)-[a-z0-9@.-]+$`)
	keyBody = regexp.MustCompile(`^AAAA[A-Za-z0-9+/]+=*$`)
)

// numbers faults two users, or two groups, with one number.
func (c *checker) numbers(ids []string) {
	users, groups := make(map[int]*model.User, len(ids)), map[int]*model.Group{}
	for _, id := range ids {
		u := c.d.Users[id]
		if u.Number == 0 {
			continue
		}
		if first, ok := users[u.Number]; ok {
			c.faultOf([]string{id, first.ID}, u.Pos, "user %q and %s have the same number %d", id, c.describe("user", first), u.Number)
			continue
		}
		users[u.Number] = u
	}
	for _, name := range sorted(c.d.Groups) {
		g := c.d.Groups[name]
		if first, ok := groups[g.Number]; ok && g.Number != 0 {
			c.fault(g.Pos, "group %q and %s have the same number %d", name, c.describe("group", first), g.Number)
			continue
		}
		groups[g.Number] = g
	}
}

// localNames faults one account name for two users on one target.
func (c *checker) localNames(ids []string) {
	type place struct{ target, name string }
	given := map[place]*model.User{}
	for _, id := range ids {
		u := c.d.Users[id]
		if len(u.Accounts) == 0 {
			continue
		}
		for _, target := range sorted(u.Accounts) {
			h := u.Accounts[target]
			if h.Name == "" {
				continue
			}
			at := place{target, h.Name}
			if first, ok := given[at]; ok {
				c.faultOf([]string{id, first.ID}, h.Pos,
					"account %q on %s is given to %q and to %s", h.Name, target, id, c.describe("user", first))
				continue
			}
			given[at] = u
			if other, ok := c.d.Users[h.Name]; ok && other != u && other.Accounts[target].Name == "" && !other.Accounts[target].None {
				c.faultOf([]string{id, other.ID}, h.Pos,
					"account %q on %s is given to %q but is the name of %s", h.Name, target, id, c.describe("user", other))
			}
		}
	}
}
