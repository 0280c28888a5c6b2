package postgres

import (
	"context"
	"regexp"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// kept is a password as the server keeps it; anything else it would take for the password itself.
var kept = regexp.MustCompile(`^(SCRAM-SHA-256\$[0-9]{1,9}:[A-Za-z0-9+/=]+\$[A-Za-z0-9+/=]+:[A-Za-z0-9+/=]+|md5[0-9a-f]{32})$`)

// Keep implements connect.Offers. It looks into every database.
func (s *session) Keep(ctx context.Context, accounts []string) (map[string]connect.Kept, error) {
	fail := func(err error) (map[string]connect.Kept, error) {
		return nil, s.fail("read what makes accounts again", said(err))
	}
	_, databases, err := s.itself(ctx)
	if err != nil {
		return fail(err)
	}
	st, err := s.read(ctx, &wanted{roles: accounts, all: accounts, grantees: accounts}, databases)
	if err != nil {
		return fail(err)
	}
	rows, err := s.ask(ctx, s.home, "SELECT rolname, COALESCE(rolpassword, '') FROM pg_authid WHERE rolname = ANY("+nameList(accounts)+")")
	if err != nil || len(rows) != 1 {
		return fail(err)
	}
	out := map[string]connect.Kept{}
	for _, row := range rows[0] {
		r := st.roles[row[0]]
		if r == nil {
			continue
		}
		var k connect.Kept
		for name, values := range st.object(row[0], r).Attributes.All() {
			if a, _ := schema.Find(model.Account, name); a.Settable || name == model.Disabled {
				k.Changes = append(k.Changes, model.Change{Attribute: name, After: values})
			}
		}
		if row[1] != "" {
			k.Hash = connect.Seal([]byte(row[1]))
		}
		var rights []string
		for h := range st.has {
			switch {
			case h.who != row[0]:
			case h.kind == model.GroupKind:
				k.Sets = append(k.Sets, model.Named{Kind: h.kind, Name: h.what})
			case h.kind == model.RightKind && !st.all[h.what]:
				rights = append(rights, h.what)
			}
		}
		for _, p := range (&model.Spelling{Covers: dialect.Covers}).Least(rights) {
			k.Sets = append(k.Sets, model.Named{Kind: model.RightKind, Name: p})
		}
		out[row[0]] = k
	}
	return out, nil
}
