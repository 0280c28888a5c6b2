package postgres

import (
	"crypto/tls"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
)

// hostile is a server that lets everybody in and answers every query as a test has it. It hears what is asked.
func hostile(t *testing.T, answer func(b *pgproto3.Backend, asked string) error) connect.Access {
	conf := connecttest.Certified(t)
	address := connecttest.Listen(t, func(c net.Conn) {
		b := make([]byte, 8)
		if _, err := c.Read(b); err != nil { // the wish for TLS
			return
		}
		_, _ = c.Write([]byte("S"))
		s := tls.Server(c, conf)
		back := pgproto3.NewBackend(s, s)
		if _, err := back.ReceiveStartupMessage(); err != nil {
			return
		}
		back.Send(&pgproto3.AuthenticationCleartextPassword{})
		if back.Flush() != nil {
			return
		}
		m, err := back.Receive()
		if err != nil {
			return
		}
		heard := ""
		if p, ok := m.(*pgproto3.PasswordMessage); ok {
			heard = p.Password
		}
		back.Send(&pgproto3.AuthenticationOk{})
		back.Send(&pgproto3.ReadyForQuery{TxStatus: 'I'})
		for back.Flush() == nil {
			m, err := back.Receive()
			if err != nil {
				return
			}
			if q, ok := m.(*pgproto3.Query); ok && answer(back, heard+" "+q.String) != nil {
				return
			}
		}
	})
	return connect.Access{Target: "hostile", Address: address, As: "roost",
		Secret: []byte(connecttest.HostileSecret), Wait: 2 * time.Second}
}

func TestHostile(t *testing.T) {
	connecttest.Survives(t, Connector{}, connect.Access{As: "roost"})
	row := func(b *pgproto3.Backend, values ...string) {
		d := &pgproto3.DataRow{}
		f := &pgproto3.RowDescription{}
		for _, v := range values {
			d.Values = append(d.Values, []byte(v))
			f.Fields = append(f.Fields, pgproto3.FieldDescription{Name: []byte("x")})
		}
		b.Send(f)
		b.Send(d)
	}
	is := func(b *pgproto3.Backend) {
		row(b, "roost", "150004", "f", "off", "on")
		b.Send(&pgproto3.CommandComplete{CommandTag: []byte("SELECT 1")})
		b.Send(&pgproto3.ReadyForQuery{TxStatus: 'I'})
	}
	for what, c := range map[string]struct {
		answer func(b *pgproto3.Backend, asked string) error
		want   string
	}{
		"rows without end": {func(b *pgproto3.Backend, asked string) error {
			if strings.Contains(asked, "current_user") {
				is(b)
				return nil
			}
			row(b, strings.Repeat("r", 1000))
			for {
				b.Send(&pgproto3.DataRow{Values: [][]byte{[]byte(strings.Repeat("r", 30_000))}})
				if err := b.Flush(); err != nil {
					return err
				}
			}
		}, "more than 96 MB in one session"},
		"one row that is huge": {func(b *pgproto3.Backend, asked string) error {
			row(b, strings.Repeat("r", 60<<20))
			return b.Flush()
		}, ""},
		"repeats the password": {func(b *pgproto3.Backend, asked string) error {
			b.Send(&pgproto3.ErrorResponse{Severity: "ERROR", Code: "42501", Message: "no: " + asked, Detail: asked})
			b.Send(&pgproto3.ReadyForQuery{TxStatus: 'I'})
			return nil
		}, "(sealed)"},
		"asks for a file": {func(b *pgproto3.Backend, asked string) error {
			b.Send(&pgproto3.CopyInResponse{})
			return b.Flush()
		}, ""},
	} {
		t.Run(what, func(t *testing.T) {
			if words := connecttest.Bears(t, Connector{}, hostile(t, c.answer)); words == "" || !strings.Contains(words, c.want) {
				t.Errorf("%q", words)
			}
		})
	}
}
