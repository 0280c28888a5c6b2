package mariadb

import "strings"

// A session's sql_mode holds ANSI_QUOTES and NO_BACKSLASH_ESCAPES (see open), so that a quote is ended by a quote alone.

// name quotes an identifier.
func name(s string) string { return `"` + strings.ReplaceAll(s, `"`, `""`) + `"` }

// text quotes a literal.
func text(s string) string { return `'` + strings.ReplaceAll(s, `'`, `''`) + `'` }

// texts are literals with commas between them.
func texts(list []string) string {
	var b strings.Builder
	for i, s := range list {
		if i > 0 {
			b.WriteByte(',')
		}
		b.WriteString(text(s))
	}
	return b.String()
}

// account writes an account's name for a statement.
func account(name string) string {
	login, origin := parts(name)
	return text(login) + "@" + text(origin)
}

// parts takes an account's name apart.
func parts(name string) (login, origin string) { return schema.Account().Login(name) }
