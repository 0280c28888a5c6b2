package connect

import (
	"context"
	"errors"
	"io"
	"net"
	"time"

	"hen-roost/internal/core/model"
)

// Offers is what a session can do beside what it owes; what is nil it cannot. Each is asked for by one function of this
// package, which says what is done instead.
type Offers struct {
	// Prove signs in on a connection of its own with a password or a private key,
	// and says whether the target let that login in. An error says that it cannot
	// be known: the target did not answer. Nothing is done as that login. Several may
	// call it at once, while nothing else is done with the session.
	Prove func(ctx context.Context, as string, secret Secret) (bool, error)
	// ProveElevation signs in as somebody on a connection of its own, becomes superuser there by what the account was
	// given, and says whether it is. Nothing else is done. An error says that it cannot be known.
	ProveElevation func(ctx context.Context, as string, secret Secret) (bool, error)
	// Admits asks the target for each account, by its name, whether it would let it in, without anybody's password, and answers
	// each. Nothing is done as that login.
	Admits func(ctx context.Context, accounts []string) []Admission

	// Renew has the target let our own login in with another secret of the same sort, a
	// private key or a password: beside the one that the session was opened with
	// where it can, else in place of it. Twice is as once.
	Renew func(ctx context.Context, fresh Secret) error
	// Retire has the target let our login in with an old secret no more. It is
	// called on a session that was opened with the fresh one. Twice is as once. Nil: of what was renewed nothing is left.
	Retire func(ctx context.Context, old Secret) error

	// Sessions returns who is signed in now as objects of kind session: their attributes say whose
	// account, from where and since when, as far as the target tells.
	Sessions func(ctx context.Context) ([]model.Object, error)
	// End ends sessions by their names and answers each, as Apply does:
	// already so when it has ended by itself. Our own is never ended.
	End func(ctx context.Context, names []string) []Answer

	// Since hands on every object that is otherwise than at the mark, and the names
	// of those that are gone. With no mark it is a whole survey. It returns the mark
	// to go on from, which counts only when there is no error: a mark is kept once
	// what was handed on is. ErrVoid, before anything was handed on, says that the
	// mark is worth nothing any more.
	Since func(ctx context.Context, mark string, found func(model.Object) error, gone func(Gone) error) (next string, err error)
	// Keep tells of accounts, by their names, what makes them again; of one that is not there nothing. Nothing is changed.
	Keep func(ctx context.Context, accounts []string) (map[string]Kept, error)
	// Trial takes changes all or nothing; nil: acts are carried out one by one.
	Trial *Trial
	// Preview returns the target's own difference that acts would make, line by line. Nothing is changed.
	Preview func(ctx context.Context, acts []Act) ([]string, error)

	// Dial connects from the target to an address, as it knows it. The connection ends with the session.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
	// Run runs a program on the target; see Runner.
	Run func(ctx context.Context, program []string, input string, most int) (said string, status int, err error)
	// Homes returns the homes there as objects of kind home, as a survey with Access.Homes tells them.
	Homes    func(ctx context.Context) ([]model.Object, error)
	Archives Archiver
}

// Trial is how a target takes changes all or nothing, on trial for a time, and takes them back by itself unless they are confirmed.
type Trial struct {
	// Whole carries out acts as Apply does, all or none of them: staged, checked by
	// the target, taken on trial, proved, and confirmed. tell is called before the
	// trial begins, and what it is told is durable when it returns; an error from
	// it ends everything with nothing changed. An answer of Unsure says that the
	// trial may run: Settle it on a new session.
	Whole func(ctx context.Context, acts []Act, tell func(Mark) error) []Answer
	// Settle ends the trial that a mark tells of, whatever became of it, and
	// returns when the target stands still: confirmed before, or gone back. Nothing
	// of it may be read and judged earlier.
	Settle func(ctx context.Context, mark Mark) error
}

// Knows is what a connector can tell of its kind of target beside the schema; what is nil it cannot.
type Knows struct {
	// MakeLogin returns the statements, line by line, that an administrator there carries out once: they make a login that
	// signs in from an address and may do what Hen Roost does on such a target, and give the permissions on, and no more.
	MakeLogin func(as, from string, permissions []string) []string
	// Needs returns all that an action takes, in the words by which accounts and sets tell what they give (model.Schema.Permits).
	// open opens a session where the target itself must be asked. The action is what somebody would type; one that nobody
	// knows is a *NotKnownAction.
	Needs func(ctx context.Context, action string, open func() (Session, error)) ([]string, error)
	// Answers is the account of a list, by name, that such a target takes somebody for who signs in with a login from an
	// address; "" for none. Where it is nil a login is one account, wherever it comes from.
	Answers func(accounts []string, login, from string) string
	// Lesson is the file that taught the kind.
	Lesson *Lesson
}

// unsupported says what a kind of target cannot do; it is errors.ErrUnsupported.
type unsupported string

func (u unsupported) Error() string      { return string(u) }
func (unsupported) Is(target error) bool { return target == errors.ErrUnsupported }

// Proof is what a sign-in showed of a change that cannot be read back.
type Proof string

const (
	Proved    Proof = "proved by signing in"
	Disproved Proof = "signing in with it does not work"
	NotProved Proof = "not proved"
)

// Prove signs in as somebody; where nobody can, or the target does not answer,
// nothing is proved, and words say why.
func Prove(ctx context.Context, s Session, as string, secret Secret) (p Proof, words string) {
	return tried(ctx, s.Offers().Prove, as, secret, "")
}

// tried says what a trial showed, and of one that did not succeed what disproves it.
func tried(ctx context.Context, try func(context.Context, string, Secret) (bool, error), as string, secret Secret,
	otherwise string) (p Proof, words string) {
	if try == nil {
		return NotProved, "targets of this kind offer no way to try it"
	}
	switch in, err := try(ctx, as, secret); {
	case err != nil:
		return NotProved, err.Error()
	case in:
		return Proved, ""
	}
	return Disproved, otherwise
}

// Renew gives our own login a fresh secret, or returns an error that wraps
// errors.ErrUnsupported where such targets cannot be asked.
func Renew(ctx context.Context, s Session, fresh Secret) error {
	if renew := s.Offers().Renew; renew != nil {
		return renew(ctx, fresh)
	}
	return unsupported("our own login on targets of this kind cannot be renewed from here")
}

// Retire takes an old secret of our own login away; where none was renewed there is none.
func Retire(ctx context.Context, s Session, old Secret) error {
	if retire := s.Offers().Retire; retire != nil {
		return retire(ctx, old)
	}
	return nil
}

// Admission is whether a target lets an account in now.
type Admission struct {
	State AdmissionState
	Words string // why, or why it cannot be known
}

// AdmissionState is one of the constants below.
type AdmissionState string

const (
	NotTold AdmissionState = "unknown"
	LetIn   AdmissionState = "admitted"
	KeptOut AdmissionState = "refused"
)

// Admits asks a target whether it lets accounts in; where nobody can ask, nothing is known.
func Admits(ctx context.Context, s Session, accounts []string) []Admission {
	if admits := s.Offers().Admits; admits != nil && len(accounts) > 0 {
		return admits(ctx, accounts)
	}
	return NotKnown(len(accounts), "targets of this kind do not tell")
}

// NotKnown is of n accounts that nothing is known, and why.
func NotKnown(n int, words string) []Admission {
	out := make([]Admission, n)
	for i := range out {
		out[i] = Admission{NotTold, words}
	}
	return out
}

// MakeLogin returns what makes our own login on targets of a kind, or an error that wraps errors.ErrUnsupported where nobody can tell.
func MakeLogin(c Connector, as, from string, permissions []string) ([]string, error) {
	if make := c.Knows().MakeLogin; make != nil {
		return make(as, from, permissions), nil
	}
	return nil, unsupported("what our login needs on targets of this kind is in the guide; it cannot be told as statements")
}

// Kept is what makes an account again.
type Kept struct {
	Changes []model.Change // what it is made with
	Sets    []model.Named  // that it was in
	Hash    Secret         // how its password is kept there, to be set as model.PasswordKept; empty for none
}

// Keep tells what makes accounts again; where a target cannot tell, that is nothing.
func Keep(ctx context.Context, s Session, accounts []string) (map[string]Kept, error) {
	if keep := s.Offers().Keep; keep != nil && len(accounts) > 0 {
		return keep(ctx, accounts)
	}
	return nil, nil
}

// Lead connects from a target to an address, or returns an error that wraps
// errors.ErrUnsupported where targets of that kind lead nowhere.
func Lead(ctx context.Context, s Session, network, address string) (net.Conn, error) {
	if dial := s.Offers().Dial; dial != nil {
		return dial(ctx, network, address)
	}
	return nil, unsupported("no other target can be reached through one of this kind")
}

// Runner is where programs can be run.
type Runner interface {
	// Run runs one by its name and arguments, which no shell reads, with something on its standard input. It returns what the
	// program says on both its outputs, at most so many bytes, and its status. An error means that nothing is known of it.
	Run(ctx context.Context, program []string, input string, most int) (said string, status int, err error)
}

// runs is a Runner of one function.
type runs func(ctx context.Context, program []string, input string, most int) (said string, status int, err error)

func (r runs) Run(ctx context.Context, program []string, input string, most int) (said string, status int, err error) {
	return r(ctx, program, input, most)
}

// RunOn returns what runs programs on a target, or an error that wraps errors.ErrUnsupported where none can be.
func RunOn(s Session) (Runner, error) {
	if run := s.Offers().Run; run != nil {
		return runs(run), nil
	}
	return nil, unsupported("no program can be run on a target of this kind")
}

// NotKnownAction says that nobody can tell what an action takes.
type NotKnownAction struct{ Words string }

func (n *NotKnownAction) Error() string { return n.Words }

// Needs returns the permissions that an action takes; where rights are called what they allow, it is called so too. The error wraps
// errors.ErrUnsupported where nobody knows.
func Needs(ctx context.Context, c Connector, action string, open func() (Session, error)) ([]string, error) {
	schema := c.Schema()
	if schema.Permits == nil {
		return nil, unsupported("what actions take on targets of this kind is not known")
	}
	if needs := c.Knows().Needs; needs != nil {
		return needs(ctx, action, open)
	}
	list, err := schema.Of(model.RightKind).Spelled.Read(action)
	if err != nil {
		return nil, &NotKnownAction{err.Error()}
	}
	return list, nil
}

// Homes returns the homes on a target, or an error that wraps errors.ErrUnsupported where there are none.
func Homes(ctx context.Context, s Session) ([]model.Object, error) {
	if homes := s.Offers().Homes; homes != nil {
		return homes(ctx)
	}
	return nil, unsupported("nobody has a home on a target of this kind")
}

// Archive is a home that was archived on a target.
type Archive struct {
	Name    string // of the file, as the target calls it
	Account string // whose it was, as far as a file can be called so
	Number  string
	Bytes   int64
}

// Archiver is a session with a target on which archives of homes wait to be fetched, and that takes them back.
type Archiver interface {
	// Waiting lists those that wait.
	Waiting(ctx context.Context) ([]Archive, error)
	// Fetch writes one out. It is whole only if the error is nil.
	Fetch(ctx context.Context, name string, to io.Writer) error
	// Fetched takes one away that was fetched, if what is there has this SHA-256.
	Fetched(ctx context.Context, name string, sum []byte) error
	// Return puts one back among the archives of the target. If its account is there, with the same number and
	// without a home, the home is unpacked; words say what was done.
	Return(ctx context.Context, a Archive, from io.Reader) (words string, err error)
}

// Archives returns what a session offers of archives, or an error that wraps errors.ErrUnsupported.
func Archives(s Session) (Archiver, error) {
	if x := s.Offers().Archives; x != nil {
		return x, nil
	}
	return nil, unsupported("targets of this kind keep no archives of homes")
}

// ProveElevation tries whether somebody becomes superuser; where nobody can try nothing is proved, and words say why.
func ProveElevation(ctx context.Context, s Session, as string, secret Secret) (p Proof, words string) {
	return tried(ctx, s.Offers().ProveElevation, as, secret, "it signs in, and does not become superuser")
}

// Watch returns the sessions of a target, or an error that wraps
// errors.ErrUnsupported where such targets do not tell.
func Watch(ctx context.Context, s Session) ([]model.Object, error) {
	if sessions := s.Offers().Sessions; sessions != nil {
		return sessions(ctx)
	}
	return nil, unsupported("who is signed in to a target of this kind cannot be seen")
}

// End ends sessions, or answers each as not tried where nobody can.
func End(ctx context.Context, s Session, names []string) []Answer {
	if end := s.Offers().End; end != nil {
		return end(ctx, names)
	}
	return All(make([]Act, len(names)), NotTried, "sessions on targets of this kind cannot be ended from here")
}

// Gone is an object that is no longer there: by kind and name or, where the
// target tells no more of it, by kind and the target's own id for it. One that
// nobody knows of may be told of too.
type Gone struct {
	model.Named
	Unique string
}

// Since surveys what changed since a mark. ErrVoid says that a whole survey is
// due, and that nothing was handed on; see Offers.
func Since(ctx context.Context, s Session, mark string, found func(model.Object) error, gone func(Gone) error) (next string, err error) {
	if since := s.Offers().Since; since != nil && mark != "" {
		return since(ctx, mark, found, gone)
	}
	return "", ErrVoid
}

// Survey surveys everything, and returns the mark to go on from, "" where there is none.
func Survey(ctx context.Context, s Session, found func(model.Object) error) (mark string, err error) {
	if since := s.Offers().Since; since != nil {
		return since(ctx, "", found, nil)
	}
	return "", s.Survey(ctx, found)
}

// Mark tells a change that a target holds on trial: until when, and how to find it again.
type Mark struct {
	Until time.Time
	Token string
}

// Whole carries out a batch all or nothing where the target can, ok false where
// it cannot and acts are applied one by one.
func Whole(ctx context.Context, s Session, acts []Act, tell func(Mark) error) (answers []Answer, ok bool) {
	if trial := s.Offers().Trial; trial != nil {
		return trial.Whole(ctx, acts, tell), true
	}
	return nil, false
}

// AllOrNothing says whether a session takes batches whole, so that they must not be cut.
func AllOrNothing(s Session) bool { return s.Offers().Trial != nil }

// Settle ends a trial; where there are none there is nothing to end.
func Settle(ctx context.Context, s Session, mark Mark) error {
	if trial := s.Offers().Trial; trial != nil {
		return trial.Settle(ctx, mark)
	}
	return nil
}

// Preview returns what the target would say, or an error that wraps
// errors.ErrUnsupported where it says nothing.
func Preview(ctx context.Context, s Session, acts []Act) ([]string, error) {
	if preview := s.Offers().Preview; preview != nil {
		return preview(ctx, acts)
	}
	return nil, unsupported("targets of this kind do not say beforehand what would change")
}
