package mariadb

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// signedIn is one session as the server lists it.
type signedIn struct {
	id          uint64
	login, from string
	account     string // that answers for it, worked out: the server tells the login alone
	database    string
	since       time.Time
}

// list lists sessions of people, not the server's own threads.
func (s *session) list(ctx context.Context) ([]signedIn, error) {
	rows, err := s.conn.QueryContext(ctx, `SELECT ID, USER, HOST, COALESCE(DB, ''), TIME_MS, CONNECTION_ID() = ID FROM information_schema.PROCESSLIST
			WHERE USER <> 'system user' AND USER <> 'event_scheduler' ORDER BY ID;
		SELECT User, Host FROM mysql.global_priv WHERE Host <> ''`)
	if err != nil {
		return nil, said(err)
	}
	defer rows.Close()
	var out []signedIn
	now := time.Now()
	for rows.Next() {
		var x signedIn
		var ms float64
		var ours bool
		if err := rows.Scan(&x.id, &x.login, &x.from, &x.database, &ms, &ours); err != nil {
			return nil, err
		}
		if x.since = now.Add(-time.Duration(ms) * time.Millisecond); !ours {
			out = append(out, x)
		}
	}
	by := map[string][]string{}
	for rows.NextResultSet() {
		for rows.Next() {
			var login, origin string
			if err := rows.Scan(&login, &origin); err != nil {
				return nil, err
			}
			n, _ := granteeOf(login, origin)
			by[login] = append(by[login], n.Name)
		}
	}
	for i := range out {
		host := out[i].from
		if at := strings.LastIndexByte(host, ':'); at > 0 {
			host = host[:at]
		}
		out[i].account = answering(slices.Concat(by[out[i].login], by[""]), out[i].login, host)
	}
	return out, said(rows.Err())
}

// busy tells of accounts whence they are signed in.
func (s *session) busy(ctx context.Context, names []string) (map[string][]string, error) {
	list, err := s.list(ctx)
	out := map[string][]string{}
	for _, x := range list {
		if slices.Contains(names, x.account) {
			out[x.account] = append(out[x.account], "from "+connect.Printable(x.from))
		}
	}
	return out, err
}

// Sessions implements connect.Offers.
func (s *session) Sessions(ctx context.Context) ([]model.Object, error) {
	list, err := s.list(ctx)
	if err != nil {
		return nil, s.fail("list sessions", err)
	}
	out := make([]model.Object, 0, len(list))
	for _, x := range list {
		o := model.Object{Kind: model.SessionKind, Name: strconv.FormatUint(x.id, 10)}
		for attribute, value := range map[string]string{model.HeldBy: x.account, model.From: x.from, "database": x.database,
			"idle-since": x.since.UTC().Format(time.RFC3339)} {
			if value = connect.Printable(value); value != "" {
				o.Attributes = o.Attributes.With(attribute, value)
			}
		}
		out = append(out, o)
	}
	return out, nil
}

var sessionName = regexp.MustCompile(`^[0-9]{1,19}$`)

// noSuchSession is what the server says of one that has ended.
const noSuchSession = 1094

// End implements connect.Offers.
func (s *session) End(ctx context.Context, names []string) []connect.Answer {
	out := connect.All(make([]connect.Act, len(names)), connect.Failed, "that is no session")
	var ours string
	if err := s.conn.QueryRowContext(ctx, "SELECT CONNECTION_ID()").Scan(&ours); err != nil {
		return connect.All(make([]connect.Act, len(names)), connect.Unsure, s.fail("end sessions", said(err)).Error())
	}
	var ending []int
	for i, n := range names {
		if !sessionName.MatchString(n) {
			continue
		}
		if n == ours {
			out[i].Words = "it is our own"
			continue
		}
		_, err := s.conn.ExecContext(ctx, fmt.Sprintf("KILL HARD CONNECTION %s", n))
		var me *mysql.MySQLError
		switch {
		case err == nil:
			ending = append(ending, i)
			out[i] = connect.Answer{Outcome: connect.Done}
		case errors.As(err, &me) && me.Number == noSuchSession:
			out[i] = connect.Answer{Outcome: connect.AlreadySo, Words: "it had ended by itself"}
		case lost(err):
			out[i] = connect.Answer{Outcome: connect.Unsure, Words: s.fail("end sessions", said(err)).Error()}
		default:
			out[i].Words = said(err).Error()
		}
	}
	for _, i := range s.linger(ctx, names, ending) {
		out[i] = connect.Answer{Outcome: connect.Failed,
			Words: fmt.Sprintf("the server was asked to end it, and it was still there after %s", endWait)}
	}
	return out
}

// endWait is how long a session may take to end.
const endWait = 5 * time.Second

// linger waits until sessions have ended, and tells those that have not: the server takes note of it, and ends them later.
func (s *session) linger(ctx context.Context, names []string, ending []int) (left []int) {
	for until := time.Now().Add(endWait); len(ending) > 0; time.Sleep(20 * time.Millisecond) {
		ids := make([]string, len(ending))
		for k, i := range ending {
			ids[k] = names[i]
		}
		there := map[string]bool{}
		rows, err := s.conn.QueryContext(ctx, "SELECT ID FROM information_schema.PROCESSLIST WHERE ID IN ("+strings.Join(ids, ",")+")")
		for err == nil && rows.Next() {
			var id string
			err = rows.Scan(&id)
			there[id] = true
		}
		if rows != nil {
			err = errors.Join(err, rows.Err(), rows.Close())
		}
		if err != nil || time.Now().After(until) {
			return ending
		}
		ending = slices.DeleteFunc(ending, func(i int) bool { return !there[names[i]] })
	}
	return nil
}
