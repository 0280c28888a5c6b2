package serve

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/dialect"
)

// A dialect that is broken stops its own targets, and nothing else: what the declaration asks of them is still understood, by what
// was learnt of the kind last, and nobody goes there.

// keptDialects is the folder with the files that were learnt last, each named by its kind.
type keptDialects struct {
	folder string
	broken []error
}

// keep notes what was learnt of a kind.
func (k *keptDialects) keep(kind string, text []byte) error {
	if k == nil {
		return nil
	}
	file := k.file(kind)
	if was, err := os.ReadFile(file); err == nil && bytes.Equal(was, text) {
		return nil
	}
	if err := os.MkdirAll(k.folder, 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(file+".new", text, 0o600); err != nil {
		return err
	}
	return os.Rename(file+".new", file)
}

func (k *keptDialects) file(kind string) string { return filepath.Join(k.folder, kind+".yaml") }

var kindLine = regexp.MustCompile(`(?m)^kind:[ \t]*([a-z][a-z0-9-]*)[ \t\r]*$`)

// still has targets of a kind stand still whose dialect is broken, as why says. It returns why where nobody goes on without it.
func (k *keptDialects) still(kinds connect.Kinds, text []byte, why error) error {
	if k == nil {
		return why
	}
	k.broken = append(k.broken, why)
	m := kindLine.FindSubmatch(text)
	if m == nil || kinds[string(m[1])] != nil {
		return nil
	}
	kind := string(m[1])
	was, err := os.ReadFile(k.file(kind))
	if errors.Is(err, os.ErrNotExist) {
		return nil // it never was: no target of that kind is declared
	}
	if err != nil {
		return err
	}
	c, err := dialect.Learn(kind+".yaml", was)
	if err != nil { // a later version of Hen Roost reads it otherwise
		return nil
	}
	kinds[kind] = standing{c, fmt.Errorf("the dialect %s is broken, so its targets stand still; mend it, and it is read anew "+
		"by itself: %w", kind, why)}
	return nil
}

// standing is a kind of target to which nobody goes.
type standing struct {
	learnt
	why error
}

// learnt is what was learnt of the kind last: its schema is that of the targets that stand still.
type learnt interface{ connect.Connector }

// Knows implements connect.Connector: of a file that is broken nothing is known.
func (standing) Knows() connect.Knows { return connect.Knows{} }

// Open implements connect.Connector: it says why nobody goes there.
func (s standing) Open(_ context.Context, a connect.Access) (connect.Session, error) {
	return nil, &connect.Error{Target: a.Target, Op: "connect", Err: s.why}
}
