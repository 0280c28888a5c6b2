package store

import (
	"context"
	"time"
)

// usersOf are the columns that say whose something is now; what tells of the past keeps the name of its time.
var usersOf = []string{`decision`, `suspension`, `suspended_account`, `handover`, `certificate`, `screened`, `archive`, `intake_person`}

// RenameUser gives all that is known of a user to another id, which nothing may be known of yet: their accounts, decisions,
// suspensions, passwords that wait. Whose accounts were before stays in the past under the old one.
func (tx *Tx) RenameUser(ctx context.Context, from, to, operator string, at time.Time) error {
	if _, err := tx.ExecContext(ctx, `INSERT IGNORE INTO link_past (target, user, until, since, name, rest, uniq)
			SELECT target, user, ?, since, name, rest, uniq FROM link WHERE user = ?`, at, from); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `UPDATE link SET user = ?, since = ? WHERE user = ?`, to, at, from); err != nil {
		return err
	}
	for _, table := range usersOf {
		if _, err := tx.ExecContext(ctx, `UPDATE `+table+` SET user = ? WHERE user = ?`, to, from); err != nil {
			return err
		}
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO renamed (old, new, operator, at) VALUES (?, ?, ?, ?)
			ON DUPLICATE KEY UPDATE new = VALUES(new), operator = VALUES(operator), at = VALUES(at)`, from, to, operator, at)
	return err
}

// renamesMost bounds how many names of one person are followed.
const renamesMost = 20

// FormerNames are the ids that a user had before, the newest first.
func (s *Store) FormerNames(ctx context.Context, user string) (out []string, err error) {
	seen := map[string]bool{user: true}
	for next := []string{user}; len(next) > 0 && len(out) < renamesMost; {
		var old []string
		err := s.db.SelectContext(ctx, &old, `SELECT old FROM renamed WHERE new = ? ORDER BY at DESC LIMIT ?`, next[0], renamesMost)
		if err != nil {
			return nil, err
		}
		next = next[1:]
		for _, name := range old {
			if !seen[name] {
				seen[name] = true
				out, next = append(out, name), append(next, name)
			}
		}
	}
	return out, nil
}

// NameNow is the id that a user has whose old one is given; "" when that was nobody's.
func (s *Store) NameNow(ctx context.Context, old string) (string, error) {
	now, seen := "", map[string]bool{}
	for next := old; !seen[next] && len(seen) < renamesMost; {
		seen[next] = true
		err := s.db.GetContext(ctx, &next, `SELECT new FROM renamed WHERE old = ?`, next)
		if err == ErrNone {
			break
		}
		if err != nil {
			return "", err
		}
		now = next
	}
	return now, nil
}

// SourcesOf are the intake sources that told of a user.
func (s *Store) SourcesOf(ctx context.Context, user string) (out []string, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT source FROM intake_person WHERE user = ? ORDER BY source`, user)
	return out, err
}

// RenameFindings gives what is known of findings of a target to the same ones under other keys: who looks after them, what was
// said of them and, by the keys of single changes, how often they were put right.
func (tx *Tx) RenameFindings(ctx context.Context, target string, keys map[string]string) error {
	for from, to := range keys {
		old, err := findingID(from)
		if err != nil {
			return err
		}
		now, err := findingID(to)
		if err != nil {
			return err
		}
		for _, table := range []string{`care`, `finding_comment`, `mended`} {
			if _, err := tx.ExecContext(ctx, `UPDATE IGNORE `+table+` SET id = ? WHERE target = ? AND id = ?`, now, target, old); err != nil {
				return err
			}
		}
	}
	return nil
}
