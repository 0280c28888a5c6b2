package dialect

import (
	"fmt"
	"regexp"
	"strings"
)

// plainWord is what needs no quotes where a file says nothing of it.
var plainWord = regexp.MustCompile(`^[A-Za-z0-9_.@:/+][A-Za-z0-9_.@:/+-]*$`)

// Word makes a value one word of what is typed, or says why it cannot be one. Control characters never can: what ends a line
// would begin another.
func (q Quote) Word(value string) (string, error) {
	for _, c := range value {
		if c < ' ' || c == 0x7f || c >= 0x80 && c < 0xa0 || c == 0xfffd || c == 0x2028 || c == 0x2029 {
			return "", fmt.Errorf("%q has a character in it that cannot be typed", value)
		}
	}
	if q.Only.Set() && !q.Only.MatchString(value) {
		return "", fmt.Errorf("%q cannot be said to such a system (quote: only)", value)
	}
	plain := plainWord
	if q.Plain.Set() {
		plain = q.Plain.Regexp
	}
	if q.Rule == "never" || plain.MatchString(value) && value != "" {
		return value, nil
	}
	switch q.Rule {
	case "double":
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(value) + `"`, nil
	case "doubled":
		return `"` + strings.ReplaceAll(value, `"`, `""`) + `"`, nil
	default: // shell
		return "'" + strings.ReplaceAll(value, "'", `'\''`) + "'", nil
	}
}

// Words takes a line apart as a system with such quotes does: what Word made one word is one again.
func (q Quote) Words(line string) (out []string) {
	if q.Rule == "never" {
		return strings.Fields(line)
	}
	word, in, quote := "", false, byte(0)
	end := func() {
		if in {
			out = append(out, word)
		}
		word, in = "", false
	}
	for i := 0; i < len(line); i++ {
		c := line[i]
		switch {
		case quote == 0 && c == ' ':
			end()
		case q.Rule == "shell" && quote == 0 && c == '\\' && i+1 < len(line):
			i++
			word, in = word+line[i:i+1], true
		case quote == 0 && (c == '"' && q.Rule != "shell" || c == '\'' && q.Rule == "shell"):
			quote, in = c, true
		case quote != 0 && q.Rule == "double" && c == '\\' && i+1 < len(line):
			i++
			word += line[i : i+1]
		case quote != 0 && q.Rule == "doubled" && c == '"' && i+1 < len(line) && line[i+1] == '"':
			i++
			word += `"`
		case quote != 0 && c == quote:
			quote = 0
		default:
			word, in = word+line[i:i+1], true
		}
	}
	end()
	return out
}
