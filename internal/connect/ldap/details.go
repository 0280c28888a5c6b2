package ldap

import (
	"strings"
	"time"

	goldap "github.com/go-ldap/ldap/v3"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// details are what a directory tells of itself: in its root entry (RFC 4512
// §5.1), and where it says how it fares in the entries for that.
func (s *session) details() (model.Object, error) {
	o := model.Object{Kind: model.SystemKind, Name: model.Itself, System: true}
	put := func(name string, values ...string) {
		for i := range values {
			values[i] = connect.Printable(values[i])
		}
		if len(values) > 0 && values[0] != "" {
			o.Attributes = o.Attributes.With(name, values...)
		}
	}
	root, err := s.alone("", "vendorName", "vendorVersion", "namingContexts", "currentTime", "monitorContext")
	if err != nil || root == nil {
		return o, err
	}
	put(model.System, strings.TrimSpace(root.one("vendorName")+" "+root.one("vendorVersion")))
	put("naming-contexts", root.get("namingContexts")...)
	now := root.one("currentTime")
	if at := root.one("monitorContext"); at != "" {
		if e, err := s.alone(at, "monitoredInfo"); err == nil && e != nil {
			put(model.System, e.one("monitoredInfo"))
		}
		if e, err := s.alone("cn=Current,cn=Time,"+at, "monitorTimestamp"); err == nil && e != nil {
			now = e.one("monitorTimestamp")
		}
		if e, err := s.alone("cn=Start,cn=Time,"+at, "monitorTimestamp"); err == nil && e != nil {
			if began, err := time.Parse(generalized, e.one("monitorTimestamp")); err == nil {
				put(model.UpSince, began.UTC().Format(time.RFC3339))
			}
		}
	}
	if at, err := time.Parse(generalized, strings.Replace(now, ".0Z", "Z", 1)); err == nil {
		put(model.ClockOff, connect.ClockOff(at))
	}
	return o, nil
}

const generalized = "20060102150405Z" // RFC 4517 §3.3.13, whole seconds

// alone reads one entry; nil when it is not there, or not for us.
func (s *session) alone(dn string, attributes ...string) (*entry, error) {
	f, err := goldap.CompileFilter("(objectClass=*)")
	if err != nil {
		return nil, err
	}
	var out *entry
	err = s.read.search(query{base: dn, filter: f.Bytes(), attributes: attributes, page: 1, alone: true},
		func(e *entry) error { out = e; return nil })
	if out == nil && err != nil {
		if _, refused := err.(*codeError); refused {
			return nil, nil
		}
	}
	return out, err
}
