package connect

import (
	"context"
	"errors"
	"io"
	"net"
	"time"

	"hen-roost/internal/core/model"
)

// unsupported says what a kind of target cannot do; it is errors.ErrUnsupported.
type unsupported string

func (u unsupported) Error() string      { return string(u) }
func (unsupported) Is(target error) bool { return target == errors.ErrUnsupported }

// Prover is a session that can sign in as somebody else.
type Prover interface {
	// Prove signs in on a connection of its own with a password or a private key,
	// and says whether the target let that login in. An error says that it cannot
	// be known: the target did not answer. Nothing is done as that login. Several may
	// call it at once, while nothing else is done with the session.
	Prove(ctx context.Context, as string, secret Secret) (bool, error)
}

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
	x, ok := s.(Prover)
	if !ok {
		return NotProved, "targets of this kind offer no way to try it"
	}
	switch in, err := x.Prove(ctx, as, secret); {
	case err != nil:
		return NotProved, err.Error()
	case in:
		return Proved, ""
	}
	return Disproved, ""
}

// Renewer is a session whose own way of signing in can be renewed.
type Renewer interface {
	// Renew has the target let our login in with another secret of the same sort, a
	// private key or a password: beside the one that the session was opened with
	// where it can, else in place of it. Twice is as once.
	Renew(ctx context.Context, fresh Secret) error
	// Retire has the target let our login in with an old secret no more. It is
	// called on a session that was opened with the fresh one. Twice is as once.
	Retire(ctx context.Context, old Secret) error
}

// Renew gives our own login a fresh secret, or returns an error that wraps
// errors.ErrUnsupported where such targets cannot be asked.
func Renew(ctx context.Context, s Session, fresh Secret) error {
	if x, ok := s.(Renewer); ok {
		return x.Renew(ctx, fresh)
	}
	return unsupported("our own login on targets of this kind cannot be renewed from here")
}

// Retire takes an old secret of our own login away; where none was renewed there is none.
func Retire(ctx context.Context, s Session, old Secret) error {
	if x, ok := s.(Renewer); ok {
		return x.Retire(ctx, old)
	}
	return nil
}

// Gate is a session whose target tells whether it would let somebody in, without
// anybody's password.
type Gate interface {
	// Admits asks for each account, by its name, and answers each. Nothing is done
	// as that login.
	Admits(ctx context.Context, accounts []string) []Admission
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
	if x, ok := s.(Gate); ok && len(accounts) > 0 {
		return x.Admits(ctx, accounts)
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

// LoginMaker is a connector that can tell what makes our own login on a target.
type LoginMaker interface {
	// MakeLogin returns the statements, line by line, that an administrator there carries out once: they make a login that
	// signs in from an address and may do what Hen Roost does on such a target, and give the permissions on, and no more.
	MakeLogin(as, from string, permissions []string) []string
}

// MakeLogin returns what makes our own login on targets of a kind, or an error that wraps errors.ErrUnsupported where nobody can tell.
func MakeLogin(c Connector, as, from string, permissions []string) ([]string, error) {
	if x, ok := c.(LoginMaker); ok {
		return x.MakeLogin(as, from, permissions), nil
	}
	return nil, unsupported("what our login needs on targets of this kind is in the guide; it cannot be told as statements")
}

// Keeper is a session that can tell what makes an account again as it is.
type Keeper interface {
	// Keep tells of accounts, by their names, what makes them again; of one that is not there nothing. Nothing is changed.
	Keep(ctx context.Context, accounts []string) (map[string]Kept, error)
}

// Kept is what makes an account again.
type Kept struct {
	Changes []model.Change // what it is made with
	Sets    []model.Named  // that it was in
	Hash    Secret         // how its password is kept there, to be set as model.PasswordKept; empty for none
}

// Keep tells what makes accounts again; where a target cannot tell, that is nothing.
func Keep(ctx context.Context, s Session, accounts []string) (map[string]Kept, error) {
	if x, ok := s.(Keeper); ok && len(accounts) > 0 {
		return x.Keep(ctx, accounts)
	}
	return nil, nil
}

// Leader is a session through which other targets can be reached.
type Leader interface {
	// Dial connects from the target to an address, as it knows it. The connection ends with the session.
	Dial(ctx context.Context, network, address string) (net.Conn, error)
}

// Lead connects from a target to an address, or returns an error that wraps
// errors.ErrUnsupported where targets of that kind lead nowhere.
func Lead(ctx context.Context, s Session, network, address string) (net.Conn, error) {
	if x, ok := s.(Leader); ok {
		return x.Dial(ctx, network, address)
	}
	return nil, unsupported("no other target can be reached through one of this kind")
}

// Runner is a session with a target on which programs can be run.
type Runner interface {
	// Run runs one by its name and arguments, which no shell reads, with something on its standard input. It returns what the
	// program says on both its outputs, at most so many bytes, and its status. An error means that nothing is known of it.
	Run(ctx context.Context, program []string, input string, most int) (said string, status int, err error)
}

// RunOn returns what runs programs on a target, or an error that wraps errors.ErrUnsupported where none can be.
func RunOn(s Session) (Runner, error) {
	if x, ok := s.(Runner); ok {
		return x, nil
	}
	return nil, unsupported("no program can be run on a target of this kind")
}

// Knower is a connector that knows which permissions actions take on its targets.
type Knower interface {
	// Needs returns all that an action takes, in the words by which accounts and sets tell what they give (model.Schema.Permits).
	// open opens a session where the target itself must be asked. The action is what somebody would type; one that nobody
	// knows is a *NotKnownAction.
	Needs(ctx context.Context, action string, open func() (Session, error)) ([]string, error)
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
	if x, ok := c.(Knower); ok {
		return x.Needs(ctx, action, open)
	}
	list, err := schema.Of(model.RightKind).Spelled.Read(action)
	if err != nil {
		return nil, &NotKnownAction{err.Error()}
	}
	return list, nil
}

// HomeKeeper is a session that sees what people leave on a target.
type HomeKeeper interface {
	// Homes returns the homes there as objects of kind home, as a survey with Access.Homes tells them.
	Homes(ctx context.Context) ([]model.Object, error)
}

// Homes returns the homes on a target, or an error that wraps errors.ErrUnsupported where there are none.
func Homes(ctx context.Context, s Session) ([]model.Object, error) {
	if x, ok := s.(HomeKeeper); ok {
		return x.Homes(ctx)
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
	if x, ok := s.(Archiver); ok {
		return x, nil
	}
	return nil, unsupported("targets of this kind keep no archives of homes")
}

// Elevator is a session that can try whether somebody becomes superuser on the target.
type Elevator interface {
	// ProveElevation signs in as somebody on a connection of its own, becomes superuser there by what the account was
	// given, and says whether it is. Nothing else is done. An error says that it cannot be known.
	ProveElevation(ctx context.Context, as string, secret Secret) (bool, error)
}

// ProveElevation tries whether somebody becomes superuser; where nobody can try nothing is proved, and words say why.
func ProveElevation(ctx context.Context, s Session, as string, secret Secret) (p Proof, words string) {
	x, ok := s.(Elevator)
	if !ok {
		return NotProved, "targets of this kind offer no way to try it"
	}
	switch in, err := x.ProveElevation(ctx, as, secret); {
	case err != nil:
		return NotProved, err.Error()
	case in:
		return Proved, ""
	}
	return Disproved, "it signs in, and does not become superuser"
}

// Watcher is a session that sees who is signed in to the target now.
type Watcher interface {
	// Sessions returns them as objects of kind session: their attributes say whose
	// account, from where and since when, as far as the target tells.
	Sessions(ctx context.Context) ([]model.Object, error)
	// End ends sessions by their names and answers each, as Session.Apply does:
	// already so when it has ended by itself. Our own is never ended.
	End(ctx context.Context, names []string) []Answer
}

// Watch returns the sessions of a target, or an error that wraps
// errors.ErrUnsupported where such targets do not tell.
func Watch(ctx context.Context, s Session) ([]model.Object, error) {
	if x, ok := s.(Watcher); ok {
		return x.Sessions(ctx)
	}
	return nil, unsupported("who is signed in to a target of this kind cannot be seen")
}

// End ends sessions, or answers each as not tried where nobody can.
func End(ctx context.Context, s Session, names []string) []Answer {
	if x, ok := s.(Watcher); ok {
		return x.End(ctx, names)
	}
	return All(make([]Act, len(names)), NotTried, "sessions on targets of this kind cannot be ended from here")
}

// Follower is a session that can survey what changed since a survey before.
type Follower interface {
	// Since hands on every object that is otherwise than at the mark, and the names
	// of those that are gone. With no mark it is a whole survey. It returns the mark
	// to go on from, which counts only when there is no error: a mark is kept once
	// what was handed on is. ErrVoid, before anything was handed on, says that the
	// mark is worth nothing any more.
	Since(ctx context.Context, mark string, found func(model.Object) error, gone func(Gone) error) (next string, err error)
}

// Gone is an object that is no longer there: by kind and name or, where the
// target tells no more of it, by kind and the target's own id for it. One that
// nobody knows of may be told of too.
type Gone struct {
	model.Named
	Unique string
}

// Since surveys what changed since a mark. ErrVoid says that a whole survey is
// due, and that nothing was handed on; see Follower.
func Since(ctx context.Context, s Session, mark string, found func(model.Object) error, gone func(Gone) error) (next string, err error) {
	if x, ok := s.(Follower); ok && mark != "" {
		return x.Since(ctx, mark, found, gone)
	}
	return "", ErrVoid
}

// Survey surveys everything, and returns the mark to go on from, "" where there is none.
func Survey(ctx context.Context, s Session, found func(model.Object) error) (mark string, err error) {
	if x, ok := s.(Follower); ok {
		return x.Since(ctx, "", found, nil)
	}
	return "", s.Survey(ctx, found)
}

// Mark tells a change that a target holds on trial: until when, and how to find it again.
type Mark struct {
	Until time.Time
	Token string
}

// Provisional is a session whose target takes changes all or nothing, on trial
// for a time, and takes them back by itself unless they are confirmed.
type Provisional interface {
	// Whole carries out acts as Apply does, all or none of them: staged, checked by
	// the target, taken on trial, proved, and confirmed. tell is called before the
	// trial begins, and what it is told is durable when it returns; an error from
	// it ends everything with nothing changed. An answer of Unsure says that the
	// trial may run: Settle it on a new session.
	Whole(ctx context.Context, acts []Act, tell func(Mark) error) []Answer
	// Settle ends the trial that a mark tells of, whatever became of it, and
	// returns when the target stands still: confirmed before, or gone back. Nothing
	// of it may be read and judged earlier.
	Settle(ctx context.Context, mark Mark) error
}

// Whole carries out a batch all or nothing where the target can, ok false where
// it cannot and acts are applied one by one.
func Whole(ctx context.Context, s Session, acts []Act, tell func(Mark) error) (answers []Answer, ok bool) {
	if x, can := s.(Provisional); can {
		return x.Whole(ctx, acts, tell), true
	}
	return nil, false
}

// AllOrNothing says whether a session takes batches whole, so that they must not be cut.
func AllOrNothing(s Session) bool { _, ok := s.(Provisional); return ok }

// Settle ends a trial; where there are none there is nothing to end.
func Settle(ctx context.Context, s Session, mark Mark) error {
	if x, ok := s.(Provisional); ok {
		return x.Settle(ctx, mark)
	}
	return nil
}

// Previewer is a session whose target says itself what acts would change.
type Previewer interface {
	// Preview returns the target's own difference, line by line. Nothing is changed.
	Preview(ctx context.Context, acts []Act) ([]string, error)
}

// Preview returns what the target would say, or an error that wraps
// errors.ErrUnsupported where it says nothing.
func Preview(ctx context.Context, s Session, acts []Act) ([]string, error) {
	if x, ok := s.(Previewer); ok {
		return x.Preview(ctx, acts)
	}
	return nil, unsupported("targets of this kind do not say beforehand what would change")
}
