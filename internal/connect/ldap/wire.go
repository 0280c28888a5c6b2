package ldap

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net"
	"time"

	"golang.org/x/crypto/cryptobyte"
	"golang.org/x/crypto/cryptobyte/asn1"

	"hen-roost/internal/connect"
)

// A reader of LDAP of our own: bind and paged search, nothing else. LDAP uses
// definite lengths only (RFC 4511 §5.1), so each message is read whole, bounded,
// and taken apart without copying more than the values kept.

const maxMessage = 64 << 20 // of one message: a group with 500,000 members is half of it

// Tags of RFC 4511 §4.
const (
	tagBindRequest  = asn1.Tag(0x60)
	tagBindResponse = asn1.Tag(0x61)
	tagSearch       = asn1.Tag(0x63)
	tagEntry        = asn1.Tag(0x64)
	tagSearchDone   = asn1.Tag(0x65)
	tagReference    = asn1.Tag(0x73)
	tagControls     = asn1.Tag(0xa0)
)

const pagedResults = "1.2.840.113556.1.4.319" // RFC 2696

// entry is one entry of a search's answer.
type entry struct {
	dn         string
	attributes []wireAttribute
}

type wireAttribute struct {
	name   string
	values []string
}

func (e *entry) get(name string) []string {
	for i := range e.attributes {
		if e.attributes[i].name == name {
			return e.attributes[i].values
		}
	}
	return nil
}

func (e *entry) one(name string) string {
	if v := e.get(name); len(v) > 0 {
		return v[0]
	}
	return ""
}

// codeError is a result other than success (RFC 4511 §4.1.9).
type codeError struct {
	code int
	text string
}

func (e *codeError) Error() string {
	return fmt.Sprintf("LDAP result %d: %s", e.code, connect.Printable(e.text))
}

type wire struct {
	conn  net.Conn
	in    *bufio.Reader
	id    int64
	wait  time.Duration
	names map[string]string // attribute names seen, so that each is kept once
	buf   []byte
}

func newWire(c net.Conn, wait time.Duration) *wire {
	return &wire{conn: c, in: bufio.NewReaderSize(c, 64<<10), wait: wait, names: map[string]string{}}
}

func (w *wire) send(build func(b *cryptobyte.Builder)) error {
	w.id++
	var b cryptobyte.Builder
	b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1Int64(w.id)
		build(b)
	})
	msg, err := b.Bytes()
	if err != nil {
		return err
	}
	_ = w.conn.SetDeadline(time.Now().Add(w.wait))
	_, err = w.conn.Write(msg)
	return err
}

// receive returns the operation and controls of the next message of ours. The
// bytes are valid until the next call.
func (w *wire) receive() (tag asn1.Tag, op, controls cryptobyte.String, err error) {
	for {
		_ = w.conn.SetDeadline(time.Now().Add(w.wait))
		msg, err := w.message()
		if err != nil {
			return 0, nil, nil, err
		}
		var id int64
		body := cryptobyte.String(msg)
		if !body.ReadASN1Integer(&id) || !body.ReadAnyASN1(&op, &tag) {
			return 0, nil, nil, errors.New("the directory sent a message that is not LDAP")
		}
		if id == 0 {
			return 0, nil, nil, errors.New("the directory ended the connection (notice of disconnection)")
		}
		if id != w.id {
			continue // late answer to a search given up
		}
		body.ReadOptionalASN1(&controls, nil, tagControls)
		return tag, op, controls, nil
	}
}

// message reads the contents of one LDAPMessage.
func (w *wire) message() ([]byte, error) {
	head, err := w.in.Peek(2)
	if err != nil {
		return nil, err
	}
	if head[0] != byte(asn1.SEQUENCE) {
		return nil, errors.New("the directory sent something that is not LDAP")
	}
	size, skip := int(head[1]), 2
	if size >= 0x80 {
		n := size & 0x7f
		if n == 0 || n > 4 {
			return nil, errors.New("the directory sent a message of impossible length")
		}
		if head, err = w.in.Peek(2 + n); err != nil {
			return nil, err
		}
		size = 0
		for _, c := range head[2:] {
			size = size<<8 | int(c)
		}
		skip += n
	}
	if size < 0 || size > maxMessage {
		return nil, fmt.Errorf("the directory sent a message of %d bytes; the most is %d", size, maxMessage)
	}
	if _, err := w.in.Discard(skip); err != nil {
		return nil, err
	}
	if cap(w.buf) < size {
		w.buf = make([]byte, size)
	}
	w.buf = w.buf[:size]
	_, err = io.ReadFull(w.in, w.buf)
	return w.buf, err
}

// result reads an LDAPResult.
func result(op cryptobyte.String) error {
	var code int
	var dn, text cryptobyte.String
	if !op.ReadASN1Enum(&code) || !op.ReadASN1(&dn, asn1.OCTET_STRING) || !op.ReadASN1(&text, asn1.OCTET_STRING) {
		return errors.New("the directory sent a result that cannot be read")
	}
	if code != 0 {
		return &codeError{code, string(text)}
	}
	return nil
}

func octets(b *cryptobyte.Builder, s string) {
	b.AddASN1(asn1.OCTET_STRING, func(b *cryptobyte.Builder) { b.AddBytes([]byte(s)) })
}

// bind signs in with a name and a password (RFC 4511 §4.2).
func (w *wire) bind(dn string, password []byte) error {
	err := w.send(func(b *cryptobyte.Builder) {
		b.AddASN1(tagBindRequest, func(b *cryptobyte.Builder) {
			b.AddASN1Int64(3)
			octets(b, dn)
			b.AddASN1(asn1.Tag(0x80), func(b *cryptobyte.Builder) { b.AddBytes(password) })
		})
	})
	if err != nil {
		return err
	}
	tag, op, _, err := w.receive()
	if err != nil {
		return err
	}
	if tag != tagBindResponse {
		return errors.New("the directory answered something else than a bind")
	}
	return result(op)
}

const (
	maxEntries = 5_000_000 // of one search
	maxEmpty   = 100       // pages beyond those that the entries fill
)

// query is one search. Filter is in its encoded form.
type query struct {
	base       string
	filter     []byte
	attributes []string
	page       int                       // entries at once
	alone      bool                      // the base entry alone, not the subtree
	controls   func(*cryptobyte.Builder) // one, in place of paging
}

// search hands every entry on. An error of each ends the search; the
// connection is then of no more use.
func (w *wire) search(q query, each func(*entry) error) error {
	cookie, entries := "", 0
	first, before := "", "" // entries of this page, and of the one before
	counted := func(e *entry) error {
		if first == "" {
			first = e.dn
		}
		if entries++; entries > maxEntries {
			return fmt.Errorf("the directory holds more than %d entries below %s, the most that is read", maxEntries, q.base)
		}
		return each(e)
	}
	for pages := 0; ; pages++ {
		if pages > entries/q.page+maxEmpty {
			return fmt.Errorf("the directory sent %d pages with %d entries and did not come to an end", pages, entries)
		}
		if err := w.send(func(b *cryptobyte.Builder) { q.encode(b, cookie) }); err != nil {
			return err
		}
		first = ""
		next, err := w.page(counted)
		if err != nil {
			return err
		}
		if first != "" && first == before {
			return fmt.Errorf("the directory gives the page that begins with %s again and again", connect.Printable(first))
		}
		before = first
		if next == "" {
			return nil
		}
		cookie = next
	}
}

func (q query) encode(b *cryptobyte.Builder, cookie string) {
	b.AddASN1(tagSearch, func(b *cryptobyte.Builder) {
		octets(b, q.base)
		b.AddASN1Enum(map[bool]int64{true: 0, false: 2}[q.alone]) // baseObject or wholeSubtree
		b.AddASN1Enum(0)                                          // never follow aliases
		b.AddASN1Int64(0)
		b.AddASN1Int64(0)
		b.AddASN1Boolean(false)
		b.AddBytes(q.filter)
		b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
			for _, a := range q.attributes {
				octets(b, a)
			}
		})
	})
	if q.alone {
		return // what tells of the directory itself may know of no controls
	}
	b.AddASN1(tagControls, func(b *cryptobyte.Builder) {
		b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
			if q.controls != nil {
				q.controls(b)
				return
			}
			octets(b, pagedResults)
			b.AddASN1Boolean(true)
			b.AddASN1(asn1.OCTET_STRING, func(b *cryptobyte.Builder) {
				b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
					b.AddASN1Int64(int64(q.page))
					octets(b, cookie)
				})
			})
		})
	})
}

// page reads one page's entries and returns the cookie of the next, "" after the last.
func (w *wire) page(each func(*entry) error) (string, error) {
	for {
		tag, op, controls, err := w.receive()
		if err != nil {
			return "", err
		}
		switch tag {
		case tagEntry:
			e, err := w.entry(op)
			if err != nil {
				return "", err
			}
			if err := each(e); err != nil {
				return "", err
			}
		case tagReference: // other servers' parts are other targets
		case tagSearchDone:
			if err := result(op); err != nil {
				return "", err
			}
			return cookieOf(controls), nil
		default:
			return "", fmt.Errorf("the directory sent an unasked message (tag %d)", tag)
		}
	}
}

func (w *wire) entry(op cryptobyte.String) (*entry, error) {
	bad := errors.New("the directory sent an entry that cannot be read")
	var dn, list cryptobyte.String
	if !op.ReadASN1(&dn, asn1.OCTET_STRING) || !op.ReadASN1(&list, asn1.SEQUENCE) {
		return nil, bad
	}
	e := &entry{dn: string(dn), attributes: make([]wireAttribute, 0, 12)}
	for !list.Empty() {
		var one, name, values cryptobyte.String
		if !list.ReadASN1(&one, asn1.SEQUENCE) || !one.ReadASN1(&name, asn1.OCTET_STRING) || !one.ReadASN1(&values, asn1.SET) {
			return nil, bad
		}
		a := wireAttribute{name: w.intern(name)}
		for !values.Empty() {
			var v cryptobyte.String
			if !values.ReadASN1(&v, asn1.OCTET_STRING) {
				return nil, bad
			}
			a.values = append(a.values, string(v))
		}
		e.attributes = append(e.attributes, a)
	}
	return e, nil
}

// intern keeps one copy of each attribute name. A hostile server cannot fill it.
func (w *wire) intern(name []byte) string {
	if s, ok := w.names[string(name)]; ok {
		return s
	}
	s := string(name)
	if len(w.names) < 1000 {
		w.names[s] = s
	}
	return s
}

// cookieOf finds the cookie of the next page in a message's controls.
func cookieOf(controls cryptobyte.String) string {
	var inner, cookie cryptobyte.String
	var size int64
	value := controlOf(controls, pagedResults)
	if value.ReadASN1(&inner, asn1.SEQUENCE) && inner.ReadASN1Integer(&size) && inner.ReadASN1(&cookie, asn1.OCTET_STRING) {
		return string(cookie)
	}
	return ""
}
