package store

import (
	"context"
	"time"
)

// Handover is a new credential that waits to be collected once by its person.
type Handover struct {
	ID        int64      `db:"id"`
	User      string     `db:"user"`
	What      string     `db:"what"`
	State     string     `db:"state"`
	Batch     string     `db:"batch"`
	Aloud     bool       `db:"aloud"`
	Given     bool       `db:"given"`  // its person has it already
	Keeps     bool       `db:"keeps"`  // it need not be changed at the first sign-in
	Sealed    string     `db:"sealed"` // the id of what is in it; "": not made yet, or gone
	Operator  string     `db:"operator"`
	Because   string     `db:"because"`
	MadeAt    time.Time  `db:"made_at"`
	Lasts     int        `db:"lasts"` // seconds that it waits
	ExpiresAt *time.Time `db:"expires_at"`
	Code      []byte     `db:"code"` // a hash; nil: there is no link
	Tries     int        `db:"tries"`
	EndedAt   *time.Time `db:"ended_at"`
	EndedBy   string     `db:"ended_by"`
}

const handoverColumns = `id, user, what, state, batch, aloud, given, keeps, sealed, operator, because, made_at, lasts, expires_at, code, tries,
	ended_at, ended_by`

// HandoverAccount is an account that a handover's credential is for, and what became of it there.
type HandoverAccount struct {
	Handover int64      `db:"handover"`
	Target   string     `db:"target"`
	Name     string     `db:"name"`
	Round    int64      `db:"round"`
	State    string     `db:"state"` // waiting, proved, set, not set
	Words    string     `db:"words"`
	At       *time.Time `db:"at"`
}

// What became of a credential on an account.
const (
	HandedWaiting = "waiting"
	HandedProved  = "proved" // it is set, and somebody signed in with it
	Handed        = "set"    // it is set, and nobody could try it
	NotHanded     = "not set"
	HandedUnsure  = "unsure" // the connection was lost while it was set: it is set anew
)

// AddHandover stores one and returns its number.
func (tx *Tx) AddHandover(ctx context.Context, h Handover) (int64, error) {
	res, err := tx.NamedExecContext(ctx, `INSERT INTO handover (user, what, state, batch, aloud, given, keeps, sealed, operator, because, made_at,
		lasts) VALUES (:user, :what, :state, :batch, :aloud, :given, :keeps, :sealed, :operator, :because, :made_at, :lasts)`, h)
	if err != nil {
		return 0, err
	}
	return res.LastInsertId()
}

// Sealing is a sealed value, and the id it is kept under.
type Sealing struct {
	ID   string
	Body []byte
}

// PutSealings keeps sealed values.
func (tx *Tx) PutSealings(ctx context.Context, list []Sealing, at time.Time) error {
	for from, to := range groups(len(list), 500) {
		args := make([]any, 0, 3*(to-from))
		for _, x := range list[from:to] {
			args = append(args, x.ID, x.Body, at)
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO sealed (id, body, at) VALUES `+rows(to-from, 3), args...); err != nil {
			return err
		}
	}
	return nil
}

// SealHandover notes what is in a handover. It returns false when somebody else has, or it waits for it no longer.
func (tx *Tx) SealHandover(ctx context.Context, id int64, sealed string) (bool, error) {
	res, err := tx.ExecContext(ctx, `UPDATE handover SET sealed = ? WHERE id = ? AND sealed = '' AND state = 'made'`, sealed, id)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n == 1, err
}

// AddHandoverAccounts notes the accounts for which rounds are to set a credential.
// What was set before stays as it is.
func (tx *Tx) AddHandoverAccounts(ctx context.Context, list []HandoverAccount) error {
	for from, to := range groups(len(list), 500) {
		args := make([]any, 0, 5*(to-from))
		for _, a := range list[from:to] {
			args = append(args, a.Handover, a.Target, a.Name, a.Round, a.State)
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO handover_account (handover, target, name, round, state) VALUES `+rows(to-from, 5)+`
			ON DUPLICATE KEY UPDATE round = IF(state IN ('proved', 'set'), round, VALUES(round)),
			state = IF(state IN ('proved', 'set'), state, VALUES(state))`, args...); err != nil {
			return err
		}
	}
	return nil
}

// HandedOut is what became of a credential on one account.
type HandedOut struct {
	Sealed, Target, Name, State, Words string
}

// handOut stores what became of credentials in a batch of steps.
func (tx *Tx) handOut(ctx context.Context, list []HandedOut, at time.Time) error {
	for from, to := range groups(len(list), 250) {
		args := make([]any, 0, to-from)
		for _, x := range list[from:to] {
			args = append(args, x.Sealed)
		}
		var known []struct {
			ID     int64  `db:"id"`
			Sealed string `db:"sealed"`
		}
		if err := tx.SelectContext(ctx, &known, `SELECT id, sealed FROM handover WHERE sealed IN `+oneOf(to-from), args...); err != nil {
			return err
		}
		of := map[string]int64{}
		for _, k := range known {
			of[k.Sealed] = k.ID
		}
		args = args[:0]
		n := 0
		for _, x := range list[from:to] {
			if id := of[x.Sealed]; id != 0 {
				args = append(args, id, x.Target, x.Name, 0, x.State, clip(x.Words, 1000), at)
				n++
			}
		}
		if n == 0 {
			continue
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO handover_account (handover, target, name, round, state, words, at) VALUES `+rows(n, 7)+`
			ON DUPLICATE KEY UPDATE words = IF(state IN ('proved', 'set'), words, VALUES(words)),
			at = IF(state IN ('proved', 'set'), at, VALUES(at)), state = IF(state IN ('proved', 'set'), state, VALUES(state))`,
			args...); err != nil {
			return err
		}
	}
	return nil
}

// UnsetHandovers gives up the accounts whose round ended without a word of them, as
// one that was stopped does. Where there are none it locks nothing.
func (s *Store) UnsetHandovers(ctx context.Context, at time.Time) error {
	const ended = ` FROM handover_account a JOIN round r ON r.id = a.round JOIN handover h ON h.id = a.handover AND h.what IN ('password', 'hash')
		WHERE a.state = 'waiting' AND r.ended_at IS NOT NULL`
	var any bool
	if err := s.db.GetContext(ctx, &any, `SELECT EXISTS (SELECT 1`+ended+`)`); err != nil || !any {
		return err
	}
	_, err := s.exec(ctx, `UPDATE handover_account a JOIN round r ON r.id = a.round JOIN handover h ON h.id = a.handover
		AND h.what IN ('password', 'hash') SET a.state = 'not set', a.at = ?, a.words = CONCAT('round ', a.round, ' ended before it was tried')
		WHERE a.state = 'waiting' AND r.ended_at IS NOT NULL`, at)
	return err
}

// SettledHandovers are those made that some account has, and that no round under
// way is setting on others; and those that no account will have. At most so many.
func (s *Store) SettledHandovers(ctx context.Context, most int) (out []int64, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT id FROM handover h WHERE state = 'made' AND sealed > ''
		AND EXISTS (SELECT 1 FROM handover_account a WHERE a.handover = h.id)
		AND (EXISTS (SELECT 1 FROM handover_account a WHERE a.handover = h.id AND a.state IN ('proved', 'set'))
				AND NOT EXISTS (SELECT 1 FROM handover_account a LEFT JOIN round r ON r.id = a.round
					WHERE a.handover = h.id AND a.state = 'waiting' AND (r.id IS NULL OR r.state = 'running'))
			OR NOT EXISTS (SELECT 1 FROM handover_account a WHERE a.handover = h.id AND a.state IN ('waiting', 'unsure')))
		ORDER BY id LIMIT ?`, most)
	return out, err
}

// HandedTo counts the accounts on which a handover's credential is set.
func (tx *Tx) HandedTo(ctx context.Context, id int64) (n int, err error) {
	err = tx.GetContext(ctx, &n, `SELECT COUNT(*) FROM handover_account WHERE handover = ? AND state IN ('proved', 'set')`, id)
	return n, err
}

// AwaitHandover lets a handover be collected from now on.
func (tx *Tx) AwaitHandover(ctx context.Context, id int64, until time.Time) error {
	_, err := tx.ExecContext(ctx, `UPDATE handover SET state = 'waiting', expires_at = ? WHERE id = ?`, until, id)
	return err
}

// OutdatedHandovers are those of a user's that wait, and all of whose accounts have a newer password by a later one.
func (tx *Tx) OutdatedHandovers(ctx context.Context, user string, later int64) (out []Handover, err error) {
	err = tx.SelectContext(ctx, &out, `SELECT `+handoverColumns+` FROM handover h WHERE user = ? AND id < ? AND state = 'waiting'
		AND what = 'password' AND NOT EXISTS (SELECT 1 FROM handover_account a LEFT JOIN handover_account b ON b.handover = ?
			AND b.target = a.target AND b.name = a.name AND b.state IN ('proved', 'set')
			WHERE a.handover = h.id AND a.state IN ('proved', 'set') AND b.handover IS NULL) FOR UPDATE`, user, later, later)
	return out, err
}

// OpenHandoversOf are those of a user's that nobody has collected yet, locked.
func (tx *Tx) OpenHandoversOf(ctx context.Context, user string) (out []Handover, err error) {
	err = tx.SelectContext(ctx, &out, `SELECT `+handoverColumns+` FROM handover WHERE user = ? AND state IN ('made', 'waiting')
		ORDER BY id FOR UPDATE`, user)
	return out, err
}

// EndHandover ends one, and forgets what was in it.
func (tx *Tx) EndHandover(ctx context.Context, h Handover, state, by string, at time.Time) error {
	if _, err := tx.ExecContext(ctx, `UPDATE handover SET state = ?, ended_by = ?, ended_at = ?, link = NULL, code = NULL WHERE id = ?`,
		state, clip(by, 300), at, h.ID); err != nil {
		return err
	}
	if h.Sealed == "" {
		return nil
	}
	// While a step may still set it, it must be there: a password that nobody has is worse than one that nobody shows.
	var steps int
	if err := tx.GetContext(ctx, &steps, `SELECT COUNT(*) FROM handover_account WHERE handover = ? AND state IN ('waiting', 'unsure')`, h.ID); err != nil ||
		steps > 0 {
		return err
	}
	_, err := tx.ExecContext(ctx, `DELETE FROM sealed WHERE id = ?`, h.Sealed)
	return err
}

// ForgetSealings forgets what was in handovers that ended while a step could still have set it.
func (s *Store) ForgetSealings(ctx context.Context) error {
	_, err := s.exec(ctx, `DELETE x FROM sealed x STRAIGHT_JOIN handover h ON h.sealed = x.id WHERE h.state IN ('collected', 'expired', 'withdrawn',
		'not set') AND NOT EXISTS (SELECT 1 FROM handover_account a WHERE a.handover = h.id AND a.state IN ('waiting', 'unsure'))`)
	return err
}

// LinkHandover gives one a link, in place of the one before.
func (tx *Tx) LinkHandover(ctx context.Context, id int64, link, code []byte) error {
	_, err := tx.ExecContext(ctx, `UPDATE handover SET link = ?, code = ? WHERE id = ?`, link, code, id)
	return err
}

// LockHandover returns one by its number, or ErrNone, and keeps others from ending it until the transaction does.
func (tx *Tx) LockHandover(ctx context.Context, id int64) (out Handover, err error) {
	err = tx.GetContext(ctx, &out, `SELECT `+handoverColumns+` FROM handover WHERE id = ? FOR UPDATE`, id)
	return out, err
}

// LockHandoverByLink is LockHandover by the hash of what its link holds.
func (tx *Tx) LockHandoverByLink(ctx context.Context, link []byte) (out Handover, err error) {
	err = tx.GetContext(ctx, &out, `SELECT `+handoverColumns+` FROM handover WHERE link = ? FOR UPDATE`, link)
	return out, err
}

// HandoverByLink returns one by the hash of what its link holds, or ErrNone.
func (s *Store) HandoverByLink(ctx context.Context, link []byte) (out Handover, err error) {
	err = s.db.GetContext(ctx, &out, `SELECT `+handoverColumns+` FROM handover WHERE link = ?`, link)
	return out, err
}

// CountTry counts a try with a wrong code.
func (tx *Tx) CountTry(ctx context.Context, id int64) error {
	_, err := tx.ExecContext(ctx, `UPDATE handover SET tries = tries + 1 WHERE id = ?`, id)
	return err
}

// SealedIn returns the sealed value in the transaction, or ErrNone.
func (tx *Tx) SealedIn(ctx context.Context, id string) (body []byte, err error) {
	err = tx.GetContext(ctx, &body, `SELECT body FROM sealed WHERE id = ?`, id)
	return body, err
}

// OpenHandovers are the passwords of some users that nobody has collected yet.
func (s *Store) OpenHandovers(ctx context.Context, users []string) (out []Handover, err error) {
	for from, to := range groups(len(users), 500) {
		var some []Handover
		if err := s.db.SelectContext(ctx, &some, `SELECT `+handoverColumns+` FROM handover WHERE state IN ('made', 'waiting') AND what = 'password'
			AND user IN `+oneOf(to-from)+` ORDER BY id`, texts(users[from:to])...); err != nil {
			return nil, err
		}
		out = append(out, some...)
	}
	return out, nil
}

// AnyOpenHandover says whether there are passwords that nobody has collected yet.
func (s *Store) AnyOpenHandover(ctx context.Context) (bool, error) {
	var n int
	err := s.db.GetContext(ctx, &n, `SELECT COUNT(*) FROM (SELECT 1 FROM handover WHERE state IN ('made', 'waiting') LIMIT 1) x`)
	return n > 0, err
}

// HandoversSealed are those whose sealed values have some ids.
func (s *Store) HandoversSealed(ctx context.Context, ids []string) (out []Handover, err error) {
	for from, to := range groups(len(ids), 500) {
		var some []Handover
		if err := s.db.SelectContext(ctx, &some, `SELECT `+handoverColumns+` FROM handover WHERE sealed IN `+oneOf(to-from),
			texts(ids[from:to])...); err != nil {
			return nil, err
		}
		out = append(out, some...)
	}
	return out, nil
}

// ExpiredHandovers are those that have waited too long, at most so many.
func (s *Store) ExpiredHandovers(ctx context.Context, at time.Time, most int) (out []int64, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT id FROM handover WHERE state = 'waiting' AND expires_at < ? ORDER BY id
		LIMIT ?`, at, most)
	return out, err
}

// UnsureHandovers are accounts of which nobody knows whether a credential is set,
// and whose targets have given a sign of life since, at most so many.
func (s *Store) UnsureHandovers(ctx context.Context, most int) (out []HandoverAccount, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT a.handover, a.target, a.name, a.round, a.state, a.words, a.at FROM handover_account a
		JOIN handover h ON h.id = a.handover JOIN target t ON t.name = a.target
		WHERE a.state = 'unsure' AND h.state IN ('made', 'waiting', 'collected') AND t.surveyed_at > a.at ORDER BY a.handover, a.target LIMIT ?`, most)
	return out, err
}

// KeysToProve are the accounts that keys were brought to by rounds that have ended, at most so many.
func (s *Store) KeysToProve(ctx context.Context, most int) (out []HandoverAccount, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT a.handover, a.target, a.name, a.round, a.state, a.words, a.at FROM handover_account a
		JOIN handover h ON h.id = a.handover AND h.what IN ('key', 'certificate') LEFT JOIN round r ON r.id = a.round
		WHERE a.state = 'waiting' AND (r.id IS NULL OR r.ended_at IS NOT NULL) ORDER BY a.handover, a.target LIMIT ?`, most)
	return out, err
}

// SetHanded notes what became of a credential on an account.
func (s *Store) SetHanded(ctx context.Context, a HandoverAccount, at time.Time) error {
	_, err := s.exec(ctx, `UPDATE handover_account SET state = ?, words = ?, at = ? WHERE handover = ? AND target = ? AND name = ?`, a.State,
		clip(a.Words, 1000), at, a.Handover, a.Target, a.Name)
	return err
}

// Unhand notes that a credential is not set on an account, and why.
func (s *Store) Unhand(ctx context.Context, a HandoverAccount, why string, at time.Time) error {
	_, err := s.exec(ctx, `UPDATE handover_account SET state = 'not set', words = ?, at = ? WHERE handover = ? AND target = ? AND name = ?
		AND state = 'unsure'`, clip(why, 1000), at, a.Handover, a.Target, a.Name)
	return err
}

// HandoverFilter chooses handovers; zero fields choose all.
type HandoverFilter struct {
	IDs    []int64
	User   string
	Batch  string
	State  string
	Before int64 // only those with a smaller number
}

// Handovers returns the chosen ones, the newest first, at most so many.
func (s *Store) Handovers(ctx context.Context, f HandoverFilter, most int) (out []Handover, err error) {
	var c clause
	if f.IDs != nil {
		ids := make([]any, len(f.IDs))
		for i, id := range f.IDs {
			ids[i] = id
		}
		c.and("id IN "+oneOf(len(ids)), ids...)
	}
	if f.User != "" {
		c.and("user = ?", f.User)
	}
	if f.Batch != "" {
		c.and("batch = ?", f.Batch)
	}
	if f.State != "" {
		c.and("state = ?", f.State)
	}
	if f.Before > 0 {
		c.and("id < ?", f.Before)
	}
	err = s.db.SelectContext(ctx, &out, `SELECT `+handoverColumns+` FROM handover`+c.where()+` ORDER BY id DESC LIMIT ?`,
		append(c.args, most)...)
	return out, err
}

// HandoverAccounts returns the accounts of some handovers, by handover, target and name.
func (s *Store) HandoverAccounts(ctx context.Context, ids []int64) (out []HandoverAccount, err error) {
	for from, to := range groups(len(ids), 500) {
		args := make([]any, to-from)
		for i, id := range ids[from:to] {
			args[i] = id
		}
		var some []HandoverAccount
		if err := s.db.SelectContext(ctx, &some, `SELECT handover, target, name, round, state, words, at FROM handover_account
			WHERE handover IN `+oneOf(len(args))+` ORDER BY handover, target, name`, args...); err != nil {
			return nil, err
		}
		out = append(out, some...)
	}
	return out, nil
}

// HandoverFile is the handovers of a batch, sealed for those who give them out.
type HandoverFile struct {
	ID         int64     `db:"id"`
	Batch      string    `db:"batch"`
	Operator   string    `db:"operator"`
	MadeAt     time.Time `db:"made_at"`
	Recipients string    `db:"recipients"`
	People     int       `db:"people"`
	Body       []byte    `db:"body"`
}

// AddHandoverFile keeps one and returns its number.
func (tx *Tx) AddHandoverFile(ctx context.Context, f HandoverFile) (int64, error) {
	res, err := tx.NamedExecContext(ctx, `INSERT INTO handover_file (batch, operator, made_at, recipients, people, body)
		VALUES (:batch, :operator, :made_at, :recipients, :people, :body)`, f)
	if err != nil {
		return 0, err
	}
	return res.LastInsertId()
}

// HandoverFile returns one by its number, or ErrNone.
func (s *Store) HandoverFile(ctx context.Context, id int64) (out HandoverFile, err error) {
	err = s.db.GetContext(ctx, &out, `SELECT id, batch, operator, made_at, recipients, people, body FROM handover_file WHERE id = ?`, id)
	return out, err
}

// CountScreened counts, for the week that begins on a day, that somebody took a password which a policy would rather not.
func (s *Store) CountScreened(ctx context.Context, week, user, policy string) error {
	_, err := s.exec(ctx, `INSERT INTO screened (week, user, policy, n) VALUES (?, ?, ?, 1) ON DUPLICATE KEY UPDATE n = n + 1`, week, user,
		policy)
	return err
}

// Screened is how often somebody took such a password in a week.
type Screened struct {
	Week   time.Time `db:"week"`
	User   string    `db:"user"`
	Policy string    `db:"policy"`
	N      int       `db:"n"`
}

// Screenings returns the counts of a week, the most first.
func (s *Store) Screenings(ctx context.Context, week string, most int) (out []Screened, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT week, user, policy, n FROM screened WHERE week = ? ORDER BY n DESC, user, policy LIMIT ?`,
		week, most)
	return out, err
}

// AllScreenings returns the counts of all weeks, the newest first, of one user or all, at most so many.
func (s *Store) AllScreenings(ctx context.Context, user string, most int) (out []Screened, err error) {
	if user != "" {
		err = s.db.SelectContext(ctx, &out, `SELECT week, user, policy, n FROM screened FORCE INDEX (by_user) WHERE user = ?
				ORDER BY week DESC, policy LIMIT ?`, user, most)
		return out, err
	}
	err = s.db.SelectContext(ctx, &out, `SELECT week, user, policy, n FROM screened ORDER BY week DESC, user, policy LIMIT ?`, most)
	return out, err
}

// TellScreenings notes that a week was told of; false when it was before.
func (tx *Tx) TellScreenings(ctx context.Context, week string) (bool, error) {
	res, err := tx.ExecContext(ctx, `INSERT IGNORE INTO screened_told (week) VALUES (?)`, week)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n == 1, err
}
