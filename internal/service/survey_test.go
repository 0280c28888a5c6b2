package service

import (
	"errors"
	"testing"
)

// A target that never answered is not surveyed, and nothing is found missing there.
func TestNeverSurveyed(t *testing.T) {
	s, f := start(t)
	f.err = errors.New("it does not answer")
	if _, err := s.Declare(ctx, Itself, files, "begin"); err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if got, err := s.Survey(ctx, Itself, nil, nil); err != nil || got[0].Findings != 0 {
			t.Fatalf("%+v %v", got, err)
		}
		if r, err := s.Declare(ctx, Itself, files, "again"); err != nil || r.Findings != 0 {
			t.Errorf("%+v %v", r, err)
		}
	}
	u, err := s.User(ctx, Itself, "marit")
	if err != nil || len(u.Accounts) != 1 || u.Accounts[0].State != "not surveyed" {
		t.Errorf("%+v %v", u, err)
	}
	if d, err := s.Target(ctx, Itself, "arctic"); err != nil || d.SurveyedAt != nil {
		t.Errorf("%+v %v", d, err)
	}
}
