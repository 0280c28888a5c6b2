package dialect

import (
	"context"
	"errors"

	"hen-roost/internal/connect"
	language "hen-roost/internal/dialect"
)

// Needs implements connect.Knows: by the file's table, or by what the system answers.
func (c Connector) Needs(ctx context.Context, action string, open func() (connect.Session, error)) ([]string, error) {
	list, known, err := c.File.Takes(action)
	if !known {
		list, err = c.asked(ctx, action, open)
	}
	var no *language.Unknown
	if errors.As(err, &no) {
		return nil, &connect.NotKnownAction{Words: connect.Printable(no.Words)}
	}
	return list, err
}

func (c Connector) asked(ctx context.Context, action string, open func() (connect.Session, error)) ([]string, error) {
	x, err := open()
	if err != nil {
		return nil, err
	}
	defer x.Close()
	s := Typist{x.(*session)}
	list, err := c.File.Asked(ctx, action, s.vars(), s.Type)
	for i := range list {
		list[i] = connect.Printable(list[i])
	}
	if err != nil && !errors.As(err, new(*language.Unknown)) {
		err = s.fail("ask what it takes", err)
	}
	return list, err
}
