package servicetest

import (
	"context"
	"errors"
	"sync"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
)

// Tern is a target in memory whose accounts tests lay out.
type Tern struct {
	Mu      sync.Mutex
	Objects map[string]model.Object
	Err     error
	Refuses string                    // the name it does not make
	Secrets map[string]connect.Secret // what was set, by account
	Pause   time.Duration
	Between func(verb string)   // what happens between its answer to "survey", or to acts, and what is made of it; nil: nothing
	Memory  *connecttest.Memory // the target of its kind, beside
}

// Change gives an account another value.
func (f *Tern) Change(name, attribute, value string) {
	f.Mu.Lock()
	defer f.Mu.Unlock()
	o := f.Objects["account"+name]
	o.Attributes = o.Attributes.With(attribute, value)
	f.Objects["account"+name] = o
}

// Set lays an object out as it is.
func (f *Tern) Set(o model.Object) {
	f.Mu.Lock()
	defer f.Mu.Unlock()
	f.Objects[o.Kind.String()+o.Name] = o
}

func (f *Tern) Schema() model.Schema {
	return model.Schema{Kind: "tern", Kinds: []model.KindSchema{
		{Kind: model.Account, Name: model.OnePart("login", "^[a-z.]+$"),
			Attributes: []model.AttributeSchema{
				{Name: model.Number, Settable: true, From: "number"}, {Name: model.FullName, Settable: true, From: "name"},
				{Name: model.Disabled}}},
		{Kind: model.GroupKind, Name: model.OnePart("name", "."), Members: []model.ObjectKind{model.Account},
			Verbs:      []model.Verb{model.Create, model.Modify, model.JoinIt, model.LeaveIt},
			Attributes: []model.AttributeSchema{{Name: model.Number}}}}}
}

func (f *Tern) Open(_ context.Context, a connect.Access) (connect.Session, error) {
	if f.Err != nil {
		return nil, f.Err
	}
	if string(a.Secret) != "hunter2-hunter2" {
		return nil, &connect.Error{Target: a.Target, Op: "sign in", Err: &connect.Refused{Err: errors.New("wrong secret")}}
	}
	return f, nil
}

func (f *Tern) Close() error { return nil }

func (f *Tern) Knows() connect.Knows { return connect.Knows{} }

func (f *Tern) Offers() connect.Offers { return connect.Offers{} }

func (f *Tern) between(verb string) {
	if f.Between != nil {
		f.Between(verb)
	}
}

func (f *Tern) Survey(_ context.Context, found func(model.Object) error) error {
	defer f.between("survey")
	f.Mu.Lock()
	defer f.Mu.Unlock()
	for _, o := range f.Objects {
		if err := found(o); err != nil {
			return err
		}
	}
	return nil
}

func (f *Tern) Object(n model.Named) *model.Object {
	if o, ok := f.Objects[n.Kind.String()+n.Name]; ok {
		return &o
	}
	return nil
}

func (f *Tern) Member(_, _ model.Named) bool { return false }

func (f *Tern) Begin(context.Context, []connect.Act) (connect.Carrier, error) {
	return ternBatch{connecttest.ByHand(f.Apply), f}, nil
}

// ternBatch shows what it holds.
type ternBatch struct {
	connecttest.ByHand
	of *Tern
}

func (b ternBatch) ReadBack(context.Context, *connect.Batch) (connect.View, error) { return b, nil }

func (b ternBatch) Object(n model.Named) *model.Object {
	b.of.Mu.Lock()
	defer b.of.Mu.Unlock()
	return b.of.Object(n)
}

// Apply carries out acts, and answers each.
func (f *Tern) Apply(_ context.Context, acts []connect.Act) []connect.Answer {
	time.Sleep(f.Pause)
	defer f.between(string(acts[0].Verb))
	f.Mu.Lock()
	defer f.Mu.Unlock()
	out := make([]connect.Answer, len(acts))
	for i, a := range acts {
		if a.Name == f.Refuses {
			out[i] = connect.Answer{Outcome: connect.Failed, Words: "the disk is full"}
			continue
		}
		for _, s := range a.Secrets {
			if f.Secrets == nil {
				f.Secrets = map[string]connect.Secret{}
			}
			f.Secrets[a.Name] = s
		}
		standing, words := connect.Judge(a, f.Schema(), f)
		if standing != connect.Ready {
			out[i] = connect.Found(a, standing, words, f)
			continue
		}
		if a.Object == model.Account && a.Verb != model.AdoptIt {
			o := f.Objects["account"+a.Name]
			o.Kind, o.Name = model.Account, a.Name
			for name, values := range a.After().All() {
				o.Attributes = o.Attributes.With(name, values...)
			}
			if a.Verb == model.Create {
				o.Attributes = o.Attributes.With(model.Disabled, "no")
			}
			f.Objects["account"+a.Name] = o
		}
		out[i] = connect.Verify(a, f.Schema(), f, "")
	}
	return out
}

// Declaration is of two users on one such target.
const Declaration = `roost: 1
users:
  marit: {name: Marit Fell, number: 1001, roles: [crew]}
  hanne: {name: Hanne Vik, number: 1014, roles: [crew]}
roles:
  crew: {gives: [{at: {kind: tern}}]}
targets:
  arctic: {kind: tern, address: "a:1", login: {as: root, secret: key}, unexpected: disable, protect: ["svc*"]}
`

// Files hold it.
var Files = []declare.File{{Name: "c.yaml", Text: Declaration}}

// Add lays out an account with more attributes, each a name and a value.
func (f *Tern) Add(name, number string, more ...string) {
	f.Mu.Lock()
	defer f.Mu.Unlock()
	o := model.Object{Kind: model.Account, Name: name}
	o.Attributes = o.Attributes.With(model.Number, number).With(model.Disabled, "no")
	for i := 0; i < len(more); i += 2 {
		o.Attributes = o.Attributes.With(more[i], more[i+1])
	}
	f.Objects["account"+name] = o
}
