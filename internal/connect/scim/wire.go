package scim

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"hen-roost/internal/connect"
	protocol "hen-roost/internal/scim"
)

// answerMost bounds an answer.
const answerMost = 32 << 20

// triesMost is how often one request is sent that the server asks to send again.
const triesMost = 6

// lostError says that a request was sent, and it is not known what became of it.
type lostError struct{ err error }

func (l *lostError) Error() string { return "the connection was lost: " + l.err.Error() }
func (l *lostError) Unwrap() error { return l.err }

// ask sends a request and reads its answer into a value. A server that is busy (429, 503) is asked again when it says; one
// that breaks (5xx), or a connection that does, only where that changes nothing. What it refuses is a *protocol.Error.
func (s *session) ask(ctx context.Context, method, path string, body any, version string, into any) error {
	var text []byte
	if body != nil {
		var err error
		if text, err = json.Marshal(body); err != nil {
			return err
		}
	}
	fresh := false
	for try := 1; ; try++ {
		wait, err := s.once(ctx, method, path, text, version, into)
		var e *protocol.Error
		switch {
		case err == nil:
			return nil
		case errors.As(err, &e) && e.Status == 401 && !fresh && s.renewable():
			fresh = true
			s.mu.Lock()
			s.bearer = ""
			s.mu.Unlock()
			continue
		case wait == 0 || try == triesMost || wait > s.access.Patience():
			return err
		}
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return err
		case <-s.ctx.Done():
			return err
		}
	}
}

// once sends a request once. wait is after how long it may be sent again; 0: it may not.
func (s *session) once(ctx context.Context, method, path string, body []byte, version string, into any) (wait time.Duration, err error) {
	ctx, cancel := context.WithTimeout(ctx, s.access.Patience())
	defer cancel()
	defer context.AfterFunc(s.ctx, cancel)()
	r, err := http.NewRequestWithContext(ctx, method, s.base+path, bytes.NewReader(body))
	if err != nil {
		return 0, err
	}
	if err := s.authorize(ctx, r); err != nil {
		return 0, err
	}
	r.Header.Set("Accept", protocol.MediaType+", application/json")
	if body != nil {
		r.Header.Set("Content-Type", protocol.MediaType)
	}
	if version != "" {
		r.Header.Set("If-Match", version)
	}
	safe := method == http.MethodGet || strings.HasSuffix(path, "/.search")
	answer, err := s.http.Do(r)
	if err != nil {
		var k *connect.KeyError
		if errors.As(err, &k) {
			return 0, k
		}
		if safe && ctx.Err() == nil {
			return time.Second / 5, bare(err)
		}
		return 0, &lostError{bare(err)}
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, answerMost+1))
	switch {
	case err != nil && safe && ctx.Err() == nil:
		return time.Second / 5, err
	case err != nil:
		return 0, &lostError{err}
	case len(text) > answerMost:
		return 0, fmt.Errorf("it answers with more than %d MB", answerMost>>20)
	}
	s.tick(answer.Header.Get("Date"))
	if answer.StatusCode >= 200 && answer.StatusCode < 300 {
		if into == nil || len(text) == 0 {
			return 0, nil
		}
		if err := json.Unmarshal(text, into); err != nil {
			return 0, fmt.Errorf("its answer to %s %s is not what the standard says: %w", method, plain(path), err)
		}
		return 0, nil
	}
	return again(answer, safe), refusal(answer.StatusCode, text)
}

// tick notes by how much the server's clock is ahead, from its first answer.
func (s *session) tick(date string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if at, err := http.ParseTime(date); err == nil && s.clock == "" {
		s.clock = connect.ClockOff(at)
	}
}

// bare is an error of the client without the address, in which filters stand.
func bare(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err
	}
	return err
}

// plain is a path without its query.
func plain(path string) string {
	path, _, _ = strings.Cut(path, "?")
	return path
}

// again is after how long a server that gave an answer may be asked again; 0: not at all.
func again(answer *http.Response, safe bool) time.Duration {
	switch code := answer.StatusCode; {
	case code == http.StatusTooManyRequests || code == http.StatusServiceUnavailable: // it has done nothing (RFC 6585 §4, RFC 9110 §15.6.4)
		after := answer.Header.Get("Retry-After")
		if n, err := strconv.Atoi(after); err == nil && n >= 0 {
			return max(time.Duration(n)*time.Second, time.Second/5)
		}
		if at, err := http.ParseTime(after); err == nil {
			return max(time.Until(at), time.Second/5)
		}
		return time.Second
	case code >= 500 && code != http.StatusNotImplemented && safe:
		return time.Second / 2
	}
	return 0
}

// refusal is what a server says that refuses, cleaned.
func refusal(status int, text []byte) *protocol.Error {
	e := &protocol.Error{}
	if json.Unmarshal(text, e) != nil {
		e = &protocol.Error{}
	}
	e.Status = protocol.Status(status)
	e.Type, e.Detail = connect.Printable(e.Type), connect.Printable(e.Detail)
	return e
}

func (s *session) renewable() bool { return s.setting(signInBy, "token") == "client" }

// authorize shows the token, and asks for one where there is none that is good.
func (s *session) authorize(ctx context.Context, r *http.Request) error {
	if s.setting(signInBy, "token") == "certificate" {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.renewable() && (s.bearer == "" || !s.until.IsZero() && time.Now().After(s.until)) {
		if err := s.token(ctx); err != nil {
			return err
		}
	}
	r.Header.Set("Authorization", "Bearer "+s.bearer)
	return nil
}

// token asks for one (RFC 6749 §4.4).
func (s *session) token(ctx context.Context) error {
	var got struct {
		Token  string `json:"access_token"`
		Expire int    `json:"expires_in"`
	}
	status, err := s.grant(ctx, s.access.Settings[tokenAt], url.Values{"grant_type": {"client_credentials"}}, &got)
	switch {
	case err != nil:
		return err
	case status != http.StatusOK || got.Token == "":
		return protocol.NewError(401, "", fmt.Sprintf("no token was given to %s (status %d)", s.access.As, status))
	}
	s.bearer, s.until = got.Token, time.Time{}
	if got.Expire > 0 {
		s.until = time.Now().Add(time.Duration(got.Expire) * time.Second * 9 / 10)
	}
	return nil
}

// grant asks a token endpoint for something. What it says into is read of a refusal too (RFC 6749 §5.2).
func (s *session) grant(ctx context.Context, path string, form url.Values, into any) (status int, err error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, "https://"+s.access.Address+"/"+strings.TrimPrefix(path, "/"),
		strings.NewReader(form.Encode()))
	if err != nil {
		return 0, err
	}
	r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	r.Header.Set("Accept", "application/json")
	if s.renewable() {
		r.SetBasicAuth(url.QueryEscape(s.access.As), url.QueryEscape(string(s.access.Secret))) // RFC 6749 §2.3.1
	}
	answer, err := s.http.Do(r)
	if err != nil {
		return 0, bare(err)
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, 64<<10))
	if err == nil && json.Unmarshal(text, into) != nil && answer.StatusCode == http.StatusOK {
		err = errors.New("the token endpoint's answer cannot be read")
	}
	return answer.StatusCode, err
}
