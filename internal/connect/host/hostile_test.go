package host

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
)

// hostileHost is an ssh server that lets everybody in and has a test answer what is to be run. It is somebody else after a while
// when others are given.
func hostileHost(t *testing.T, keys int, answer func(c ssh.Channel)) connect.Access {
	var conf []*ssh.ServerConfig
	for range keys {
		signer, err := ssh.NewSignerFromKey(newKey(t))
		if err != nil {
			t.Fatal(err)
		}
		c := &ssh.ServerConfig{PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) { return nil, nil }}
		c.AddHostKey(signer)
		conf = append(conf, c)
	}
	own, err := ssh.MarshalPrivateKey(newKey(t), "")
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	address := connecttest.Listen(t, func(raw net.Conn) {
		c := conf[min(n, len(conf)-1)]
		n++
		_, chans, reqs, err := ssh.NewServerConn(raw, c)
		if err != nil {
			return
		}
		go ssh.DiscardRequests(reqs)
		for wish := range chans {
			ch, reqs, err := wish.Accept()
			if err != nil {
				return
			}
			go func() {
				for r := range reqs {
					if r.WantReply {
						_ = r.Reply(true, nil)
					}
					if r.Type == "exec" || r.Type == "shell" {
						go answer(ch)
					}
				}
			}()
		}
	})
	return connect.Access{Target: "hostile", Address: address, As: "root", Secret: pem.EncodeToMemory(own), Wait: 2 * time.Second}
}

func newKey(t *testing.T) ed25519.PrivateKey {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return key
}

func TestHostileHosts(t *testing.T) {
	own, err := ssh.MarshalPrivateKey(newKey(t), "")
	if err != nil {
		t.Fatal(err)
	}
	connecttest.Survives(t, Connector{}, connect.Access{As: "root", Secret: pem.EncodeToMemory(own)})
	for what, answer := range map[string]func(ssh.Channel){
		"floods": func(c ssh.Channel) {
			for b := []byte(strings.Repeat("A:x\n", 16<<10)); ; {
				if _, err := c.Write(b); err != nil {
					return
				}
			}
		},
		"repeats what it is told": func(c ssh.Channel) { _, _ = io.Copy(c, c) },
		"repeats the password":    func(c ssh.Channel) { fmt.Fprintf(c, "no: %s\n", connecttest.HostileSecret); c.Close() },
	} {
		t.Run(what, func(t *testing.T) {
			if what != "floods" {
				t.Parallel()
			}
			if words := connecttest.Bears(t, Connector{}, hostileHost(t, 1, answer)); words == "" {
				t.Error("it was taken for a host")
			}
		})
	}
	t.Run("is somebody else the next time", func(t *testing.T) {
		a := hostileHost(t, 2, func(c ssh.Channel) { c.Close() })
		if words := connecttest.Bears(t, Connector{}, a); !strings.Contains(words, "the identity key has changed") {
			t.Errorf("%q", words)
		}
	})
}
