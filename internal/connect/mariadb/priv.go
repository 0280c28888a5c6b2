package mariadb

import (
	"bytes"
	"encoding/json"
	"strconv"
)

// priv is what stands in its column of that name; the server fills in nothing that is as usual.
type priv struct {
	Access   uint64 `json:"access"`
	Plugin   string `json:"plugin"`
	Auth     string `json:"authentication_string"`
	Ways     []way  `json:"auth_or"` // where there are several; the one without a plugin stands for Plugin and Auth
	Locked   bool   `json:"account_locked"`
	Changed  *int64 `json:"password_last_changed"` // 0: expired
	Lifetime *int64 `json:"password_lifetime"`     // days; 0: never ends, -1: as the server says
	TLS      int    `json:"ssl_type"`
	Subject  string `json:"x509_subject"`
	Issuer   string `json:"x509_issuer"`
	Cipher   string `json:"ssl_cipher"`
	Queries  uint64 `json:"max_questions"`
	Updates  uint64 `json:"max_updates"`
	SignIns  uint64 `json:"max_connections"`
	Sessions int64  `json:"max_user_connections"`
	Default  string `json:"default_role"`
	Role     bool   `json:"is_role"`
}

// read reads the column. Nearly all of them are one flat object of short words and whole numbers, which is read here in a
// fifth of the time; anything else is left to the standard library.
func (p *priv) read(b []byte) error {
	if !p.flat(b) {
		*p = priv{}
		return json.Unmarshal(b, p)
	}
	return nil
}

const space = " \t\r\n" // RFC 8259 §2

// flat reads a flat object; false when it is not one, or has in it what is not known here.
func (p *priv) flat(b []byte) bool {
	b = bytes.Trim(b, space)
	if len(b) < 2 || b[0] != '{' || b[len(b)-1] != '}' {
		return false
	}
	for b = b[1 : len(b)-1]; len(b) > 0; {
		key, rest, ok := word(b)
		if !ok || len(rest) == 0 || rest[0] != ':' {
			return false
		}
		rest = bytes.TrimLeft(rest[1:], space)
		value := rest
		if len(rest) > 0 && rest[0] == '"' {
			value, rest, ok = word(rest)
			ok = ok && p.text(string(key), value)
		} else {
			end := bytes.IndexByte(rest, ',')
			if end < 0 {
				end = len(rest)
			}
			value, rest = rest[:end], rest[end:]
			ok = p.number(string(key), value)
		}
		if !ok || len(rest) == 1 || len(rest) > 0 && rest[0] != ',' {
			return false
		}
		if b = rest; len(rest) > 0 {
			b = bytes.TrimLeft(rest[1:], space)
		}
	}
	return true
}

// word is a string in quotes without escapes, and what follows it.
func word(b []byte) (in, rest []byte, ok bool) {
	if len(b) == 0 || b[0] != '"' {
		return nil, nil, false
	}
	for i, c := range b[1:] {
		switch {
		case c == '"':
			return b[1 : i+1], b[i+2:], true
		case c == '\\' || c < 0x20 || c >= 0x7f:
			return nil, nil, false
		}
	}
	return nil, nil, false
}

func (p *priv) text(key string, value []byte) bool {
	for _, f := range []struct {
		key  string
		into *string
	}{{"plugin", &p.Plugin}, {"authentication_string", &p.Auth}, {"default_role", &p.Default}} {
		if f.key == key {
			*f.into = string(value)
			return true
		}
	}
	return false
}

func (p *priv) number(key string, value []byte) bool {
	if len(value) == 0 || value[0] < '0' || value[0] > '9' || value[0] == '0' && len(value) > 1 {
		return false
	}
	n, err := strconv.ParseUint(string(value), 10, 63)
	if err != nil {
		return false
	}
	switch key {
	case "access":
		p.Access = n
	case "password_last_changed":
		at := int64(n)
		p.Changed = &at
	case "version_id":
	default:
		return false
	}
	return true
}
