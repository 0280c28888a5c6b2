package main

import (
	"context"
	"database/sql"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5/pgconn"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/mariadb"
	"hen-roost/internal/connect/postgres"
	"hen-roost/internal/core/model"
	"hen-roost/internal/demo/world"
	"hen-roost/internal/work"
)

var (
	newcomers = sized(5000)
	residents = sized(20000)
	inBatch   = 250 // steps, as rounds are carried
)

// base is a database server to measure on.
type base struct {
	kind   connect.Connector
	access connect.Access
	plain  func(text string) error                  // one statement, or several as one transaction, by the bare driver
	read   func(texts []string) (rows int, e error) // the rows of queries, by the bare driver
	name   func(n int, run string) string           // of an account
	run    func(text string) error                  // as the server's own superuser
}

// accepted is an access whose key is accepted.
func accepted(ctx context.Context, c connect.Connector, a connect.Access) (connect.Access, error) {
	_, err := c.Open(ctx, a)
	k, ok := err.(*connect.KeyError)
	if !ok {
		return a, fmt.Errorf("no key was shown: %w", err)
	}
	a.Key = k.Offered
	return a, nil
}

func mariaBase(ctx context.Context, w *workbench) (*base, error) {
	m, err := world.StartMariaDB(ctx, filepath.Join(w.dir, fmt.Sprint("m", len(w.cleanup))), "127.0.5.31", "CREATE DATABASE stores;")
	if err != nil {
		return nil, err
	}
	w.later(m.Stop)
	b := &base{kind: mariadb.Connector{}, name: func(n int, run string) string { return fmt.Sprintf("hand.%s.%05d@%%", run, n) },
		run: m.Run}
	if b.access, err = accepted(ctx, b.kind, connect.Access{Target: "stores", Address: m.Address, As: world.DatabaseLogin,
		Secret: []byte(m.Password)}); err != nil {
		return nil, err
	}
	c := mysql.NewConfig()
	c.User, c.Passwd, c.Net, c.Addr, c.TLSConfig, c.MultiStatements = world.DatabaseLogin, m.Password, "tcp", m.Address, "skip-verify", true
	by, err := mysql.NewConnector(c)
	if err != nil {
		return nil, err
	}
	db := sql.OpenDB(by)
	db.SetMaxOpenConns(1)
	w.later(func() { db.Close() })
	b.plain = func(text string) error { _, err := db.ExecContext(ctx, text); return err }
	b.read = func(texts []string) (n int, err error) {
		rows, err := db.QueryContext(ctx, strings.Join(texts, ";"))
		if err != nil {
			return 0, err
		}
		defer rows.Close()
		for more := true; more; more = rows.NextResultSet() {
			columns, _ := rows.Columns()
			row, into := make([]sql.RawBytes, len(columns)), make([]any, len(columns))
			for i := range row {
				into[i] = &row[i]
			}
			for rows.Next() {
				if err := rows.Scan(into...); err != nil {
					return n, err
				}
				n++
			}
		}
		return n, rows.Err()
	}
	return b, nil
}

func postgresBase(ctx context.Context, w *workbench) (*base, error) {
	p, err := world.StartPostgres(ctx, "127.0.6.31", "CREATE DATABASE rota;\n\\c rota\nCREATE TABLE shifts (day date); "+
		"SELECT format('CREATE TABLE shifts_%s (day date)', n) FROM generate_series(0, 199) n \\gexec\n")
	if err != nil {
		return nil, err
	}
	w.later(p.Remove)
	b := &base{kind: postgres.Connector{}, name: func(n int, run string) string { return fmt.Sprintf("hand.%s.%05d", run, n) }}
	if b.access, err = accepted(ctx, b.kind, connect.Access{Target: "rota", Address: p.Address, As: world.DatabaseLogin,
		Secret: []byte(p.Password)}); err != nil {
		return nil, err
	}
	open := func(db string) (*pgconn.PgConn, error) {
		return pgconn.Connect(ctx, fmt.Sprintf("postgres://%s:%s@%s/%s?sslmode=require", world.DatabaseLogin, p.Password, p.Address, db))
	}
	home, err := open("postgres")
	if err != nil {
		return nil, err
	}
	rota, err := open("rota")
	if err != nil {
		return nil, err
	}
	w.later(func() { home.Close(ctx); rota.Close(ctx) })
	b.plain = func(text string) error { _, err := home.Exec(ctx, text).ReadAll(); return err }
	b.read = func(texts []string) (n int, err error) {
		for i, text := range texts {
			conn := home
			if i == len(texts)-1 {
				conn = rota
			}
			r := conn.Exec(ctx, text)
			for r.NextResult() {
				for r.ResultReader().NextRow() {
					n++
				}
			}
			if err := r.Close(); err != nil {
				return n, err
			}
		}
		return n, nil
	}
	return b, nil
}

// make is accounts with two roles each, made as a round makes them.
func (b *base) make(ctx context.Context, run string) error {
	var acts []connect.Act
	for i := range newcomers {
		acts = append(acts, connect.Act{Act: model.Act{Verb: model.Create, Object: model.Account, Name: b.name(i, run)}})
	}
	for _, role := range []string{"deck", "stores"} {
		for i := range newcomers {
			acts = append(acts, connect.Act{Stage: 60, Act: model.Act{Verb: model.JoinIt, Object: model.GroupKind, Name: role,
				Member: b.name(i, run), MemberKind: model.Account, Changes: model.Entering(true)}})
		}
	}
	s, err := b.kind.Open(ctx, b.access)
	if err != nil {
		return err
	}
	defer s.Close()
	for len(acts) > 0 {
		batch := acts[:min(inBatch, len(acts))]
		acts = acts[len(batch):]
		for i, a := range connect.Apply(ctx, s, batch) {
			if a.Outcome != connect.Done {
				return fmt.Errorf("%s: %s %s", batch[i].Name, a.Outcome, a.Words)
			}
		}
	}
	return nil
}

// making measures that against the barest statements, each time on a server of its own: what one costs grows with what is
// there. text is what a hundred accounts take.
func making(start func() (*base, error), ctx context.Context, text func(names []string) []string) (float64, float64, error) {
	servers := map[string]*base{}
	for i := range makings {
		for _, whose := range []string{"ours", "bare"} {
			b, err := start()
			if err != nil {
				return 0, 0, err
			}
			servers[fmt.Sprint(whose, i)] = b
			s, err := b.kind.Open(ctx, b.access)
			if err != nil {
				return 0, 0, err
			}
			for _, role := range []string{"deck", "stores"} {
				connect.Apply(ctx, s, []connect.Act{{Act: model.Act{Verb: model.Create, Object: model.GroupKind, Name: role}}})
			}
			s.Close()
		}
	}
	return pair(makings, func(n int) error { return servers[fmt.Sprint("ours", n)].make(ctx, "a") }, func(n int) error {
		b := servers[fmt.Sprint("bare", n)]
		var later []string // all accounts first, then all roles: the faster way round
		for from := 0; from < newcomers; from += 100 {
			var names []string
			for i := range 100 {
				names = append(names, b.name(from+i, "b"))
			}
			texts := text(names)
			if err := b.plain(texts[0]); err != nil {
				return err
			}
			later = append(later, texts[1:]...)
		}
		for _, t := range later {
			if err := b.plain(t); err != nil {
				return err
			}
		}
		return nil
	})
}

// makings is how often it is measured.
var makings = turns(3)

func quotedMaria(names []string, tail string) string {
	out := make([]string, len(names))
	for i, n := range names {
		login, origin, _ := strings.Cut(n, "@")
		out[i] = "'" + login + "'@'" + origin + "'" + tail
	}
	return strings.Join(out, ",")
}

func mariaText(names []string) []string {
	return []string{"CREATE USER " + quotedMaria(names, " IDENTIFIED VIA mysql_native_password USING 'invalid'"),
		"GRANT deck TO " + quotedMaria(names, ""), "GRANT stores TO " + quotedMaria(names, "")}
}

func postgresText(names []string) []string {
	var b strings.Builder
	for _, n := range names {
		fmt.Fprintf(&b, `CREATE ROLE "%s" LOGIN; GRANT deck TO "%[1]s"; GRANT stores TO "%[1]s";`, n)
	}
	return []string{b.String()}
}

func mariaMake(ctx context.Context, w *workbench) (float64, float64, error) {
	return making(func() (*base, error) { return mariaBase(ctx, w) }, ctx, mariaText)
}

func postgresMake(ctx context.Context, w *workbench) (float64, float64, error) {
	return making(func() (*base, error) { return postgresBase(ctx, w) }, ctx, postgresText)
}

// surveying measures a survey of many accounts with their grants against the same queries, whose rows are looked at by nobody.
func (b *base) surveying(ctx context.Context, queries []string) (float64, float64, error) {
	return pair(5, func(int) error {
		n, err := work.Survey(ctx, b.kind, b.access, work.Sink{Put: func([]model.Object) error { return nil }})
		if err == nil && n.Accounts < residents {
			err = fmt.Errorf("%d accounts seen", n.Accounts)
		}
		return err
	}, func(int) error {
		n, err := b.read(queries)
		if err == nil && n < 3*residents {
			err = fmt.Errorf("%d rows read", n)
		}
		return err
	})
}

func mariaSurvey(ctx context.Context, w *workbench) (float64, float64, error) {
	b, err := mariaBase(ctx, w)
	if err != nil {
		return 0, 0, err
	}
	// Written into the server's tables: it takes minutes to be asked for that many members of a role.
	if err := b.run(fmt.Sprintf(`CREATE ROLE deck; USE mysql;
		INSERT INTO global_priv SELECT '%%', CONCAT('hand.r.', LPAD(seq, 5, '0')), '{"access":0,"plugin":"mysql_native_password",'
			'"authentication_string":"invalid","password_last_changed":1795696228,"version_id":101119}' FROM seq_1_to_%[1]d;
		INSERT INTO roles_mapping SELECT '%%', CONCAT('hand.r.', LPAD(seq, 5, '0')), 'deck', 'N' FROM seq_1_to_%[1]d;
		INSERT INTO db (Host, Db, User, Select_priv, Insert_priv) SELECT '%%', 'stores', CONCAT('hand.r.', LPAD(seq, 5, '0')), 'Y', 'Y'
			FROM seq_1_to_%[1]d; FLUSH PRIVILEGES`, residents)); err != nil {
		return 0, 0, err
	}
	return b.surveying(ctx, []string{"SELECT User, Host, Priv FROM mysql.global_priv",
		"SELECT User, Host, Role, Admin_option FROM mysql.roles_mapping", "SELECT * FROM mysql.db",
		"SELECT User, Host, Db, Table_name, Table_priv FROM mysql.tables_priv", "SELECT * FROM mysql.columns_priv",
		"SELECT * FROM mysql.procs_priv", "SELECT DEFINER, TABLE_NAME FROM information_schema.VIEWS",
		"SELECT DEFINER, TRIGGER_NAME FROM information_schema.TRIGGERS"})
}

func postgresSurvey(ctx context.Context, w *workbench) (float64, float64, error) {
	b, err := postgresBase(ctx, w)
	if err != nil {
		return 0, 0, err
	}
	err = b.plain("CREATE ROLE deck")
	s, err2 := b.kind.Open(ctx, b.access)
	if err2 != nil {
		return 0, 0, err2
	}
	defer s.Close()
	for from := 0; from < residents && err == nil; from += 250 {
		var acts []connect.Act
		for i := range 250 {
			acts = append(acts, connect.Act{Act: model.Act{Verb: model.Create, Object: model.Account, Name: b.name(from+i, "r")}})
		}
		for _, p := range [][2]string{{"deck", ""}, {"SELECT ON rota.public.shifts_%d", "r"}, {"INSERT ON rota.public.shifts_%d", "r"}} {
			kind := model.GroupKind
			if p[1] != "" {
				kind = model.RightKind
			}
			for i := range 250 { // one table's list of who may what has room for some hundreds
				set := p[0]
				if p[1] != "" {
					set = fmt.Sprintf(set, (from+i)/100)
				}
				acts = append(acts, connect.Act{Stage: 60, Act: model.Act{Verb: model.JoinIt, Object: kind, Name: set,
					Member: b.name(from+i, "r"), MemberKind: model.Account, Changes: model.Entering(true)}})
			}
		}
		for _, a := range connect.Apply(ctx, s, acts) {
			if a.Outcome != connect.Done {
				return 0, 0, fmt.Errorf("%s %s", a.Outcome, a.Words)
			}
		}
	}
	if err != nil {
		return 0, 0, err
	}
	return b.surveying(ctx,
		[]string{`SELECT rolname, rolcanlogin, rolinherit, rolconnlimit, rolvaliduntil, rolpassword, rolsuper FROM pg_authid`,
			`SELECT g.rolname, m.rolname, a.admin_option FROM pg_auth_members a JOIN pg_authid g ON g.oid = a.roleid JOIN pg_authid m ON
			m.oid = a.member`,
			`SELECT n.nspname, c.relname, g.rolname, x.privilege_type, x.is_grantable FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
			CROSS JOIN LATERAL aclexplode(c.relacl) x JOIN pg_roles g ON g.oid = x.grantee`})
}
