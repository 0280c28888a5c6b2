package postgres

import (
	"context"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// signedIn is one session as the server lists it.
type signedIn struct{ name, account, from, database, since string }

// list lists sessions but those of ours.
func (s *session) list(ctx context.Context) ([]signedIn, error) {
	rows, err := s.ask(ctx, s.home, `SELECT pg_has_role(current_user, 'pg_read_all_stats', 'USAGE')`)
	if err == nil && len(rows) == 1 && rows[0][0][0] != "t" { // the server would show less than there is, and not say so
		err = fmt.Errorf("our login may not see others' (roost target needs %s): GRANT pg_read_all_stats TO %s", s.access.Target,
			name(s.own))
	}
	if err != nil {
		return nil, said(err)
	}
	rows, err = s.ask(ctx, s.home, `SELECT pid || '-' || (EXTRACT(EPOCH FROM backend_start) * 1000000)::bigint, usename,
		COALESCE(host(client_addr), 'the server itself'), datname, EXTRACT(EPOCH FROM backend_start)::bigint FROM pg_stat_activity
		WHERE backend_type = 'client backend' AND usename IS NOT NULL AND NOT (usename = current_user AND application_name = 'hen-roost')
		ORDER BY backend_start`)
	if err != nil || len(rows) != 1 {
		return nil, said(err)
	}
	var out []signedIn
	for _, row := range rows[0] {
		n, _ := strconv.ParseInt(row[4], 10, 64)
		out = append(out, signedIn{row[0], row[1], row[2], row[3], time.Unix(n, 0).UTC().Format(time.RFC3339)})
	}
	return out, nil
}

// Sessions implements connect.Offers.
func (s *session) Sessions(ctx context.Context) ([]model.Object, error) {
	list, err := s.list(ctx)
	if err != nil {
		return nil, s.fail("list sessions", err)
	}
	out := make([]model.Object, 0, len(list))
	for _, x := range list {
		o := model.Object{Kind: model.SessionKind, Name: x.name}
		for attribute, value := range map[string]string{model.HeldBy: x.account, model.From: x.from, "database": x.database,
			model.Since: x.since} {
			o.Attributes = o.Attributes.With(attribute, connect.Printable(value))
		}
		out = append(out, o)
	}
	return out, nil
}

// sessionName is how a session is called: by its process, and when that began.
var sessionName = regexp.MustCompile(`^[0-9]{1,10}-[0-9]{1,20}$`)

// End implements connect.Offers: the server is waited for until it is gone.
func (s *session) End(ctx context.Context, names []string) []connect.Answer {
	out := connect.All(make([]connect.Act, len(names)), connect.Failed, "that is no session")
	for i, n := range names {
		if !sessionName.MatchString(n) {
			continue
		}
		pid, began, _ := strings.Cut(n, "-")
		rows, err := s.ask(ctx, s.home, `SELECT pid = pg_backend_pid(), CASE WHEN pid <> pg_backend_pid() THEN pg_terminate_backend(pid, 5000)
			END FROM pg_stat_activity WHERE pid = `+pid+` AND (EXTRACT(EPOCH FROM backend_start) * 1000000)::bigint = `+began)
		switch {
		case err != nil && lost(err):
			out[i] = connect.Answer{Outcome: connect.Unsure, Words: s.fail("end sessions", said(err)).Error()}
		case err != nil:
			out[i].Words = said(err).Error()
		case len(rows) != 1 || len(rows[0]) == 0:
			out[i] = connect.Answer{Outcome: connect.AlreadySo, Words: "it had ended by itself"}
		case rows[0][0][0] == "t":
			out[i].Words = "it is our own"
		case rows[0][0][1] == "t":
			out[i] = connect.Answer{Outcome: connect.Done}
		default:
			out[i].Words = "the server did not end it within 5 seconds"
		}
	}
	return out
}
