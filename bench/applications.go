package main

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"sync"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/scim"
	"hen-roost/internal/core/model"
	"hen-roost/internal/demo/world"
	protocol "hen-roost/internal/scim"
	"hen-roost/internal/standin"
	"hen-roost/internal/work"
)

var (
	staff    = sized(50000)
	arriving = sized(2000)
	doers    = 8 // requests under way at once
)

// office is an application to measure on, in a process of its own, and a bare client of it.
type office struct {
	address string
	access  connect.Access
	http    *http.Client
}

const officeToken = "a-token-for-the-bench"

// standing is what the process of an application is told.
type standing struct {
	Dir     string
	Choices standin.Choices
	People  int
}

// standFor is that process: it tells its address, answers each line with how many requests it was sent, and ends with its
// standard input.
func standFor(text string) error {
	var x standing
	if err := json.Unmarshal([]byte(text), &x); err != nil {
		return err
	}
	app, err := world.StartApplication(x.Dir, "127.0.7.31", x.Choices)
	if err != nil {
		return err
	}
	defer app.Stop()
	for i := range x.People {
		app.Put("Users", person(i))
	}
	fmt.Println(app.Address)
	for lines := bufio.NewScanner(os.Stdin); lines.Scan(); {
		fmt.Println(app.Asked())
	}
	return nil
}

// openOffice starts an application; asked tells how many requests it was sent.
func openOffice(ctx context.Context, w *workbench, c standin.Choices, people int) (o *office, asked func() int, err error) {
	c.Name, c.Token = "tickets", officeToken
	text, err := json.Marshal(standing{filepath.Join(w.dir, fmt.Sprint("app", len(w.cleanup))), c, people})
	if err != nil {
		return nil, nil, err
	}
	own, err := os.Executable()
	if err != nil {
		return nil, nil, err
	}
	cmd := exec.CommandContext(ctx, own, "--application", string(text))
	cmd.Stderr = os.Stderr
	in, err1 := cmd.StdinPipe()
	out, err2 := cmd.StdoutPipe()
	if err := errors.Join(err1, err2, cmd.Start()); err != nil {
		return nil, nil, err
	}
	w.later(func() { in.Close(); _ = cmd.Wait() })
	lines := bufio.NewScanner(out)
	if !lines.Scan() {
		return nil, nil, errors.New("the application did not start")
	}
	o = &office{address: lines.Text(), http: bareClient()}
	o.access, err = accepted(ctx, scim.Connector{}, connect.Access{Target: "tickets", Address: o.address, Secret: []byte(officeToken)})
	return o, func() int {
		fmt.Fprintln(in)
		lines.Scan()
		n, _ := strconv.Atoi(lines.Text())
		return n
	}, err
}

func bareClient() *http.Client {
	return &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: doers, MaxConnsPerHost: doers,
		TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
}

// ask sends a bare request and reads the answer.
func (o *office) ask(ctx context.Context, method, path string, body []byte, into any) error {
	r, err := http.NewRequestWithContext(ctx, method, "https://"+o.address+"/scim/v2"+path, bytes.NewReader(body))
	if err != nil {
		return err
	}
	r.Header.Set("Authorization", "Bearer "+string(o.access.Secret))
	r.Header.Set("Content-Type", protocol.MediaType)
	a, err := o.http.Do(r)
	if err != nil {
		return err
	}
	defer a.Body.Close()
	text, err := io.ReadAll(a.Body)
	if err != nil || a.StatusCode >= 300 {
		return fmt.Errorf("status %d %s: %w", a.StatusCode, text, err)
	}
	return json.Unmarshal(text, into)
}

func person(i int) protocol.Resource {
	n := fmt.Sprintf("crew.%05d", i)
	return protocol.Resource{"schemas": []any{protocol.UserSchema}, "userName": n, "displayName": "Crew " + n, "active": true,
		"title": "Mate",
		"name":  map[string]any{"givenName": "Crew", "familyName": n}, "emails": []any{map[string]any{"value": n + "@ternsound.example",
			"type": "work", "primary": true}}, "roles": []any{map[string]any{"value": "agent"}},
		protocol.EnterpriseSchema: map[string]any{"department": "Deck", "employeeNumber": fmt.Sprint(i)}}
}

func applicationSurvey(ctx context.Context, w *workbench) (float64, float64, error) {
	o, _, err := openOffice(ctx, w, standin.Choices{}, staff)
	if err != nil {
		return 0, 0, err
	}
	return pair(3, func(int) error {
		n, err := work.Survey(ctx, scim.Connector{}, o.access, work.Sink{Put: func([]model.Object) error { return nil }})
		if err == nil && n.Accounts != staff {
			err = fmt.Errorf("%d accounts seen", n.Accounts)
		}
		return err
	}, func(int) error {
		for start := 1; start <= staff; {
			var page struct {
				Resources []struct {
					ID    string `json:"id"`
					Login string `json:"userName"`
				}
			}
			if err := o.ask(ctx, "GET", fmt.Sprintf("/Users?startIndex=%d&count=500", start), nil, &page); err != nil {
				return err
			}
			start += len(page.Resources)
		}
		return nil
	})
}

// arrive makes so many accounts as a round does.
func (o *office) arrive(ctx context.Context, round int) error {
	s, err := scim.Connector{}.Open(ctx, o.access)
	if err != nil {
		return err
	}
	defer s.Close()
	for from := 0; from < arriving; from += inBatch {
		var acts []connect.Act
		for i := range inBatch {
			n := fmt.Sprintf("new.%d.%05d", round, from+i)
			acts = append(acts, connect.Act{Act: model.Act{Verb: model.Create, Object: model.Account, Name: n, Changes: []model.Change{
				{Attribute: model.FullName, After: []string{"Crew " + n}}, {Attribute: "given", After: []string{"Crew"}},
				{Attribute: model.Mail, After: []string{n + "@ternsound.example"}}}}})
		}
		for _, a := range connect.Apply(ctx, s, acts) {
			if a.Outcome != connect.Done {
				return fmt.Errorf("%s %s", a.Outcome, a.Words)
			}
		}
	}
	return nil
}

func applicationMake(ctx context.Context, w *workbench) (float64, float64, error) {
	o, _, err := openOffice(ctx, w, standin.Choices{NoBulk: true}, 0)
	if err != nil {
		return 0, 0, err
	}
	return pair(5, func(round int) error { return o.arrive(ctx, round) }, func(round int) error {
		var wg sync.WaitGroup
		next, failed := make(chan int), make(chan error, arriving)
		for range doers {
			wg.Go(func() {
				for i := range next {
					n := fmt.Sprintf("bare.%d.%05d", round, i)
					body, _ := json.Marshal(protocol.Resource{"schemas": []any{protocol.UserSchema}, "userName": n,
						"displayName": "Crew " + n,
						"active":      true, "name": map[string]any{"givenName": "Crew"},
						"emails": []any{map[string]any{"value": n + "@ternsound.example", "type": "work", "primary": true}}})
					var got struct {
						ID string `json:"id"`
					}
					if err := o.ask(ctx, "POST", "/Users", body, &got); err != nil {
						failed <- err
					}
				}
			})
		}
		for i := range arriving {
			next <- i
		}
		close(next)
		wg.Wait()
		close(failed)
		return <-failed
	})
}

// applicationBulk counts requests where the server takes many in one, against one for each.
func applicationBulk(ctx context.Context, w *workbench) (float64, float64, error) {
	o, asked, err := openOffice(ctx, w, standin.Choices{}, 0)
	if err != nil {
		return 0, 0, err
	}
	before := asked()
	err = o.arrive(ctx, 0)
	return float64(asked() - before), float64(arriving), err
}
