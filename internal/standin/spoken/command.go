package spoken

import (
	"bufio"
	"fmt"
	"io"
	"strings"
)

// Command is one command of a language, run as a program on the host on which the system is: its arguments are words, what it asks
// is answered from standard input, and a failure is its status. as is whoever it takes the one who runs it for.
func Command(l Language, as string, args []string, in io.Reader, out io.Writer) (status int) {
	s := l.Open(as, "here")
	defer s.Close()
	said := make([]string, len(args))
	for i, a := range args {
		said[i] = `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(a) + `"`
	}
	lines := bufio.NewScanner(in)
	answer, _ := s.Say(strings.Join(said, " "), func(string) string {
		lines.Scan()
		return lines.Text()
	})
	for _, line := range answer {
		fmt.Fprintln(out, line)
		if strings.HasPrefix(line, "??") {
			status = 1
		}
	}
	return status
}
