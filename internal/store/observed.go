package store

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"hen-roost/internal/core/model"
)

type observedRow struct {
	Target  string `db:"target"`
	Kind    string `db:"kind"`
	Name    string `db:"name"`
	Unique  string `db:"uniq"`
	Belongs bool   `db:"belongs"`
	Body    []byte `db:"body"`
	Survey  int64  `db:"survey"`
}

const observedGroup = 500 // rows in one statement

// PutObserved stores objects as seen by a survey. Rows that are as they were
// are not written again but for the survey's number.
func (s *Store) PutObserved(ctx context.Context, target string, survey int64, objects []model.Object) error {
	for from, to := range groups(len(objects), observedGroup) {
		rows := make([]observedRow, 0, to-from)
		for _, o := range objects[from:to] {
			rows = append(rows, observedRow{target, string(o.Kind), o.Name, o.Unique, o.System, []byte(o.Attributes), survey})
		}
		if _, err := s.db.NamedExecContext(ctx, `INSERT INTO observed (target, kind, name, uniq, belongs, body, survey)
			VALUES (:target, :kind, :name, :uniq, :belongs, :body, :survey)
			ON DUPLICATE KEY UPDATE uniq = VALUES(uniq), belongs = VALUES(belongs), body = VALUES(body), survey = VALUES(survey)`, rows); err != nil {
			return err
		}
	}
	return nil
}

// ForgetUnseen removes what a finished survey no longer saw.
func (s *Store) ForgetUnseen(ctx context.Context, target string, survey int64) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM observed WHERE target = ? AND survey <> ?`, target, survey)
	return err
}

// PutObject stores one object as read back after a step; nil body means it is gone.
func (tx *Tx) PutObject(ctx context.Context, target string, o model.Object) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO observed (target, kind, name, uniq, belongs, body, survey)
		VALUES (?, ?, ?, ?, ?, ?, (SELECT survey FROM target WHERE name = ?))
		ON DUPLICATE KEY UPDATE uniq = VALUES(uniq), body = VALUES(body)`, target, string(o.Kind), o.Name, o.Unique, o.System, []byte(o.Attributes), target)
	return err
}

// Observed returns what the last survey of a target saw, accounts and groups, by name.
func (s *Store) Observed(ctx context.Context, target string) (accounts, groups []model.Object, err error) {
	rows, err := s.db.QueryxContext(ctx, `SELECT kind, name, uniq, belongs, body FROM observed WHERE target = ? ORDER BY kind, name`, target)
	if err != nil {
		return nil, nil, err
	}
	defer rows.Close()
	for rows.Next() {
		o, err := scanObject(rows.Scan)
		if err != nil {
			return nil, nil, fmt.Errorf("observed on %s: %w", target, err)
		}
		if o.Kind == model.Account {
			accounts = append(accounts, o)
		} else {
			groups = append(groups, o)
		}
	}
	return accounts, groups, rows.Err()
}

func scanObject(scan func(...any) error) (model.Object, error) {
	var o model.Object
	var body []byte
	if err := scan(&o.Kind, &o.Name, &o.Unique, &o.System, &body); err != nil {
		return o, err
	}
	var err error
	if len(body) > 0 && body[0] == '{' { // written before attributes were packed; a packed name has no 123 bytes
		err = json.Unmarshal(body, &o.Attributes)
	} else {
		o.Attributes, err = model.Unpack(body)
	}
	return o, err
}

// ObservedPage returns one page of a target's accounts whose name begins with prefix, and how many there are.
func (s *Store) ObservedPage(ctx context.Context, target, prefix string, p Page) (out []model.Object, total int, err error) {
	like := escapeLike(prefix) + "%"
	if err := s.db.GetContext(ctx, &total, `SELECT COUNT(*) FROM observed WHERE target = ? AND kind = 'account' AND name LIKE ?`, target, like); err != nil {
		return nil, 0, err
	}
	rows, err := s.db.QueryxContext(ctx, `SELECT kind, name, uniq, belongs, body FROM observed
		WHERE target = ? AND kind = 'account' AND name LIKE ? ORDER BY belongs, name LIMIT ? OFFSET ?`, target, like, p.Size, p.From)
	if err != nil {
		return nil, 0, err
	}
	defer rows.Close()
	for rows.Next() {
		o, err := scanObject(rows.Scan)
		if err != nil {
			return nil, 0, err
		}
		out = append(out, o)
	}
	return out, total, rows.Err()
}

// Object returns one observed object, or ErrNone.
func (s *Store) Object(ctx context.Context, target string, kind model.ObjectKind, name string) (model.Object, error) {
	return scanObject(s.db.QueryRowxContext(ctx, `SELECT kind, name, uniq, belongs, body FROM observed WHERE target = ? AND kind = ? AND name = ?`, target, string(kind), name).Scan)
}

func escapeLike(s string) string {
	out := make([]byte, 0, len(s))
	for i := range len(s) {
		if s[i] == '%' || s[i] == '_' || s[i] == '\\' {
			out = append(out, '\\')
		}
		out = append(out, s[i])
	}
	return string(out)
}

// GroupsOf returns the names of the groups on a target that an account is a
// direct member of. The database finds those whose packed members hold the
// name's bytes; which of them hold it as a member is seen here.
func (s *Store) GroupsOf(ctx context.Context, target, account string) ([]string, error) {
	rows, err := s.db.QueryxContext(ctx, `SELECT kind, name, uniq, belongs, body FROM observed WHERE target = ? AND kind = 'group' AND INSTR(body, ?) > 0 ORDER BY name`, target, []byte(account))
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := []string{}
	for rows.Next() {
		o, err := scanObject(rows.Scan)
		if err != nil {
			return nil, err
		}
		if slices.Contains(o.Attributes.Get(model.Members), account) {
			out = append(out, o.Name)
		}
	}
	return out, rows.Err()
}
