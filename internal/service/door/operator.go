package door

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"hen-roost/internal/store"
)

// Duty is what an operator may do.
type Duty string

const (
	Look       Duty = "look"       // see everything but secrets
	Draft      Duty = "draft"      // declare, decide whose an account is, draft rounds
	Approve    Duty = "approve"    // let drafted rounds run
	Run        Duty = "run"        // survey, run and stop
	Suspend    Duty = "suspend"    // cut people off
	Restore    Duty = "restore"    // let them in again
	Credential Duty = "credential" // set, hand over and rotate credentials, unlock
	Administer Duty = "administer" // operators, secrets, identity keys
	Push       Duty = "push"       // push people in, as other systems do
)

// Duties lists all duties.
var Duties = []Duty{Look, Draft, Approve, Run, Suspend, Restore, Credential, Administer, Push}

// Operator is someone who is signed in, or the service itself.
type Operator struct {
	Name     string `json:"name" example:"odd.strand"`
	FullName string `json:"full-name" example:"Odd Strand"`
	Duties   []Duty `json:"duties"`

	GivenBy        []string   `json:"given-by,omitempty" doc:"who made them, or gave them duties or a password: they cannot lift holds on what these drafted, yet"`
	ProbationUntil *time.Time `json:"probation-until,omitempty" doc:"until when, unless another administrator confirms them"`
}

// Itself acts when nobody in particular does: on resuming, on the server's own command line.
var Itself = Operator{Name: "hen-roost", FullName: "Hen Roost", Duties: Duties}

// May says whether the operator has a duty, and if not who could give it.
func (o Operator) May(d Duty) error {
	if slices.Contains(o.Duties, d) {
		return nil
	}
	if o.Name == "" {
		return &Problem{Kind: SignedOut, Words: "you are not signed in: roost sign-in"}
	}
	var have []string
	for _, d := range o.Duties {
		have = append(have, string(d))
	}
	return &Problem{Kind: Forbidden, Words: fmt.Sprintf("this needs the duty %q; %s has %s. An operator with the duty %q can give it: "+
		"roost operator set %s --duties …", d, o.Name, strings.Join(have, ", "), Administer, o.Name)}
}

func parseDuties(words []string) ([]Duty, error) {
	var out []Duty
	for _, w := range words {
		d := Duty(strings.TrimSpace(w))
		if !slices.Contains(Duties, d) {
			return nil, Wrong("duties", "%q is not a duty; duties are %s", w, strings.ReplaceAll(joined(Duties), ",", ", "))
		}
		if !slices.Contains(out, d) {
			out = append(out, d)
		}
	}
	if !slices.Contains(out, Look) && !slices.Equal(out, []Duty{Push}) {
		out = append([]Duty{Look}, out...) // who may act may look, but for a system that only tells
	}
	return out, nil
}

func joined(duties []Duty) string {
	var words []string
	for _, d := range duties {
		words = append(words, string(d))
	}
	return strings.Join(words, ",")
}

func operatorOf(o store.Operator) Operator {
	out := Operator{Name: o.Name, FullName: o.FullName}
	for w := range strings.SplitSeq(o.Duties, ",") {
		out.Duties = append(out.Duties, Duty(w))
	}
	return out
}

const (
	sessionFor = 12 * time.Hour
	tokenFor   = 365 * 24 * time.Hour
)

// SignIn checks name and password and returns the operator with a fresh
// credential: a browser session, or an API token when token names it. from is
// the address the wish came from.
func (s *Door) SignIn(ctx context.Context, name, password, token, from string) (Operator, string, time.Time, error) {
	now := s.Now()
	if err := s.checkSignIn(ctx, name, password, from); err != nil {
		return Operator{}, "", time.Time{}, err
	}
	row, err := s.Store.Operator(ctx, name)
	if err != nil {
		return Operator{}, "", time.Time{}, err
	}
	kind, life, words := "session", sessionFor, "signed in from "+from
	if token != "" {
		kind, life, words = "token", tokenFor, fmt.Sprintf("made the API token %q from %s", token, from)
	}
	secret := "roost-" + rand.Text()
	hash := sha256.Sum256([]byte(secret))
	until := now.Add(life)
	err = s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		if kind == "token" {
			if _, err := tx.DropToken(ctx, row.Name, token); err != nil {
				return nil, err
			}
		}
		if err := tx.NoteSignedIn(ctx, row.Name, now); err != nil {
			return nil, err
		}
		err := tx.PutCredential(ctx, store.Credential{Hash: hash[:], Operator: row.Name, Kind: kind, Name: token, MadeAt: now,
			EndsAt: until})
		return []*store.Entry{{At: now, Kind: "sign-in", Operator: row.Name, Words: words}}, err
	})
	return operatorOf(row), secret, until, err
}

func clipName(s string) string {
	if len(s) > 100 {
		s = strings.ToValidUTF8(s[:100], "")
	}
	return s
}

// Who returns the operator behind a credential.
func (s *Door) Who(ctx context.Context, secret string) (Operator, error) {
	signedOut := &Problem{Kind: SignedOut, Words: "you are not signed in, or no longer: roost sign-in"}
	if !strings.HasPrefix(secret, "roost-") || len(secret) > 100 {
		return Operator{}, signedOut
	}
	hash := sha256.Sum256([]byte(secret))
	c, o, err := s.Store.Credential(ctx, hash[:])
	now := s.Now()
	if err == store.ErrNone || err == nil && c.EndsAt.Before(now) {
		return Operator{}, signedOut
	}
	if err != nil {
		return Operator{}, err
	}
	if c.UsedAt == nil || now.Sub(*c.UsedAt) > time.Minute {
		if err := s.Store.UseCredential(ctx, hash[:], now); err != nil {
			return Operator{}, err
		}
	}
	return operatorOf(o), nil
}

// SignOut ends a credential.
func (s *Door) SignOut(ctx context.Context, who Operator, secret string) error {
	hash := sha256.Sum256([]byte(secret))
	return s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		return []*store.Entry{{At: s.Now(), Kind: "sign-out", Operator: who.Name, Words: "signed out"}}, tx.DropCredential(ctx, hash[:])
	})
}

var operatorName = regexp.MustCompile(`^[a-z][a-z0-9._-]{0,63}$`)

// FirstOperator makes the first administrator, once. It returns the generated
// password when none is given. It is called on the server itself only.
func (s *Door) FirstOperator(ctx context.Context, name, full, password string) (string, error) {
	if full == "" {
		full = name
	}
	row, password, err := s.newOperator(ctx, name, full, password, Duties)
	if err != nil {
		return "", err
	}
	if err := s.tellApart(ctx, name, full); err != nil {
		return "", err
	}
	return password, s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		n, err := tx.CountOperators(ctx)
		if err != nil {
			return nil, err
		}
		if n > 0 {
			return nil, &store.Refusal{Err: Clashing("there are operators already; one with the duty %q adds others: roost operator add %s",
				Administer, name)}
		}
		return []*store.Entry{{At: s.Now(), Kind: "operator", Operator: Itself.Name, Words: "made the first administrator " + name}},
			tx.PutOperator(ctx, row)
	})
}

func (s *Door) newOperator(ctx context.Context, name, full, password string, duties []Duty) (store.Operator, string, error) {
	if !operatorName.MatchString(name) {
		return store.Operator{}, "", Wrong("name",
			"%q cannot be an operator's name: small letters, digits, dots, - and _, beginning with a letter", name)
	}
	if password == "" {
		password = rand.Text()[:20]
	} else if err := s.fitPassword(ctx, name, full, password); err != nil {
		return store.Operator{}, "", err
	}
	return store.Operator{Name: name, FullName: full, Password: hashPassword(password), Duties: joined(duties), MadeAt: s.Now()},
		password, nil
}

// Operators lists the operators.
func (s *Door) Operators(ctx context.Context, who Operator) ([]Operator, error) {
	if err := who.May(Administer); err != nil {
		return nil, err
	}
	rows, err := s.Store.Operators(ctx)
	out := make([]Operator, 0, len(rows))
	for _, r := range rows {
		o := operatorOf(r)
		if by, until := s.onProbation(r); len(by) > 0 {
			o.GivenBy, o.ProbationUntil = by, &until
		}
		out = append(out, o)
	}
	return out, err
}

// AddOperator adds an operator with duties and returns their password, generated when none is given.
func (s *Door) AddOperator(ctx context.Context, who Operator, name, full, password string, duties []string) (string, error) {
	if err := who.May(Administer); err != nil {
		return "", err
	}
	d, err := parseDuties(duties)
	if err != nil {
		return "", err
	}
	if full == "" {
		full = name
	}
	if _, err := s.Store.Operator(ctx, name); err == nil {
		return "", Clashing("there is an operator %s already; change their duties with: roost operator set %s", name, name)
	}
	row, password, err := s.newOperator(ctx, name, full, password, d)
	if err != nil {
		return "", err
	}
	if err := s.tellApart(ctx, name, full); err != nil {
		return "", err
	}
	if err := s.given(ctx, &row, who); err != nil {
		return "", err
	}
	return password, s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		return ofOperators(s.Now(), who, fmt.Sprintf("added operator %s with %s", name, joined(d))), tx.PutOperator(ctx, row)
	})
}

// SetOperator changes an operator's duties.
func (s *Door) SetOperator(ctx context.Context, who Operator, name string, duties []string) error {
	if err := who.May(Administer); err != nil {
		return err
	}
	d, err := parseDuties(duties)
	if err != nil {
		return err
	}
	row, err := s.operatorRow(ctx, name)
	if err != nil {
		return err
	}
	if name == who.Name && !slices.Contains(d, Administer) {
		return Clashing("you cannot take the duty %q from yourself; somebody else must", Administer)
	}
	if name != who.Name && slices.ContainsFunc(d, func(x Duty) bool { return !slices.Contains(operatorOf(row).Duties, x) }) {
		if err := s.given(ctx, &row, who); err != nil {
			return err
		}
	}
	was := row
	row.Duties = joined(d)
	return s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		if err := s.parting(ctx, tx, was, d); err != nil {
			return nil, err
		}
		return ofOperators(s.Now(), who, fmt.Sprintf("gave operator %s the duties %s", name, row.Duties)), tx.PutOperator(ctx, row)
	})
}

// Acting is an operator in whose name something is done that they asked for before; an error where they could not ask for it any more.
func (s *Door) Acting(ctx context.Context, name string, needs ...Duty) (Operator, error) {
	if name == Itself.Name {
		return Itself, nil
	}
	row, err := s.Store.Operator(ctx, name)
	if err == store.ErrNone {
		return Operator{}, Clashing("%s is no longer an operator", name)
	}
	if err != nil {
		return Operator{}, err
	}
	o := operatorOf(row)
	for _, d := range needs {
		if o.May(d) != nil {
			return Operator{}, Clashing("%s no longer has the duty %q", name, d)
		}
	}
	return o, nil
}

func (s *Door) operatorRow(ctx context.Context, name string) (store.Operator, error) {
	row, err := s.Store.Operator(ctx, name)
	if err == store.ErrNone {
		all, err := s.Store.Operators(ctx)
		if err != nil {
			return row, err
		}
		var names []string
		for _, o := range all {
			names = append(names, o.Name)
		}
		return row, NotKnown("operator", name, names)
	}
	return row, err
}

// KnownOperator refuses a name that no operator has, with the nearest; "" is nobody in particular.
func (s *Door) KnownOperator(ctx context.Context, name string) error {
	if name == "" {
		return nil
	}
	_, err := s.operatorRow(ctx, name)
	return err
}

// RemoveOperator takes an operator away with all their credentials.
func (s *Door) RemoveOperator(ctx context.Context, who Operator, name string) error {
	if err := who.May(Administer); err != nil {
		return err
	}
	if name == who.Name {
		return Clashing("you cannot remove yourself; somebody else must")
	}
	row, err := s.operatorRow(ctx, name)
	if err != nil {
		return err
	}
	return s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		if err := s.parting(ctx, tx, row, nil); err != nil {
			return nil, err
		}
		_, err := tx.RemoveOperator(ctx, name)
		return []*store.Entry{{At: s.Now(), Kind: "operator", Operator: who.Name, Words: "removed operator " + name}}, err
	})
}

// ChangePassword changes the operator's own password, and ends all their other
// sessions and tokens. The one they have is asked for again.
func (s *Door) ChangePassword(ctx context.Context, who Operator, credential, old, fresh, from string) error {
	if err := who.May(Look); err != nil {
		return err
	}
	if err := s.checkSignIn(ctx, who.Name, old, from); err != nil {
		if ProblemOf(err).Kind == SignedOut { // they are signed in: what they typed is wrong
			return Wrong("old", "that is not the password you have")
		}
		return err
	}
	if err := s.fitPassword(ctx, who.Name, who.FullName, fresh); err != nil {
		return err
	}
	if fresh == old {
		return Wrong("new", "that is the password you have")
	}
	row, err := s.operatorRow(ctx, who.Name)
	if err != nil {
		return err
	}
	row.Password = hashPassword(fresh)
	hash := sha256.Sum256([]byte(credential))
	return s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		if err := tx.DropCredentials(ctx, who.Name, hash[:]); err != nil {
			return nil, err
		}
		return ofOperators(s.Now(), who, "changed their own password; their other sessions and tokens ended"), tx.PutOperator(ctx, row)
	})
}

// ResetPassword gives another operator a new password, generated when none is
// given, and ends all their sessions and tokens. Since who does it could sign in
// as them, they are kept together for a time (see foureyes.go).
func (s *Door) ResetPassword(ctx context.Context, who Operator, name, password string) (string, error) {
	if err := who.May(Administer); err != nil {
		return "", err
	}
	if name == who.Name {
		return "", Clashing("your own password you change with the one you have: roost operator password")
	}
	row, err := s.operatorRow(ctx, name)
	if err != nil {
		return "", err
	}
	if password == "" {
		password = rand.Text()[:20]
	} else if err := s.fitPassword(ctx, name, row.FullName, password); err != nil {
		return "", err
	}
	row.Password = hashPassword(password)
	if err := s.given(ctx, &row, who); err != nil {
		return "", err
	}
	return password, s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		if err := tx.DropCredentials(ctx, name, nil); err != nil {
			return nil, err
		}
		return ofOperators(s.Now(), who, "gave operator "+name+" a new password; all their sessions and tokens ended"),
			tx.PutOperator(ctx, row)
	})
}

// ofOperators is the entry of what was done to an operator.
func ofOperators(at time.Time, who Operator, words string) []*store.Entry {
	return []*store.Entry{{At: at, Kind: "operator", Operator: who.Name, Words: words}}
}

// fitPassword says why an operator cannot have a password.
func (s *Door) fitPassword(ctx context.Context, name, full, password string) error {
	if len([]rune(password)) < minPassword {
		return Wrong("password", "a password needs at least %d letters", minPassword)
	}
	if len(password) > maxPassword {
		return Wrong("password", "a password has at most %d bytes", maxPassword)
	}
	if s.Fit == nil {
		return nil
	}
	return s.Fit(ctx, name, full, password)
}

// Token is an API token as it can be shown.
type Token struct {
	Operator string     `json:"operator"`
	Name     string     `json:"name"`
	MadeAt   time.Time  `json:"made-at"`
	EndsAt   time.Time  `json:"ends-at"`
	UsedAt   *time.Time `json:"used-at,omitempty"`
}

// Tokens lists the operator's own API tokens.
func (s *Door) Tokens(ctx context.Context, who Operator) ([]Token, error) {
	if err := who.May(Look); err != nil {
		return nil, err
	}
	rows, err := s.Store.Tokens(ctx, who.Name)
	out := make([]Token, 0, len(rows))
	for _, r := range rows {
		out = append(out, Token{r.Operator, r.Name, r.MadeAt, r.EndsAt, r.UsedAt})
	}
	return out, err
}

// RemoveToken ends one of the operator's own API tokens.
func (s *Door) RemoveToken(ctx context.Context, who Operator, name string) error {
	if err := who.May(Look); err != nil {
		return err
	}
	tokens, err := s.Tokens(ctx, who)
	if err != nil {
		return err
	}
	var names []string
	for _, t := range tokens {
		names = append(names, t.Name)
	}
	if !slices.Contains(names, name) {
		return NotKnown("token of yours", name, names)
	}
	return s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		_, err := tx.DropToken(ctx, who.Name, name)
		return []*store.Entry{{At: s.Now(), Kind: "operator", Operator: who.Name, Words: fmt.Sprintf("ended the API token %q", name)}}, err
	})
}

// SecretInfo is a secret as it can be shown: never what is in it.
type SecretInfo struct {
	Name  string    `json:"name"`
	SetAt time.Time `json:"set-at"`
	SetBy string    `json:"set-by"`
}

var secretName = regexp.MustCompile(`^[a-z][a-z0-9._-]{0,99}$`)

// FitSecret says why a secret cannot be sealed under a name.
func FitSecret(name string, value []byte) error {
	if !secretName.MatchString(name) {
		return Wrong("name", "%q cannot be a secret's name: small letters, digits, dots, - and _", name)
	}
	if len(value) == 0 || len(value) > 32<<10 {
		return Wrong("value", "a secret has between 1 and 32768 bytes, this one has %d", len(value))
	}
	return nil
}

// SetSecret seals a secret under its name.
func (s *Door) SetSecret(ctx context.Context, who Operator, name string, value []byte) error {
	if err := who.May(Administer); err != nil {
		return err
	}
	if err := FitSecret(name, value); err != nil {
		return err
	}
	sealed, err := s.seal.close(value)
	if err != nil {
		return err
	}
	return s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		return []*store.Entry{{At: s.Now(), Kind: "secret", Operator: who.Name, Words: "set the secret " + name}},
			tx.PutSecret(ctx, store.Secret{Name: name, Sealed: sealed, SetAt: s.Now(), SetBy: who.Name})
	})
}

// NextOf is the name under which the secret waits that takes the place of another,
// and BeforeOf that of the one whose place was taken: no secret is named so by anybody.
func NextOf(name string) string   { return name + "~next" }
func BeforeOf(name string) string { return name + "~before" }

// Secrets lists the names of the secrets.
func (s *Door) Secrets(ctx context.Context, who Operator) ([]SecretInfo, error) {
	if err := who.May(Administer); err != nil {
		return nil, err
	}
	rows, err := s.Store.Secrets(ctx)
	out := make([]SecretInfo, 0, len(rows))
	for _, r := range rows {
		if !strings.Contains(r.Name, "~") {
			out = append(out, SecretInfo{r.Name, r.SetAt, r.SetBy})
		}
	}
	return out, err
}
