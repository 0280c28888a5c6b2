package dialect

import (
	"bufio"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
)

// Systems that mean no good, by each of the company's dialects; and a router that repeats the password that it refuses.
func TestHostileSystems(t *testing.T) {
	files, err := filepath.Glob("../../../demo/dialects/*.yaml")
	if err != nil || len(files) == 0 {
		t.Fatal(err)
	}
	for _, f := range files {
		if strings.Contains(f, ".recording.") {
			continue
		}
		text, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		c, err := Learn(f, text)
		if err != nil {
			t.Fatal(err)
		}
		t.Run(c.File.Kind, func(t *testing.T) {
			connecttest.Survives(t, c, connect.Access{As: "roost"})
			if c.File.Reach.Over != "tcp" {
				return
			}
			address := connecttest.Listen(t, func(conn net.Conn) {
				in := bufio.NewReader(conn)
				said := ""
				for _, ask := range []string{"login: ", "password: ", "user: ", "word: "} {
					fmt.Fprint(conn, ask)
					_ = conn.SetReadDeadline(time.Now().Add(300 * time.Millisecond))
					line, _ := in.ReadString('\n')
					said += strings.TrimSpace(line) + " "
				}
				fmt.Fprintf(conn, "\r\nrefused: %s and %s\r\nbridge# ", said, connecttest.HostileSecret)
			})
			words := connecttest.Bears(t, c, connect.Access{Target: "hostile", As: "roost", Address: address, Wait: time.Second,
				Secret: []byte(connecttest.HostileSecret)})
			if words == "" {
				t.Error("it was taken for a router")
			}
		})
	}
}
