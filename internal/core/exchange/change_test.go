package exchange_test

import (
	"fmt"
	"strings"
	"testing"

	"hen-roost/internal/core/exchange"
)

func TestReadChanges(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"columns in any order", "what,because,User,target\ndisable,left,marit.fell,*\n", "2 marit.fell * disable"},
		{"quotes, accents and a mark at the beginning",
			"\ufeffuser,target,what\n\"Inês \"\"Nê\"\" Silva\",northquay,\"change full-name=A, B\"\n\n olav ,a,\n",
			`2 Inês "Nê" Silva northquay change full-name=A, B; 4 olav a `},
		{"a short line", "user,target,what\nmarit.fell\n", "2 marit.fell  "},
		{"nothing", "", "no line with the columns user, target, what"},
		{"another table", "name,mail\nx,y\n", `line 1 has no column "user"; it has name, mail`},
		{"half a quote", "user,target,what\n\"x,a,b\n", "parse error on line 2"},
	} {
		t.Run(c.name, func(t *testing.T) {
			list, err := exchange.ReadChanges(c.text)
			var got []string
			for _, x := range list {
				got = append(got, fmt.Sprintf("%d %s %s %s", x.Line, x.User, x.Target, x.What))
			}
			if err != nil {
				got = []string{err.Error()}
			}
			if !strings.HasPrefix(strings.Join(got, "; "), c.want) {
				t.Errorf("got  %s\nwant %s", strings.Join(got, "; "), c.want)
			}
		})
	}
}

func FuzzReadChanges(f *testing.F) {
	f.Add("user,target,what\na,b,c\n")
	f.Add("user,target,what\r\n\"a\nb\",*,leave x\r\n")
	f.Fuzz(func(t *testing.T, text string) {
		list, err := exchange.ReadChanges(text)
		if err == nil && len(list) > strings.Count(text, "\n")+1 {
			t.Errorf("%d changes in %q", len(list), text)
		}
	})
}
