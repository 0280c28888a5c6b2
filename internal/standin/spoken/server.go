// Package spoken has made-up systems that are run by typing at them, each with a command language of its own that resembles no
// real one: a harbour's switch with a candidate, trials and a history; an old bridge's router without any of these; a publishing
// application; a crewing system that takes jobs. They enforce who may sign in and do what for real, keep their state on disk, and
// have switches for their own trouble.
package spoken

import (
	"bufio"
	"bytes"
	"crypto/ed25519"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"
)

// Language is what a system understands. Server asks one thing at a time of it.
type Language interface {
	SignIn(login, password string) bool
	Open(login, from string) Speaker
}

// Speaker is one conversation.
type Speaker interface {
	Greeting() string
	Prompt() string
	// Say carries out a line and returns the lines of the answer. ask asks for something that is not shown. more says whether
	// long answers wait in the middle.
	Say(line string, ask func(prompt string) string) (answer []string, more bool)
	// Left says whether whoever spoke has gone.
	Left() bool
	Close()
}

// Trouble is what goes wrong.
type Trouble struct {
	CutAfter int           // the connection is cut at that point: before a line is carried out and after it are one each; 0: never
	Lie      int           // lines that are answered as if they were done, and are not
	Endless  bool          // answers have no end
	Slow     time.Duration // before each answer
}

// Server serves a language.
type Server struct {
	Address string
	lang    Language
	l       net.Listener
	config  *ssh.ServerConfig // nil: plain TCP, which asks for login and password itself
	mu      sync.Mutex        // held while something is carried out
	trouble Trouble
	tmu     sync.Mutex
	points  int
	Lines   atomic.Int64 // that were typed
	// Typed, if set before anybody comes, is told all that is typed in conversations, which are counted from 1.
	Typed func(conversation int, text string)
	n     atomic.Int64
	going sync.WaitGroup
	open  sync.Map
}

// Serve listens at an address, over SSH with a host key that is kept in a file, or where that is "" over plain TCP.
func Serve(l Language, address, keyFile string) (*Server, error) {
	s := &Server{lang: l}
	if g, ok := l.(interface{ Guard(func(func())) }); ok {
		g.Guard(func(do func()) {
			s.mu.Lock()
			defer s.mu.Unlock()
			do()
		})
	}
	if keyFile != "" {
		signer, err := hostKey(keyFile)
		if err != nil {
			return nil, err
		}
		s.config = &ssh.ServerConfig{PasswordCallback: func(c ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
			s.mu.Lock()
			defer s.mu.Unlock()
			if !l.SignIn(c.User(), string(password)) {
				return nil, errors.New("refused")
			}
			return nil, nil
		}}
		if keys, ok := l.(interface{ Keys(login string) []string }); ok {
			s.config.PublicKeyCallback = func(c ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
				s.mu.Lock()
				defer s.mu.Unlock()
				for _, line := range keys.Keys(c.User()) {
					if k, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line)); err == nil && bytes.Equal(k.Marshal(), key.Marshal()) {
						return nil, nil
					}
				}
				return nil, errors.New("refused")
			}
		}
		s.config.AddHostKey(signer)
	}
	var err error
	if s.l, err = net.Listen("tcp", address); err != nil {
		return nil, err
	}
	s.Address = s.l.Addr().String()
	s.going.Go(func() {
		for {
			c, err := s.l.Accept()
			if err != nil {
				return
			}
			s.open.Store(c, true)
			s.going.Go(func() {
				defer func() { c.Close(); s.open.Delete(c) }()
				if s.config != nil {
					s.overSSH(c)
				} else {
					s.plain(c)
				}
			})
		}
	})
	return s, nil
}

// Stop ends it, and all conversations.
func (s *Server) Stop() {
	s.l.Close()
	s.open.Range(func(c, _ any) bool { c.(net.Conn).Close(); return true })
	s.going.Wait()
}

// Set has something go wrong from now on.
func (s *Server) Set(t Trouble) {
	s.tmu.Lock()
	defer s.tmu.Unlock()
	s.trouble, s.points = t, 0
}

// cut says whether this is the point at which the connection is cut.
func (s *Server) cut() bool {
	s.tmu.Lock()
	defer s.tmu.Unlock()
	s.points++
	return s.trouble.CutAfter != 0 && s.points == s.trouble.CutAfter
}

// Points are those at which connections could have been cut since something was last set.
func (s *Server) Points() int {
	s.tmu.Lock()
	defer s.tmu.Unlock()
	return s.points
}

func (s *Server) now() Trouble {
	s.tmu.Lock()
	defer s.tmu.Unlock()
	return s.trouble
}

func (s *Server) lies() bool {
	s.tmu.Lock()
	defer s.tmu.Unlock()
	if s.trouble.Lie == 0 {
		return false
	}
	s.trouble.Lie--
	return true
}

func hostKey(file string) (ssh.Signer, error) {
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		_, key, err := ed25519.GenerateKey(nil)
		if err != nil {
			return nil, err
		}
		block, err := ssh.MarshalPrivateKey(key, "")
		if err != nil {
			return nil, err
		}
		text = pem.EncodeToMemory(block)
		if err := os.WriteFile(file, text, 0o600); err != nil {
			return nil, err
		}
	} else if err != nil {
		return nil, err
	}
	return ssh.ParsePrivateKey(text)
}

func (s *Server) overSSH(c net.Conn) {
	conn, channels, requests, err := ssh.NewServerConn(c, s.config)
	if err != nil {
		return
	}
	defer conn.Close()
	go ssh.DiscardRequests(requests)
	var wg sync.WaitGroup
	for ch := range channels {
		if ch.ChannelType() != "session" {
			_ = ch.Reject(ssh.UnknownChannelType, "sessions only")
			continue
		}
		channel, requests, err := ch.Accept()
		if err != nil {
			break
		}
		wg.Go(func() {
			defer channel.Close()
			for r := range requests {
				switch r.Type {
				case "shell":
					_ = r.Reply(true, nil)
					s.talk(channel, c, conn.User())
					return
				case "exec":
					var x struct{ Command string }
					_ = ssh.Unmarshal(r.Payload, &x)
					_ = r.Reply(true, nil)
					s.exec(channel, c, conn.User(), x.Command)
					return
				case "pty-req":
					_ = r.Reply(true, nil)
				default:
					_ = r.Reply(false, nil)
				}
			}
		})
	}
	wg.Wait()
}

// exec carries out one line; what it asks stands on standard input, a line each.
func (s *Server) exec(ch ssh.Channel, c net.Conn, login, line string) {
	s.Lines.Add(1)
	if s.cut() {
		c.Close()
		return
	}
	in := bufio.NewReader(ch)
	time.Sleep(s.now().Slow)
	s.mu.Lock()
	sp := s.lang.Open(login, c.RemoteAddr().String())
	defer sp.Close()
	var answer []string
	if s.lies() {
		answer = nil
	} else {
		answer, _ = sp.Say(line, func(string) string {
			text, _ := in.ReadString('\n')
			return strings.TrimRight(text, "\r\n")
		})
	}
	s.mu.Unlock()
	if s.cut() {
		c.Close()
		return
	}
	status := uint32(0)
	for _, l := range answer {
		if strings.HasPrefix(l, "?? ") {
			status = 1
		}
		fmt.Fprintln(ch, l)
	}
	_, _ = ch.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{status}))
}

// plain is a terminal line that asks who is there.
func (s *Server) plain(c net.Conn) {
	in := bufio.NewReader(c)
	for range 3 {
		fmt.Fprint(c, "login: ")
		login, err := line(in)
		if err != nil {
			return
		}
		fmt.Fprint(c, login+"\r\npassword: ")
		password, err := line(in)
		if err != nil {
			return
		}
		s.mu.Lock()
		ok := s.lang.SignIn(login, password)
		s.mu.Unlock()
		if ok {
			fmt.Fprint(c, "\r\n")
			s.speak(in, c, c, login)
			return
		}
		fmt.Fprint(c, "\r\nwho are you?\r\n")
	}
}

func line(in *bufio.Reader) (string, error) {
	text, err := in.ReadString('\n')
	return strings.TrimRight(text, "\r\n"), err
}

func (s *Server) talk(ch io.ReadWriter, c net.Conn, login string) {
	s.speak(bufio.NewReader(ch), ch, c, login)
}

const (
	width    = 80 // of its terminals: longer lines that are typed are shown in several
	pageLong = 12 // lines of a page
)

// speak holds a conversation.
func (s *Server) speak(in *bufio.Reader, out io.Writer, c net.Conn, login string) {
	number := int(s.n.Add(1))
	typed := func(text string) {
		if s.Typed != nil {
			s.Typed(number, text)
		}
	}
	s.mu.Lock()
	sp := s.lang.Open(login, c.RemoteAddr().String())
	fmt.Fprint(out, "\r\n"+strings.ReplaceAll(sp.Greeting(), "\n", "\r\n")+"\r\n")
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		sp.Close()
		s.mu.Unlock()
	}()
	for {
		s.mu.Lock()
		prompt, left := sp.Prompt(), sp.Left()
		s.mu.Unlock()
		if left {
			return
		}
		fmt.Fprint(out, prompt)
		said, err := line(in)
		if err != nil {
			return
		}
		typed(said)
		s.Lines.Add(1)
		room := width - len(prompt)
		for rest := said; ; room = width { // the echo
			n := min(room, len(rest))
			fmt.Fprint(out, rest[:n]+"\r\n")
			if rest = rest[n:]; rest == "" {
				break
			}
		}
		if s.cut() {
			c.Close()
			return
		}
		time.Sleep(s.now().Slow)
		var answer []string
		more := false
		if !s.lies() || said == "" {
			s.mu.Lock()
			answer, more = sp.Say(said, func(prompt string) string {
				s.mu.Unlock()
				defer s.mu.Lock()
				fmt.Fprint(out, prompt)
				text, _ := line(in)
				typed(text)
				fmt.Fprint(out, "\r\n")
				return text
			})
			s.mu.Unlock()
		}
		if s.cut() {
			c.Close()
			return
		}
		if !s.tell(in, out, answer, more) {
			return
		}
	}
}

// tell writes an answer, a page at a time where it waits in the middle; false when nobody listens any more.
func (s *Server) tell(in *bufio.Reader, out io.Writer, answer []string, more bool) bool {
	for i := 0; i < len(answer) || s.now().Endless; i++ {
		if more && i > 0 && i%pageLong == 0 {
			hint := fmt.Sprintf("-- %d of %d, space goes on --", i, len(answer))
			fmt.Fprint(out, hint)
			if c, err := in.ReadByte(); err != nil || c != ' ' {
				return err == nil
			}
			fmt.Fprint(out, "\r\x1b[K")
		}
		text := "and so on"
		if i < len(answer) {
			text = answer[i]
		}
		if _, err := fmt.Fprint(out, text+"\r\n"); err != nil {
			return false
		}
	}
	return true
}

// words takes a line apart: blanks divide, " holds together, \ takes the next character as it is.
func words(line string) (out []string) {
	word, in, quoted := "", false, false
	for i := 0; i < len(line); i++ {
		switch c := line[i]; {
		case c == '\\' && quoted && i+1 < len(line):
			i++
			word += line[i : i+1]
		case c == '"':
			quoted, in = !quoted, true
		case c == ' ' && !quoted:
			if in {
				out = append(out, word)
			}
			word, in = "", false
		default:
			word, in = word+line[i:i+1], true
		}
	}
	if in {
		out = append(out, word)
	}
	return out
}
