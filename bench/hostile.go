package main

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"

	"github.com/jackc/pgx/v5/pgproto3"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/serve"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/seen"
)

// How much memory the service takes beside targets that say more than anybody can keep: an application whose pages have no end, a
// database whose rows have none. They are in a process of their own. The aim is 600 MB for each.

const hostileMost = 600 // MB

// hostileFor is that process: it tells its addresses, and ends with its standard input.
func hostileFor() error {
	n := atomic.Int64{}
	app := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch path := r.URL.Path[strings.LastIndexByte(r.URL.Path, '/')+1:]; path {
		case "ServiceProviderConfig":
			fmt.Fprint(w, `{"filter":{"supported":true},"pagination":{"index":true}}`)
		case "ResourceTypes":
			fmt.Fprint(w, `{"Resources":[{"name":"User","endpoint":"/Users","schema":"urn:ietf:params:scim:schemas:core:2.0:User"}]}`)
		case "Users":
			fmt.Fprint(w, `{"totalResults":100000000,"Resources":[`)
			for i := range 500 {
				id := n.Add(1)
				fmt.Fprintf(w, `%s{"id":"%d","userName":"u%d","displayName":"%s"}`, map[bool]string{true: ","}[i > 0], id, id,
					strings.Repeat("x", 300))
			}
			fmt.Fprint(w, `]}`)
		default:
			fmt.Fprint(w, `{"totalResults":0,"Resources":[]}`)
		}
	}))
	defer app.Close()
	db, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	go func() {
		for {
			c, err := db.Accept()
			if err != nil {
				return
			}
			go endlessRows(c, app.TLS)
		}
	}()
	fmt.Println(app.Listener.Addr(), db.Addr())
	_, _ = io.Copy(io.Discard, os.Stdin)
	return db.Close()
}

// endlessRows lets everybody in, says what it is when asked first, and then rows for ever.
func endlessRows(c net.Conn, conf *tls.Config) {
	defer c.Close()
	if _, err := c.Read(make([]byte, 8)); err != nil {
		return
	}
	_, _ = c.Write([]byte("S"))
	s := tls.Server(c, &tls.Config{Certificates: conf.Certificates})
	b := pgproto3.NewBackend(s, s)
	if _, err := b.ReceiveStartupMessage(); err != nil {
		return
	}
	b.Send(&pgproto3.AuthenticationOk{})
	b.Send(&pgproto3.ReadyForQuery{TxStatus: 'I'})
	rows := func(values ...string) {
		f, d := &pgproto3.RowDescription{}, &pgproto3.DataRow{}
		for _, v := range values {
			f.Fields = append(f.Fields, pgproto3.FieldDescription{Name: []byte("x")})
			d.Values = append(d.Values, []byte(v))
		}
		b.Send(f)
		b.Send(d)
	}
	for b.Flush() == nil {
		m, err := b.Receive()
		if err != nil {
			return
		}
		q, ok := m.(*pgproto3.Query)
		switch {
		case !ok:
		case strings.Contains(q.String, "current_user"):
			rows("hen-roost", "150004", "f", "off", "on")
			b.Send(&pgproto3.CommandComplete{CommandTag: []byte("SELECT 1")})
			b.Send(&pgproto3.ReadyForQuery{TxStatus: 'I'})
		default:
			for i := 0; ; i++ {
				name := fmt.Sprintf("role-%d", i)
				if i == 0 {
					rows("1", name, "t", "t", "-1", "", "scram", "f", "f", "f", "f", "f")
				} else {
					b.Send(&pgproto3.DataRow{Values: [][]byte{[]byte(fmt.Sprint(i)), []byte(name), []byte("t"), []byte("t"),
						[]byte("-1"), nil,
						[]byte("scram"), []byte("f"), []byte("f"), []byte("f"), []byte("f"), []byte("f")}})
				}
				if i%1000 == 0 && b.Flush() != nil {
					return
				}
			}
		}
	}
}

// hostileMemory is how much this process holds at the most while the service in it surveys one of them, in MB.
func hostileMemory(kind string) func(context.Context, *workbench) (float64, float64, error) {
	return func(ctx context.Context, w *workbench) (float64, float64, error) {
		own, err := os.Executable()
		if err != nil {
			return 0, 0, err
		}
		cmd := exec.CommandContext(ctx, own, "--hostile")
		in, err1 := cmd.StdinPipe()
		out, err2 := cmd.StdoutPipe()
		if err := errors.Join(err1, err2, cmd.Start()); err != nil {
			return 0, 0, err
		}
		w.later(func() { in.Close(); _ = cmd.Wait() })
		lines := bufio.NewScanner(out)
		if !lines.Scan() {
			return 0, 0, errors.New("the hostile servers did not start")
		}
		app, db, _ := strings.Cut(lines.Text(), " ")
		s, err := serve.Start(ctx, serve.Config{Listen: "127.0.0.1:0", Data: filepath.Join(w.dir, "hostile-"+kind),
			Log: slog.New(slog.DiscardHandler)})
		if err != nil {
			return 0, 0, err
		}
		w.later(s.Close)
		alive, end := context.WithCancel(ctx)
		defer end()
		go serve.Tidy(alive)
		address := map[string]string{"application": app, "postgres": db}[kind]
		text := fmt.Sprintf("roost: 1\ntargets: {hostile: {kind: %s, address: %q, login: {as: hen-roost, secret: s}}}\n", kind, address)
		if _, err := s.Service.Declare(ctx, door.Itself, []declare.File{{Name: "t.yaml", Text: text}}, "bench"); err != nil {
			return 0, 0, err
		}
		if err := s.Service.SetSecret(ctx, door.Itself, "s", []byte("a-secret-of-ours")); err != nil {
			return 0, 0, err
		}
		got, err := s.Service.Survey(ctx, door.Itself, nil, nil)
		if err != nil {
			return 0, 0, err
		}
		if err := s.Service.AcceptKey(ctx, door.Itself, "hostile", got[0].Print); err != nil {
			return 0, 0, err
		}
		_ = peakOf("self") // what was most so far counts no more
		if got, err = s.Service.Survey(ctx, door.Itself, nil, nil); err != nil {
			return 0, 0, err
		}
		if got[0].State == seen.Surveyed {
			return 0, 0, fmt.Errorf("it was read whole: %+v", got[0])
		}
		fmt.Fprintf(os.Stderr, "%s: %s after %d ms\n", kind, got[0].Words, got[0].TookMS)
		return peakOf("self"), hostileMost, nil
	}
}
