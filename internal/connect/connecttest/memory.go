package connecttest

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// Memory is a made-up kind of target that offers all that the contract knows of:
// every kind of object, names of two parts, secrets, sessions, surveys from a
// mark, and changes on trial. It is one target, and its own connector.
type Memory struct {
	Now     func() time.Time      // nil: time.Now
	Trial   time.Duration         // how long a change is taken on trial; 0: a minute
	Trouble func(op string) error // what goes wrong when it is asked for something; nil: nothing

	mu       sync.Mutex
	objects  map[model.Named]*model.Object // of sets without their members
	members  map[[2]model.Named]bool
	secrets  map[model.Named]string
	sessions map[string]model.Object
	changes  []change
	times    map[string]int // how often each act was carried out, by its key
	trial    *trial
}

// change is one line of what has happened, so that a survey can go on from a mark.
type change struct{ name model.Named }

// trial is what was there before a change that is not confirmed yet.
type trial struct {
	mark    connect.Mark
	objects map[model.Named]*model.Object
	members map[[2]model.Named]bool
	secrets map[model.Named]string
	times   map[string]int
}

var everyVerb = []model.Verb{model.Create, model.Modify, model.Remove}

// MemorySchema is what a Memory says of itself.
var MemorySchema = model.Schema{
	Kind: "memory", About: "a made-up target", SystemNames: []string{"factory*"},
	Kinds: []model.KindSchema{
		{Kind: model.PlaceKind, Name: model.OnePart("name", "."), Verbs: everyVerb,
			Attributes: []model.AttributeSchema{{Name: model.Path}, {Name: model.Guarded}}},
		{Kind: model.GroupKind, Name: model.OnePart("name", `^[a-z-]+$`), Verbs: append(everyVerb, model.JoinIt, model.LeaveIt),
			Members:    []model.ObjectKind{model.Account, model.GroupKind},
			Attributes: []model.AttributeSchema{{Name: model.Number, Settable: true}}},
		{Kind: model.RightKind, Name: model.OnePart("name", "."), Verbs: append(everyVerb, model.JoinIt, model.LeaveIt),
			Members: []model.ObjectKind{model.Account}, Watched: true,
			Attributes: []model.AttributeSchema{{Name: model.Allows, Many: true}}},
		{Kind: model.LicenceKind, Name: model.OnePart("name", "."), Verbs: []model.Verb{model.JoinIt, model.LeaveIt},
			Members: []model.ObjectKind{model.Account}, Attributes: []model.AttributeSchema{{Name: model.Seats}}},
		{Kind: model.ElevationKind, Name: model.OnePart("command", "."), ByJoining: true,
			Verbs: []model.Verb{model.JoinIt, model.LeaveIt}, Members: []model.ObjectKind{model.Account}},
		{Kind: model.Account, Name: []model.NamePart{{Name: "login", Pattern: `^[a-z.]{1,64}$`},
			{Name: "origin", Pattern: `^[a-z0-9.%-]{1,64}$`, Usual: "%"}}, Joint: "@",
			Verbs: append(everyVerb, model.Disable, model.Enable, model.AdoptIt),
			Attributes: []model.AttributeSchema{
				{Name: model.Number, Settable: true, From: "number"},
				{Name: model.FullName, Settable: true, From: "name", Canonical: strings.TrimSpace},
				{Name: "shell", Settable: true}, {Name: model.Password, Sealed: true},
				{Name: model.PasswordHash, Sealed: true}, {Name: model.PasswordKept, Sealed: true}, {Name: model.MustChange},
				{Name: model.Disabled}}},
		{Kind: model.PolicyKind, Name: model.OnePart("name", "."), Verbs: []model.Verb{model.SetRule, model.Remove},
			Attributes: []model.AttributeSchema{{Name: "password.length"}}},
		{Kind: model.SessionKind}, {Kind: model.SystemKind},
	},
}

// Schema implements connect.Connector.
func (*Memory) Schema() model.Schema { return MemorySchema }

// Open implements connect.Connector. The key of a Memory is "memory".
func (m *Memory) Open(_ context.Context, a connect.Access) (connect.Session, error) {
	if a.Key != memoryKey {
		return nil, &connect.KeyError{Target: a.Target, Offered: memoryKey, Print: memoryKey, Accepted: a.Key}
	}
	if err := m.trouble("open"); err != nil {
		return nil, err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.ready()
	return &memorySession{m, a.As}, nil
}

const memoryKey = "memory"

// Knows implements connect.Connector.
func (*Memory) Knows() connect.Knows { return connect.Knows{} }

func (m *Memory) trouble(op string) error {
	if m.Trouble == nil {
		return nil
	}
	return m.Trouble(op)
}

func (m *Memory) now() time.Time {
	if m.Now != nil {
		return m.Now()
	}
	return time.Now()
}

func (m *Memory) ready() {
	if m.objects != nil {
		return
	}
	m.objects, m.members, m.secrets, m.sessions = map[model.Named]*model.Object{}, map[[2]model.Named]bool{}, map[model.Named]string{},
		map[string]model.Object{}
	m.times = map[string]int{}
	m.put(model.Object{Kind: model.SystemKind, Name: "itself", System: true,
		Attributes: model.Pack(model.Attribute{Name: model.Version, Values: []string{"1"}})})
}

func (m *Memory) put(o model.Object) {
	m.objects[model.Named{Kind: o.Kind, Name: o.Name}] = &o
	m.changes = append(m.changes, change{model.Named{Kind: o.Kind, Name: o.Name}})
}

// Put changes the target behind everybody's back.
func (m *Memory) Put(o model.Object) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.ready()
	m.put(o)
}

// Enter puts a member into a set behind everybody's back.
func (m *Memory) Enter(set, member model.Named) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.ready()
	m.members[[2]model.Named{set, member}] = true
	m.changes = append(m.changes, change{set})
}

// Part takes a member out of a set behind everybody's back.
func (m *Memory) Part(set, member model.Named) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.ready()
	delete(m.members, [2]model.Named{set, member})
	m.changes = append(m.changes, change{set})
}

// Times says how often an act was carried out and is not taken back.
func (m *Memory) Times(a model.Act) int {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.ready()
	m.gone()
	return m.times[a.Key()]
}

// SignIn makes a session of somebody.
func (m *Memory) SignIn(id, account string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.ready()
	m.sessions[id] = model.Object{Kind: model.SessionKind, Name: id,
		Attributes: model.Pack(model.Attribute{Name: "account", Values: []string{account}})}
}

// gone ends a trial whose time has run out.
func (m *Memory) gone() {
	if m.trial != nil && !m.now().Before(m.trial.mark.Until) {
		m.back()
	}
}

func (m *Memory) back() {
	m.objects, m.members, m.secrets, m.times = m.trial.objects, m.trial.members, m.trial.secrets, m.trial.times
	for n := range m.objects {
		m.changes = append(m.changes, change{n})
	}
	m.trial = nil
}

// Object implements connect.View.
func (m *Memory) Object(n model.Named) *model.Object {
	o := m.objects[n]
	if o == nil {
		return nil
	}
	with := *o
	for kind, attribute := range map[model.ObjectKind]string{model.Account: model.Members, model.GroupKind: model.MemberGroups} {
		var in []string
		for pair := range m.members {
			if pair[0] == n && pair[1].Kind == kind {
				in = append(in, pair[1].Name)
			}
		}
		if slices.Sort(in); in != nil {
			with.Attributes = with.Attributes.With(attribute, in...)
		}
	}
	return &with
}

// Member implements connect.View.
func (m *Memory) Member(set, member model.Named) bool { return m.members[[2]model.Named{set, member}] }

type memorySession struct {
	*Memory
	as string
}

var (
	_ connect.Connector = (*Memory)(nil)
	_ connect.Session   = (*memorySession)(nil)
)

func (s *memorySession) Close() error { return nil }

// Offers implements connect.Session.
func (s *memorySession) Offers() connect.Offers {
	return connect.Offers{Prove: s.Prove, ProveElevation: s.ProveElevation, Admits: s.Admits, Sessions: s.Sessions, End: s.End,
		Since: s.Since, Keep: s.Keep, Trial: &connect.Trial{Whole: s.Whole, Settle: s.Settle}, Preview: s.Preview}
}

// Survey implements connect.Session.
func (s *memorySession) Survey(ctx context.Context, found func(model.Object) error) error {
	_, err := s.Since(ctx, "", found, nil)
	return err
}

// Since implements connect.Offers.
func (s *memorySession) Since(ctx context.Context, mark string, found func(model.Object) error,
	gone func(connect.Gone) error) (string, error) {
	if err := errors.Join(ctx.Err(), s.trouble("survey")); err != nil {
		return "", err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.gone()
	from := 0
	if mark != "" {
		n, err := strconv.Atoi(mark)
		if err != nil || n > len(s.changes) {
			return "", connect.ErrVoid
		}
		from = n
	}
	told := map[model.Named]bool{}
	for _, c := range s.changes[from:] {
		o := s.Object(c.name)
		switch {
		case told[c.name]:
		case o != nil:
			o.Ours = o.Name == s.as
			if err := found(*o); err != nil {
				return "", err
			}
		case mark != "":
			if err := gone(connect.Gone{Named: c.name}); err != nil {
				return "", err
			}
		}
		told[c.name] = true
	}
	return strconv.Itoa(len(s.changes)), nil
}

// Begin implements connect.Session.
func (s *memorySession) Begin(ctx context.Context, acts []connect.Act) (connect.Carrier, error) {
	if err := errors.Join(ctx.Err(), s.trouble("apply")); err != nil {
		return nil, err
	}
	return &memoryBatch{Usual: connect.Usual{Schema: MemorySchema}, memorySession: s, ctx: ctx}, nil
}

// memoryBatch carries out acts, each at once.
type memoryBatch struct {
	connect.Usual
	*memorySession
	ctx context.Context
}

// Object and Member implement connect.View.
func (b *memoryBatch) Object(n model.Named) *model.Object {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.gone()
	return b.memorySession.Object(n)
}

func (b *memoryBatch) Member(set, member model.Named) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.memorySession.Member(set, member)
}

// Carry implements connect.Carrier.
func (b *memoryBatch) Carry(_ context.Context, x *connect.Batch, ready []int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, i := range ready {
		if x.Lost = b.trouble("act"); x.Lost != nil {
			return
		}
		if err := b.act(x.Acts[i]); err != nil {
			x.Trouble[i] = err
		}
	}
}

// ReadBack implements connect.Carrier.
func (b *memoryBatch) ReadBack(_ context.Context, x *connect.Batch) (connect.View, error) {
	if x.Lost != nil || len(x.Acts) == 0 {
		return b, x.Lost
	}
	return b, b.trouble("answer")
}

// carryOut answers every act, and says which of them were ready.
func (s *memorySession) carryOut(acts []connect.Act) (answers []connect.Answer, ready []int) {
	answers = make([]connect.Answer, len(acts))
	for i, a := range acts {
		if err := s.trouble("act"); err != nil {
			copy(answers[i:], connect.All(acts[i:], connect.Unsure, err.Error()))
			return answers, ready
		}
		if standing, words := connect.Judge(a, MemorySchema, s); standing != connect.Ready {
			answers[i] = connect.Found(a, standing, words, s)
			continue
		}
		ready = append(ready, i)
		trouble := ""
		if err := s.act(a); err != nil {
			trouble = err.Error()
		}
		answers[i] = connect.Verify(a, MemorySchema, s, trouble)
	}
	return answers, ready
}

func (s *memorySession) act(a connect.Act) error {
	name := a.Of()
	switch {
	case a.Moves():
		member := model.Named{Kind: a.MemberKind, Name: a.Member}
		if a.Verb == model.JoinIt && s.objects[member] == nil {
			return fmt.Errorf("there is no %s %s", member.Kind, member.Name)
		}
		if a.Verb == model.JoinIt && name.Kind == model.LicenceKind && s.full(name) {
			return fmt.Errorf("licence %s has no seat left", name.Name)
		}
		if s.objects[name] == nil {
			s.objects[name] = &model.Object{Kind: name.Kind, Name: name.Name} // one that is there by joining
		}
		s.members[[2]model.Named{name, member}] = a.Verb == model.JoinIt
		if a.Verb == model.LeaveIt {
			delete(s.members, [2]model.Named{name, member})
		}
	case a.Verb == model.Remove:
		delete(s.objects, name)
		for pair := range s.members {
			if pair[0] == name || pair[1] == name {
				delete(s.members, pair)
			}
		}
	case a.Verb != model.AdoptIt:
		if p, set := a.Secrets[model.Password]; set && len(p.Reveal()) == 0 {
			return errors.New("a password of no letters")
		}
		s.set(a)
	}
	s.changes = append(s.changes, change{name})
	s.times[a.Key()]++
	return nil
}

func (s *memorySession) set(a connect.Act) {
	o := model.Object{Kind: a.Object, Name: a.Name}
	if was := s.objects[a.Of()]; was != nil {
		o = *was
	} else if a.Object == model.Account {
		o.Attributes = o.Attributes.With(model.Disabled, "no")
	}
	for _, c := range a.Changes {
		if c.Sealed != "" {
			s.secrets[a.Of()] = string(a.Secrets[c.Attribute].Reveal())
			continue
		}
		schema, _ := MemorySchema.Find(a.Object, c.Attribute)
		values := slices.Clone(c.After)
		for i := range values {
			if schema.Canonical != nil {
				values[i] = schema.Canonical(values[i])
			}
		}
		o.Attributes = o.Attributes.With(c.Attribute, values...)
	}
	s.objects[a.Of()] = &o
}

// full says whether all seats of a licence are taken.
func (s *memorySession) full(n model.Named) bool {
	seats, err := strconv.Atoi(s.objects[n].Attributes.One(model.Seats))
	return err == nil && len(s.Object(n).Attributes.Get(model.Members)) >= seats
}

// Whole implements connect.Trial.
func (s *memorySession) Whole(ctx context.Context, acts []connect.Act, tell func(connect.Mark) error) []connect.Answer {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.gone()
	if err := errors.Join(ctx.Err(), s.trouble("stage")); err != nil {
		return connect.All(acts, connect.Unsure, err.Error())
	}
	if answers, all := s.found(acts); all { // nothing to try
		return answers
	}
	if s.trial != nil {
		return connect.All(acts, connect.Unsure, "another change is on trial")
	}
	long := s.Trial
	if long == 0 {
		long = time.Minute
	}
	mark := connect.Mark{Until: s.now().Add(long), Token: fmt.Sprintf("trial-%d", len(s.changes))}
	if err := tell(mark); err != nil {
		return connect.All(acts, connect.NotTried, err.Error())
	}
	s.trial = &trial{mark, cloned(s.objects), cloned(s.members), cloned(s.secrets), cloned(s.times)}
	answers, ready := s.carryOut(acts)
	if slices.ContainsFunc(answers, func(a connect.Answer) bool { return a.Outcome == connect.Unsure }) {
		return answers
	}
	if err := s.trouble("trial"); err != nil { // lost while on trial
		return connect.All(acts, connect.Unsure, err.Error())
	}
	if s.gone(); s.trial == nil {
		return connect.All(acts, connect.Failed, "the trial ran out before it was confirmed; the target has gone back")
	}
	bad := slices.IndexFunc(answers, func(a connect.Answer) bool { return a.Outcome == connect.Failed || a.Outcome == connect.Moved })
	if bad < 0 {
		s.trial = nil
		if err := s.trouble("confirmed"); err != nil {
			return connect.All(acts, connect.Unsure, err.Error())
		}
		return answers
	}
	s.back()
	for _, i := range ready { // what was found done is done
		if answers[i].Outcome == connect.Done {
			answers[i] = connect.Answer{Outcome: connect.NotTried, Words: "the target takes all of it or nothing: " + answers[bad].Words}
		}
	}
	return answers
}

// found answers acts of which none is ready; all is false when one is.
func (s *memorySession) found(acts []connect.Act) (answers []connect.Answer, all bool) {
	for _, a := range acts {
		standing, words := connect.Judge(a, MemorySchema, s)
		if standing == connect.Ready {
			return nil, false
		}
		answers = append(answers, connect.Found(a, standing, words, s))
	}
	return answers, true
}

func cloned[K comparable, V any](m map[K]V) map[K]V {
	out := make(map[K]V, len(m))
	for k, v := range m {
		out[k] = v
	}
	return out
}

// Settle implements connect.Trial.
func (s *memorySession) Settle(ctx context.Context, mark connect.Mark) error {
	if err := errors.Join(ctx.Err(), s.trouble("settle")); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.trial != nil && s.trial.mark.Token == mark.Token {
		s.back()
	}
	return nil
}

// Preview implements connect.Offers.
func (s *memorySession) Preview(_ context.Context, acts []connect.Act) ([]string, error) {
	var out []string
	for _, a := range acts {
		out = append(out, fmt.Sprintf("%s %s %s", a.Verb, a.Object, a.Name))
	}
	return out, nil
}

// Prove implements connect.Offers.
func (s *memorySession) Prove(_ context.Context, as string, secret connect.Secret) (bool, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.gone()
	n := model.Named{Kind: model.Account, Name: as}
	o := s.objects[n]
	return o != nil && o.Attributes.One(model.Disabled) != "yes" && s.secrets[n] == string(secret.Reveal()) && s.secrets[n] != "", nil
}

// ProveElevation implements connect.Offers.
func (s *memorySession) ProveElevation(ctx context.Context, as string, secret connect.Secret) (bool, error) {
	in, err := s.Prove(ctx, as, secret)
	s.mu.Lock()
	defer s.mu.Unlock()
	return in && s.members[[2]model.Named{{Kind: model.ElevationKind, Name: "all"}, {Kind: model.Account, Name: as}}], err
}

// Admits implements connect.Offers.
func (s *memorySession) Admits(_ context.Context, accounts []string) []connect.Admission {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := make([]connect.Admission, len(accounts))
	for i, name := range accounts {
		out[i] = connect.Admission{State: connect.LetIn, Words: "it is open"}
		if o := s.objects[model.Named{Kind: model.Account, Name: name}]; o == nil || o.Attributes.One(model.Disabled) == "yes" {
			out[i] = connect.Admission{State: connect.KeptOut, Words: "it is shut"}
		}
	}
	return out
}

// Sessions implements connect.Offers.
func (s *memorySession) Sessions(context.Context) ([]model.Object, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	var out []model.Object
	for _, o := range s.sessions {
		out = append(out, o)
	}
	slices.SortFunc(out, func(a, b model.Object) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// End implements connect.Offers.
func (s *memorySession) End(_ context.Context, names []string) []connect.Answer {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := make([]connect.Answer, len(names))
	for i, n := range names {
		out[i].Outcome = connect.AlreadySo
		if _, there := s.sessions[n]; there {
			out[i].Outcome = connect.Done
			delete(s.sessions, n)
		}
	}
	return out
}
