package mariadb

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// way is one way in: a method of the server's, by its plugin's name, and what that keeps.
type way struct {
	Plugin string `json:"plugin"`
	Auth   string `json:"authentication_string"`
}

// ways are the ways in, in the order in which the server tries them.
func (p *priv) ways() []way {
	first := way{p.Plugin, p.Auth}
	if first.Plugin == "" {
		first.Plugin = nativePlugin
	}
	if len(p.Ways) == 0 {
		return []way{first}
	}
	out := slices.Clone(p.Ways)
	for i := range out {
		if out[i].Plugin == "" {
			out[i] = first
		}
	}
	return out
}

// open says whether a way lets in whoever knows the name.
func (w way) open() bool { return means(w.Plugin) && w.Auth == "" }

// given says whether one of the ways is a password that somebody has.
func given(ways []way) bool {
	return slices.ContainsFunc(ways, func(w way) bool { return means(w.Plugin) && w.Auth != noPassword })
}

// noneYet is the password of an account that has been given none; other plugins refuse the word.
var noneYet = way{nativePlugin, noPassword}

// byPassword is what all ways in are called that keep a password: how they keep it is the server's matter.
const byPassword = "password"

// naming are the methods of which what they keep is a name, and no secret: of the user whom the system or the network vouches
// for, or of a service.
var naming = []string{"unix_socket", "named_pipe", "pam", "gssapi"}

// String is a way as it is told and declared: password, unix_socket, unix_socket odd.strand.
func (w way) String() string {
	switch {
	case means(w.Plugin):
		return byPassword
	case w.Auth != "" && slices.Contains(naming, w.Plugin):
		return connect.Printable(w.Plugin + " " + w.Auth)
	}
	return connect.Printable(w.Plugin)
}

func toldWays(ways []way) []string {
	out := make([]string, len(ways))
	for i, w := range ways {
		out[i] = w.String()
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// canonicalWay is a way that is asked for as it is told.
func canonicalWay(v string) string {
	p, more, _ := strings.Cut(strings.TrimSpace(v), " ")
	return way{p, strings.TrimSpace(more)}.String()
}

// asked are the ways in of an account that has some and should have others: those that stay keep what they have, and a
// password that is new opens nothing until it is set.
func asked(has []way, want []string) ([]way, error) {
	if len(want) == 0 {
		return nil, fmt.Errorf("%s is empty; to shut an account, disable it", model.SignIn)
	}
	wanted := make([]string, len(want))
	for i, v := range want {
		wanted[i] = canonicalWay(v)
	}
	out := slices.DeleteFunc(slices.Clone(has), func(w way) bool { return !slices.Contains(wanted, w.String()) })
	for i, v := range wanted {
		p, more, _ := strings.Cut(strings.TrimSpace(want[i]), " ")
		switch {
		case slices.ContainsFunc(out, func(w way) bool { return w.String() == v }):
		case v == byPassword:
			out = append(out, noneYet)
		case !plugin.MatchString(p), more != "" && !slices.Contains(naming, p):
			return nil, fmt.Errorf("%s is %q; it is %s, or a method of the server's with what it needs as a name: unix_socket odd.strand",
				model.SignIn, want[i], byPassword)
		default:
			out = append(out, way{p, strings.TrimSpace(more)})
		}
	}
	return out, nil
}

// waysAfter are the ways in that an act brings about, of an account that is there or (nil) is not; nil leaves them as they are.
func (s *session) waysAfter(a connect.Act, e *entry) ([]way, error) {
	secret, has := a.Secrets[model.Password]
	if hash, kept := a.Secrets[model.PasswordKept]; kept {
		return waysOf(hash.Reveal())
	}
	var now, ways []way
	if e != nil {
		now = e.priv.ways()
	} else {
		ways = []way{noneYet}
	}
	if sets(a, model.SignIn) {
		var err error
		if ways, err = asked(now, a.After().Get(model.SignIn)); err != nil {
			return nil, err
		}
		now = ways
		if has && !slices.Contains(toldWays(ways), byPassword) {
			return nil, fmt.Errorf("it is to sign in by %s alone, and a password comes with it; declare %s of %s too, or give it none",
				strings.Join(toldWays(ways), " or "), byPassword, model.SignIn)
		}
	}
	switch {
	case has && secret.Empty():
		return nil, errors.New("a password of no letters is none")
	case has:
		return withPassword(now, s.plugin, hashed(s.plugin, secret.Reveal())), nil
	}
	return ways, nil
}

// withPassword puts a password in the place of the one that was there; other ways in stay.
func withPassword(ways []way, plugin, hash string) []way {
	out := slices.DeleteFunc(slices.Clone(ways), func(w way) bool { return means(w.Plugin) })
	return append(out, way{plugin, hash})
}

func identified(ways []way) string {
	var b strings.Builder
	for i, w := range ways {
		if i == 0 {
			b.WriteString(" IDENTIFIED VIA ")
		} else {
			b.WriteString(" OR ")
		}
		b.WriteString(name(w.Plugin))
		if w.Auth != "" {
			b.WriteString(" USING " + text(w.Auth))
		}
	}
	return b.String()
}

// plugin is what a plugin may be called.
var plugin = regexp.MustCompile(`^[a-z][a-z0-9_]{0,63}$`)

// nativeHash is a password as mysql_native_password keeps it.
var nativeHash = regexp.MustCompile(`^\*[0-9A-F]{40}$`)

// waysOf reads ways in as Keep keeps them, or a bare hash.
func waysOf(kept []byte) ([]way, error) {
	if nativeHash.Match(kept) {
		return []way{{nativePlugin, string(kept)}}, nil
	}
	var out []way
	err := json.Unmarshal(bytes.TrimSpace(kept), &out)
	if err != nil || len(out) == 0 || slices.ContainsFunc(out, func(w way) bool { return !plugin.MatchString(w.Plugin) }) {
		return nil, errors.New("that is not how this server keeps a password")
	}
	for i := range out {
		if out[i].open() { // nobody is let in without one because it was so before
			out[i].Auth = noPassword
		}
	}
	return out, nil
}
