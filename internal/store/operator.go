package store

import (
	"context"
	"time"
)

// Operator is someone who signs in to Hen Roost.
type Operator struct {
	Name     string    `db:"name"`
	FullName string    `db:"full_name"`
	Password string    `db:"password"`
	Duties   string    `db:"duties"`
	MadeAt   time.Time `db:"made_at"`

	GivenBy string     `db:"given_by"` // who made them, or gave them duties or a password, and who did that for those; comma separated
	GivenAt *time.Time `db:"given_at"` // when that was last; nil: confirmed, or long ago

	SignedInAt *time.Time `db:"signed_in_at"` // last, with their password
}

const operatorColumns = `name, full_name, password, duties, made_at, given_by, given_at, signed_in_at`

// Credential is a browser session or an API token, of which only the hash is known.
type Credential struct {
	Hash     []byte     `db:"hash"`
	Operator string     `db:"operator"`
	Kind     string     `db:"kind"`
	Name     string     `db:"name"`
	MadeAt   time.Time  `db:"made_at"`
	EndsAt   time.Time  `db:"ends_at"`
	UsedAt   *time.Time `db:"used_at"`
}

// Operators lists all operators by name.
func (s *Store) Operators(ctx context.Context) ([]Operator, error) {
	var out []Operator
	err := s.db.SelectContext(ctx, &out, `SELECT `+operatorColumns+` FROM operator ORDER BY name`)
	return out, err
}

// Operator returns one operator, or ErrNone.
func (s *Store) Operator(ctx context.Context, name string) (Operator, error) {
	var o Operator
	err := s.db.GetContext(ctx, &o, `SELECT `+operatorColumns+` FROM operator WHERE name = ?`, name)
	return o, err
}

// CountOperators counts within the transaction, and keeps others from adding one meanwhile.
func (tx *Tx) CountOperators(ctx context.Context) (n int, err error) {
	err = tx.GetContext(ctx, &n, `SELECT COUNT(*) FROM operator FOR UPDATE`)
	return n, err
}

// PutOperator adds an operator or changes the one of that name.
func (tx *Tx) PutOperator(ctx context.Context, o Operator) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO operator (`+operatorColumns+`) VALUES `+rows(1, 8)+`
		ON DUPLICATE KEY UPDATE full_name = VALUES(full_name), password = VALUES(password), duties = VALUES(duties), given_by =
				VALUES(given_by), given_at = VALUES(given_at)`,
		o.Name, o.FullName, o.Password, o.Duties, o.MadeAt, o.GivenBy, o.GivenAt, o.SignedInAt)
	return err
}

// NoteSignedIn notes when an operator signed in last.
func (tx *Tx) NoteSignedIn(ctx context.Context, name string, at time.Time) error {
	_, err := tx.ExecContext(ctx, `UPDATE operator SET signed_in_at = ? WHERE name = ?`, at, name)
	return err
}

// RemoveOperator takes an operator and all their credentials away.
func (tx *Tx) RemoveOperator(ctx context.Context, name string) (found bool, err error) {
	if _, err := tx.ExecContext(ctx, `DELETE FROM credential WHERE operator = ?`, name); err != nil {
		return false, err
	}
	res, err := tx.ExecContext(ctx, `DELETE FROM operator WHERE name = ?`, name)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n > 0, err
}

// PutCredential keeps a new credential, and forgets those that have ended.
func (tx *Tx) PutCredential(ctx context.Context, c Credential) error {
	if _, err := tx.ExecContext(ctx, `DELETE FROM credential WHERE ends_at < ?`, c.MadeAt); err != nil {
		return err
	}
	_, err := tx.NamedExecContext(ctx, `INSERT INTO credential (hash, operator, kind, name, made_at, ends_at)
		VALUES (:hash, :operator, :kind, :name, :made_at, :ends_at)`, c)
	return err
}

// Credential finds a credential by its hash with its operator, or ErrNone.
func (s *Store) Credential(ctx context.Context, hash []byte) (Credential, Operator, error) {
	var row struct {
		Credential
		FullName string `db:"full_name"`
		Duties   string `db:"duties"`
	}
	err := s.db.GetContext(ctx, &row, `SELECT c.hash, c.operator, c.kind, c.name, c.made_at, c.ends_at, c.used_at, o.full_name, o.duties
		FROM credential c JOIN operator o ON o.name = c.operator WHERE c.hash = ?`, hash)
	return row.Credential, Operator{Name: row.Operator, FullName: row.FullName, Duties: row.Duties}, err
}

// UseCredential notes that a credential was used.
func (s *Store) UseCredential(ctx context.Context, hash []byte, at time.Time) error {
	_, err := s.exec(ctx, `UPDATE credential SET used_at = ? WHERE hash = ?`, at, hash)
	return err
}

// DropCredential ends one credential by its hash.
func (tx *Tx) DropCredential(ctx context.Context, hash []byte) error {
	_, err := tx.ExecContext(ctx, `DELETE FROM credential WHERE hash = ?`, hash)
	return err
}

// DropCredentials ends all credentials of an operator but one, by its hash; nil for all.
func (tx *Tx) DropCredentials(ctx context.Context, operator string, but []byte) error {
	if but == nil {
		but = []byte{}
	}
	_, err := tx.ExecContext(ctx, `DELETE FROM credential WHERE operator = ? AND hash <> ?`, operator, but)
	return err
}

// DropToken ends an operator's API token by name.
func (tx *Tx) DropToken(ctx context.Context, operator, name string) (found bool, err error) {
	res, err := tx.ExecContext(ctx, `DELETE FROM credential WHERE operator = ? AND kind = 'token' AND name = ?`, operator, name)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n > 0, err
}

// Tokens lists API tokens, of one operator or of all.
func (s *Store) Tokens(ctx context.Context, operator string) ([]Credential, error) {
	var out []Credential
	err := s.db.SelectContext(ctx, &out, `SELECT hash, operator, kind, name, made_at, ends_at, used_at FROM credential
		WHERE kind = 'token' AND (? = '' OR operator = ?) ORDER BY operator, name LIMIT 1000`, operator, operator)
	return out, err
}
