package main

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"path/filepath"
	"strings"
	"sync"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/serve"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/intake"
)

// pushedIn is how many a personnel system pushes in, each by a request of its own, and how long that may take.
var (
	pushedIn   = sized(10000)
	pushedAim  = 20.0 // seconds: 500 a second
	proposedIn = "people pushed in as one proposal"
)

// intakePush is the time for that, until they are one proposal.
func intakePush(ctx context.Context, w *workbench) (float64, float64, error) {
	s, err := serve.Start(ctx, serve.Config{Listen: "127.0.0.1:0", Data: filepath.Join(w.dir, "intake"),
		Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return 0, 0, err
	}
	w.later(s.Close)
	admin := door.Operator{Name: "odd.strand", Duties: door.Duties}
	if _, err := s.Service.FirstOperator(ctx, "odd.strand", "Odd Strand", "a long enough password"); err != nil {
		return 0, 0, err
	}
	if _, err := s.Service.Declare(ctx, admin, []declare.File{{Name: "crew.yaml", Text: "roost: 1\nusers: {odd: {name: Odd Strand}}\n"}},
		"begin"); err != nil {
		return 0, 0, err
	}
	if _, err := s.Service.AddOperator(ctx, door.Itself, "personnel", "", "a long enough password", []string{"push"}); err != nil {
		return 0, 0, err
	}
	if err := s.Service.Intake.Set(ctx, admin, "personnel", intake.Settings{}); err != nil {
		return 0, 0, err
	}
	_, token, _, err := s.Service.SignIn(ctx, "personnel", "a long enough password", "bench", "127.0.0.1")
	if err != nil {
		return 0, 0, err
	}
	o := &office{address: strings.TrimPrefix(s.Address, "https://"), access: connect.Access{Secret: []byte(token)}, http: bareClient()}
	took, _, err := pair(1, func(int) error {
		if err := o.pushAll(ctx); err != nil {
			return err
		}
		p, err := s.Service.Intake.Propose(ctx, admin, "personnel")
		if err == nil && p.New != pushedIn {
			err = fmt.Errorf("%d %s", p.New, proposedIn)
		}
		return err
	}, func(int) error { return nil })
	return took, pushedAim, err
}

// pushAll pushes people in, several at once.
func (o *office) pushAll(ctx context.Context) error {
	var wg sync.WaitGroup
	next, failed := make(chan int), make(chan error, pushedIn)
	for range doers {
		wg.Go(func() {
			for i := range next {
				body, _ := json.Marshal(person(i))
				var got struct {
					ID string `json:"id"`
				}
				if err := o.ask(ctx, http.MethodPost, "/Users", body, &got); err != nil {
					failed <- err
				}
			}
		})
	}
	for i := range pushedIn {
		next <- i
	}
	close(next)
	wg.Wait()
	close(failed)
	return <-failed
}
