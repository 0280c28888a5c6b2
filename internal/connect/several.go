package connect

import (
	"context"
	"errors"
	"net"
	"strings"
)

// Several opens a session with a target that is at more than one address, as a database with its replicas is: at the
// first that takes changes or, when none does, the first that answers. also is a list of the addresses beside that of the
// access, with spaces or commas between them; open opens one, and shut is where a session keeps, in words, why it takes no
// changes, "" when it does.
func Several[S Session](ctx context.Context, a Access, also string, open func(context.Context, Access) (S, error),
	shut func(S) *string) (Session, error) {
	var first Session
	var why *string
	var failed []error
	for _, address := range append([]string{a.Address}, strings.Fields(strings.ReplaceAll(also, ",", " "))...) {
		b := a
		b.Address, b.Key = address, keyAt(a.Key, address)
		s, err := open(ctx, b)
		switch {
		case err != nil:
			failed = append(failed, err)
		case *shut(s) == "":
			if first != nil {
				first.Close()
			}
			return s, nil
		case first == nil:
			first, why = s, shut(s)
		default:
			*why += "; " + *shut(s)
			s.Close()
		}
	}
	if first == nil {
		return nil, worst(failed)
	}
	for _, err := range failed {
		*why += "; " + err.Error()
	}
	return first, nil
}

// keyAt is the accepted key as a server at another address of the same target shows it: an authority's, for that name. Which
// addresses a target has was approved as the first one was.
func keyAt(key, address string) string {
	authority, _, named := strings.Cut(key, ofHost)
	host, _, err := net.SplitHostPort(address)
	if !named || err != nil {
		return key
	}
	return authority + ofHost + host
}

// worst is the error that a person should know of first: a key that nobody accepted, or else the first.
func worst(list []error) error {
	for _, err := range list {
		var k *KeyError
		if errors.As(err, &k) {
			return err
		}
	}
	return list[0]
}
