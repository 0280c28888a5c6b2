package ldap

import (
	"bytes"
	"errors"
	"fmt"

	"golang.org/x/crypto/cryptobyte"
	"golang.org/x/crypto/cryptobyte/asn1"

	"hen-roost/internal/connect"
)

// Content synchronisation (RFC 4533), the refresh stage alone: what changed since
// a cookie, with the ids of what is gone. A directory that can only tell what is
// still there (the present phase) would have to tell of everything, so that a
// whole survey is as good.

const (
	syncRequest = "1.3.6.1.4.1.4203.1.9.1.1"
	syncState   = "1.3.6.1.4.1.4203.1.9.1.2"
	syncDone    = "1.3.6.1.4.1.4203.1.9.1.3"
	syncInfo    = "1.3.6.1.4.1.4203.1.9.1.4"

	tagIntermediate = asn1.Tag(0x79)
	refreshOnly     = 1
	refreshRequired = 4096 // e-syncRefreshRequired

	statePresent = 0
	stateDelete  = 3

	cookieMost  = 16 << 10  // bytes: a longer one is not kept
	goneMost    = 1_000_000 // ids of one answer
	changedMost = 200_000   // entries of one answer: beyond, a whole survey is no slower
)

// refresh is what changed below a place.
type refresh struct {
	changed []*entry
	gone    []string // ids, as entryUUID is written
	cookie  []byte   // as it came: it need not be text
}

// since asks what changed. Without a cookie the answer to a filter that nothing
// fits is the cookie alone. A cookie that is worth nothing is connect.ErrVoid.
func (w *wire) since(q query, cookie []byte) (*refresh, error) {
	q.controls = func(b *cryptobyte.Builder) { askSync(b, cookie) }
	if err := w.send(func(b *cryptobyte.Builder) { q.encode(b, "") }); err != nil {
		return nil, err
	}
	out := &refresh{}
	for {
		tag, op, controls, err := w.receive()
		if err != nil {
			return nil, err
		}
		switch tag {
		case tagEntry:
			err = out.entry(w, op, controls)
		case tagIntermediate:
			err = out.info(op)
		case tagReference:
		case tagSearchDone:
			if err := result(op); err != nil {
				return nil, void(err)
			}
			if err := out.done(controls, cookie); err != nil {
				return nil, err
			}
			return out, nil
		default:
			err = fmt.Errorf("the directory sent an unasked message (tag %d)", tag)
		}
		if len(out.changed) > changedMost || len(out.gone) > goneMost {
			err = connect.ErrVoid
		}
		if err != nil {
			return nil, err // the rest of the answer is passed over by its number
		}
	}
}

// void turns a refusal to go on from a cookie into connect.ErrVoid.
func void(err error) error {
	var code *codeError
	if errors.As(err, &code) {
		return fmt.Errorf("%w: %w", connect.ErrVoid, err)
	}
	return err
}

// askSync writes the Sync Request Control (RFC 4533 §2.2).
func askSync(b *cryptobyte.Builder, cookie []byte) {
	octets(b, syncRequest)
	b.AddASN1Boolean(true)
	b.AddASN1(asn1.OCTET_STRING, func(b *cryptobyte.Builder) {
		b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddASN1Enum(refreshOnly)
			if len(cookie) > 0 {
				octets(b, string(cookie))
			}
		})
	})
}

// entry takes an entry with its Sync State Control (§2.3).
func (r *refresh) entry(w *wire, op, controls cryptobyte.String) error {
	var body, id cryptobyte.String
	var state int
	value := controlOf(controls, syncState)
	if !value.ReadASN1(&body, asn1.SEQUENCE) || !body.ReadASN1Enum(&state) || !body.ReadASN1(&id, asn1.OCTET_STRING) {
		return connect.ErrVoid // it does not synchronise
	}
	switch state {
	case statePresent:
		return connect.ErrVoid
	case stateDelete:
		return r.lose(id)
	}
	e, err := w.entry(op)
	if err == nil {
		r.changed = append(r.changed, e)
	}
	return err
}

// info takes a Sync Info Message (§2.5): of those only a set of deleted ids says anything here.
func (r *refresh) info(op cryptobyte.String) error {
	var name, value, body, ids cryptobyte.String
	var tag asn1.Tag
	if !op.ReadASN1(&name, asn1.Tag(0).ContextSpecific()) || string(name) != syncInfo ||
		!op.ReadASN1(&value, asn1.Tag(1).ContextSpecific()) {
		return nil
	}
	if !value.ReadAnyASN1(&body, &tag) {
		return errors.New("the directory sent a synchronisation message that cannot be read")
	}
	switch tag {
	case asn1.Tag(2).Constructed().ContextSpecific(): // refreshPresent
		return connect.ErrVoid
	case asn1.Tag(3).Constructed().ContextSpecific(): // syncIdSet
		body.SkipOptionalASN1(asn1.OCTET_STRING)
		deletes, ok := yes(&body)
		if !ok || !body.ReadASN1(&ids, asn1.SET) {
			return errors.New("the directory sent a set of ids that cannot be read")
		}
		if !deletes {
			return connect.ErrVoid
		}
		for !ids.Empty() {
			var id cryptobyte.String
			if !ids.ReadASN1(&id, asn1.OCTET_STRING) {
				return errNoID
			}
			if err := r.lose(id); err != nil {
				return err
			}
		}
	}
	return nil
}

// done takes the Sync Done Control (§2.4). An answer that goes on from a cookie
// must have told of deletions, unless nothing has changed since: else all that it
// did not tell of is gone.
func (r *refresh) done(controls cryptobyte.String, from []byte) error {
	var body, cookie cryptobyte.String
	value := controlOf(controls, syncDone)
	if !value.ReadASN1(&body, asn1.SEQUENCE) {
		return connect.ErrVoid
	}
	if body.PeekASN1Tag(asn1.OCTET_STRING) && !body.ReadASN1(&cookie, asn1.OCTET_STRING) {
		return errors.New("the directory sent a cookie that cannot be read")
	}
	deletes, ok := yes(&body)
	if !ok {
		return errors.New("the directory ended a synchronisation in a way that cannot be read")
	}
	if r.cookie = bytes.Clone(cookie); len(r.cookie) == 0 {
		r.cookie = from
	}
	if len(from) > 0 && !deletes && !bytes.Equal(r.cookie, from) {
		return connect.ErrVoid
	}
	return nil
}

// yes reads a BOOLEAN that is FALSE where it is left out; BER lets TRUE be anything but zero.
func yes(s *cryptobyte.String) (value, ok bool) {
	if !s.PeekASN1Tag(asn1.BOOLEAN) {
		return false, true
	}
	var b cryptobyte.String
	ok = s.ReadASN1(&b, asn1.BOOLEAN) && len(b) == 1
	return ok && b[0] != 0, ok
}

// controlOf finds the value of a control in a message's controls.
func controlOf(controls cryptobyte.String, want string) cryptobyte.String {
	for !controls.Empty() {
		var one, oid, value cryptobyte.String
		if !controls.ReadASN1(&one, asn1.SEQUENCE) || !one.ReadASN1(&oid, asn1.OCTET_STRING) {
			return nil
		}
		one.SkipOptionalASN1(asn1.BOOLEAN)
		if string(oid) == want && one.ReadASN1(&value, asn1.OCTET_STRING) {
			return value
		}
	}
	return nil
}

var errNoID = errors.New("the directory sent an id that cannot be read")

// lose takes the id of an entry that is gone, and writes it as entryUUID has it (RFC 4530).
func (r *refresh) lose(b []byte) error {
	if len(b) != 16 {
		return errNoID
	}
	r.gone = append(r.gone, fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:]))
	return nil
}
