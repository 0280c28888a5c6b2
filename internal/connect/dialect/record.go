package dialect

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"strings"

	"hen-roost/internal/connect"
	language "hen-roost/internal/dialect"
)

var (
	_ connect.Pupil = Connector{}
)

// Learn makes a connector of a file, and tries the recordings that are beside it.
func Learn(name string, text []byte, recordings ...connect.Recorded) (Connector, error) {
	f, err := language.Read(name, text)
	if err != nil {
		return Connector{}, err
	}
	sum := sha256.Sum256(text)
	c := Connector{f, connect.Lesson{File: name, Text: string(text), Recordings: recordings, SignsIn: f.SignsIn()},
		"SHA256:" + base64.RawStdEncoding.EncodeToString(sum[:])}
	var read []*language.Recording
	for _, r := range recordings {
		x, err := language.ReadRecording(r.File, []byte(r.Text))
		if err != nil {
			c.lesson.Faults = append(c.lesson.Faults, strings.Split(err.Error(), "\n")...)
			continue
		}
		read = append(read, x)
	}
	checked, err := f.Check(read)
	c.lesson.Turns, c.lesson.Attacks = checked.Turns, checked.Attacks
	if err != nil {
		c.lesson.Faults = append(c.lesson.Faults, strings.Split(err.Error(), "\n")...)
	}
	return c, nil
}

// Knows implements connect.Connector.
func (c Connector) Knows() connect.Knows { return connect.Knows{Needs: c.Needs, Lesson: &c.lesson} }

// Record implements connect.Pupil.
func (c Connector) Record(ctx context.Context, a connect.Access) ([]byte, error) {
	s, err := c.Open(ctx, a)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	t := Typist{s.(*session)}
	struck := strings.NewReplacer()
	if len(a.Secret) > 0 { // what is run on a host may have none
		struck = strings.NewReplacer(string(a.Secret), "(sealed)")
	}
	r, err := c.File.Record(t.vars(), func(line string) (string, error) {
		answer, err := t.Type(ctx, line)
		return struck.Replace(answer), err
	})
	if err != nil {
		return nil, t.fail("look", err)
	}
	return r.Write()
}
