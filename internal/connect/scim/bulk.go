package scim

import (
	"context"
	"encoding/json"
	"errors"
	"strings"

	"hen-roost/internal/connect"
	protocol "hen-roost/internal/scim"
)

// flush sends what waits in requests of many (RFC 7644 §3.7), of as many as the server takes. One may name what another makes.
func (b *batch) flush(ctx context.Context) {
	var now []*call
	var ops []protocol.Request
	bytes, most := 0, b.config.Bulk.Bytes
	if most <= 0 {
		most = 1 << 20
	}
	for _, c := range b.waiting {
		op, err := b.operation(c)
		if err != nil {
			for _, i := range c.acts {
				b.Trouble[i] = err
			}
			continue
		}
		if len(ops) == b.config.Bulk.Operations || bytes+len(op.Data)+300 > most && len(ops) > 0 {
			b.many(ctx, now, ops)
			now, ops, bytes = nil, nil, 0
			if op, err = b.operation(c); err != nil { // what it names has been made by now
				for _, i := range c.acts {
					b.Trouble[i] = err
				}
				continue
			}
		}
		now, ops, bytes = append(now, c), append(ops, op), bytes+len(op.Data)+300
	}
	b.many(ctx, now, ops)
	b.waiting, b.frees = nil, false
}

// operation is a call as one of many.
func (b *batch) operation(c *call) (protocol.Request, error) {
	method, path, body, version, err := b.request(c)
	if err != nil {
		return protocol.Request{}, err
	}
	op := protocol.Request{Method: method, Path: path, Version: version, ID: name(b.Acts[c.acts[0]], c.acts[0])}
	if body != nil {
		op.Data = text(body)
	}
	return op, nil
}

// many sends requests as one, and hears what became of each.
func (b *batch) many(ctx context.Context, calls []*call, ops []protocol.Request) {
	if len(ops) == 0 || b.Lost != nil {
		return
	}
	var got protocol.Answers
	err := b.ask(ctx, "POST", "/Bulk", protocol.Bulk{Schemas: []string{protocol.BulkMessage}, Operations: ops}, "", &got)
	var lost *lostError
	var e *protocol.Error
	switch {
	case errors.As(err, &lost):
		b.Lost = err
		return
	case errors.As(err, &e) && e.Status == 413 && len(ops) > 1: // it takes less than it says
		half := len(ops) / 2
		b.many(ctx, calls[:half], ops[:half])
		for i, c := range calls[half:] {
			if op, err := b.operation(c); err == nil {
				ops[half+i] = op
			}
		}
		b.many(ctx, calls[half:], ops[half:])
		return
	case err != nil:
		for _, c := range calls {
			for _, i := range c.acts {
				b.Trouble[i] = err
			}
		}
		return
	}
	byID := map[string]*protocol.Answer{}
	for i := range got.Operations {
		if a := &got.Operations[i]; a.ID != "" {
			byID[a.ID] = a
		}
	}
	for i, c := range calls {
		a := byID[ops[i].ID]
		if a == nil && i < len(got.Operations) && got.Operations[i].ID == "" && got.Operations[i].Method == ops[i].Method {
			a = &got.Operations[i]
		}
		b.heard(ctx, c, a)
	}
}

// heard notes what became of one of many.
func (b *batch) heard(ctx context.Context, c *call, a *protocol.Answer) {
	switch {
	case a == nil || a.Status == 0:
		for _, i := range c.acts {
			b.Trouble[i] = errors.New("the server's answer to many requests says nothing of this one")
		}
		delete(b.ids, c.of)
	case a.Status >= 400 && len(c.acts) > 1:
		b.apart(ctx, c)
	case a.Status >= 400:
		var raw json.RawMessage = a.Response
		e := refusal(int(a.Status), raw)
		for _, i := range c.acts {
			b.Trouble[i] = e
		}
		delete(b.ids, c.of)
	default:
		id := a.Location[strings.LastIndexByte(a.Location, '/')+1:]
		if c.method == "POST" {
			if b.ids[c.of] = connect.Printable(id); id == "" {
				delete(b.ids, c.of)
			}
		}
		if known := b.id(c.of); known != "" {
			b.versions[known] = a.Version
		}
	}
}
