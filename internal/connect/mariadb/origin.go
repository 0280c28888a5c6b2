package mariadb

import (
	"cmp"
	"net/netip"
	"strings"
)

// fits says whether a sign-in from a host, as the server tells it, is within an account's origin: the same name or
// address, a network, or a pattern in which % is any text and _ any character; letter case does not matter.
func fits(origin, host string) bool {
	if origin == "" || origin == everywhere || strings.EqualFold(origin, host) {
		return true
	}
	if ip, mask, ok := network(origin); ok {
		a, err := netip.ParseAddr(host)
		if err != nil || !a.Is4() {
			return false
		}
		got := a.As4()
		for i := range got {
			if got[i]&mask[i] != ip[i] {
				return false
			}
		}
		return true
	}
	return like(strings.ToLower(origin), strings.ToLower(host))
}

// network reads an origin such as 10.1.0.0/255.255.0.0.
func network(origin string) (ip, mask [4]byte, ok bool) {
	a, m, has := strings.Cut(origin, "/")
	if !has {
		return ip, mask, false
	}
	x, err1 := netip.ParseAddr(a)
	y, err2 := netip.ParseAddr(m)
	if err1 != nil || err2 != nil || !x.Is4() || !y.Is4() {
		return ip, mask, false
	}
	return x.As4(), y.As4(), true
}

// like matches a pattern with %, _ and \ before one that means itself, in time that grows with their product at worst.
func like(pattern, s string) bool {
	p, rest, at, again := 0, 0, -1, 0
	for rest < len(s) {
		switch {
		case p < len(pattern) && pattern[p] == '%':
			at, again = p, rest
			p++
		case p < len(pattern) && (pattern[p] == '_' || pattern[p] == s[rest]):
			p++
			rest++
		case at >= 0:
			again++
			p, rest = at+1, again
		default:
			return false
		}
	}
	return strings.Trim(pattern[p:], "%") == ""
}

// closer orders accounts as the server does at a sign-in: the closer origin first, and of origins that are as close a login
// before nobody's. Negative: a comes before b. Of two patterns that tie in how much they ask for it is not told by whom
// the server goes; usual ones, with % at the end, do not tie.
func closer(a, b string) int {
	la, oa := parts(a)
	lb, ob := parts(b)
	kindA, muchA := closeness(oa)
	kindB, muchB := closeness(ob)
	return cmp.Or(cmp.Compare(kindB, kindA), lessIf(kindA == pattern, cmp.Compare(muchB, muchA)), nobody(la)-nobody(lb),
		cmp.Compare(muchB, muchA), cmp.Compare(a, b))
}

func lessIf(counts bool, by int) int {
	if counts {
		return by
	}
	return 0
}

func nobody(login string) int {
	if login == "" {
		return 1
	}
	return 0
}

// What an origin can be, the closer the higher.
const (
	pattern = iota
	net4
	whole
)

// closeness is what an origin is, and how much it asks for: of a pattern how long a name must be at least, of a network
// its mask.
func closeness(origin string) (kind, much int) {
	if _, mask, ok := network(origin); ok {
		return net4, int(mask[0])<<24 | int(mask[1])<<16 | int(mask[2])<<8 | int(mask[3])
	}
	if many := strings.Count(origin, "%"); many > 0 || strings.Contains(origin, "_") || origin == "" {
		return pattern, len(origin) - many
	}
	return whole, 0
}

// answering is the account of a list that answers when a login signs in from a host; "" for none.
func answering(accounts []string, login, host string) string {
	best := ""
	for _, a := range accounts {
		l, origin := parts(a)
		if (l == login || l == "") && fits(origin, host) && (best == "" || closer(a, best) < 0) {
			best = a
		}
	}
	return best
}
