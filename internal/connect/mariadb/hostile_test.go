package mariadb

import (
	"crypto/tls"
	"encoding/binary"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
)

// packet writes one packet of the protocol.
func packet(c io.Writer, seq byte, body []byte) error {
	head := []byte{byte(len(body)), byte(len(body) >> 8), byte(len(body) >> 16), seq}
	_, err := c.Write(append(head, body...))
	return err
}

func receive(c io.Reader) (seq byte, body []byte, err error) {
	head := make([]byte, 4)
	if _, err = io.ReadFull(c, head); err != nil {
		return 0, nil, err
	}
	body = make([]byte, int(head[0])|int(head[1])<<8|int(head[2])<<16)
	_, err = io.ReadFull(c, body)
	return head[3], body, err
}

// hostile is a server that lets everybody in and answers every statement as a test has it.
func hostile(t *testing.T, plugin string, answer func(c io.ReadWriter, seq byte, asked string) error) connect.Access {
	conf := connecttest.Certified(t)
	address := connecttest.Listen(t, func(c net.Conn) {
		hello := append([]byte{10}, "10.11.6-MariaDB\x00"...)
		hello = append(hello, 1, 0, 0, 0)
		hello = append(hello, "12345678\x00"...)
		const flags = 1<<9 | 1<<11 | 1<<15 | 1<<19 | 1<<7 | 1 // 4.1, TLS, secure, plugins, local files
		hello = binary.LittleEndian.AppendUint16(hello, uint16(flags&0xffff))
		hello = append(hello, 45, 2, 0)
		hello = binary.LittleEndian.AppendUint16(hello, uint16(flags>>16))
		hello = append(hello, 21)
		hello = append(hello, make([]byte, 10)...)
		hello = append(hello, "123456789012\x00"+plugin+"\x00"...)
		if packet(c, 0, hello) != nil {
			return
		}
		if _, _, err := receive(c); err != nil { // the wish for TLS
			return
		}
		s := tls.Server(c, conf)
		seq, _, err := receive(s)
		if err != nil || packet(s, seq+1, []byte{0, 0, 0, 2, 0, 0, 0}) != nil {
			return
		}
		for {
			seq, body, err := receive(s)
			if err != nil || len(body) == 0 || answer(s, seq, string(body[1:])) != nil {
				return
			}
		}
	})
	return connect.Access{Target: "hostile", Address: address, As: "roost",
		Secret: []byte(connecttest.HostileSecret), Wait: 2 * time.Second}
}

func TestHostile(t *testing.T) {
	connecttest.Survives(t, Connector{}, connect.Access{As: "roost"})
	fine := []byte{0, 0, 0, 2, 0, 0, 0}
	for what, c := range map[string]struct {
		answer func(c io.ReadWriter, seq byte, asked string) error
		want   string
	}{
		"asks for a file": {func(c io.ReadWriter, seq byte, asked string) error {
			if err := packet(c, seq+1, append([]byte{0xfb}, "/etc/passwd"...)); err != nil {
				return err
			}
			for {
				_, body, err := receive(c)
				if err != nil || len(body) == 0 {
					return err
				}
				if strings.Contains(string(body), "root:") {
					t.Errorf("a file of ours was sent: %.40s", body)
				}
			}
		}, "/etc/passwd"},
		"asks for what this process loads": {func(c io.ReadWriter, seq byte, asked string) error {
			return packet(c, seq+1, append([]byte{0xfb}, "Reader::rows-1"...))
		}, "not registered"},
		"rows without end": {func(c io.ReadWriter, seq byte, asked string) error {
			if strings.HasPrefix(asked, "SET") {
				return packet(c, seq+1, fine)
			}
			column := append([]byte("\x03def\x00\x00\x00\x01x\x00\x0c\x2d\x00\xff\xff\xff\xff\xfd\x00\x00\x00"), 0, 0)
			for i, p := range [][]byte{{1}, column, {0xfe, 0, 0, 2, 0}} {
				if err := packet(c, seq+1+byte(i), p); err != nil {
					return err
				}
			}
			text := strings.Repeat("r", 60_000)
			body := append([]byte{0xfc, byte(len(text)), byte(len(text) >> 8)}, text...)
			for at := seq + 4; ; at++ {
				if err := packet(c, at, body); err != nil {
					return err
				}
			}
		}, ""},
		"repeats the password": {func(c io.ReadWriter, seq byte, asked string) error {
			return packet(c, seq+1, append([]byte{0xff, 0x28, 0x04, '#', '4', '2', '0', '0', '0'},
				"no: "+connecttest.HostileSecret+" and "+asked...))
		}, "(sealed)"},
	} {
		t.Run(what, func(t *testing.T) {
			a := hostile(t, "mysql_native_password", c.answer)
			if words := connecttest.Bears(t, Connector{}, a); words == "" || !strings.Contains(words, c.want) {
				t.Errorf("%q", words)
			}
		})
	}
	t.Run("wants the password in clear", func(t *testing.T) {
		a := hostile(t, "mysql_clear_password", func(io.ReadWriter, byte, string) error { return io.EOF })
		if words := connecttest.Bears(t, Connector{}, a); words == "" {
			t.Error("it was handed over")
		}
	})
}
