// Package intake is the service's room for people whom other systems push in, over SCIM. What such a system says is kept as it
// says it; what that would change of the declaration is worked out whenever somebody asks, and taken by an operator or, where
// they have said so, by itself.
package intake

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"hen-roost/internal/scim"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// Settings say what becomes of what a system pushes.
type Settings struct {
	Roles     []string          `json:"roles,omitempty" doc:"for those who are new"`
	File      string            `json:"file,omitempty" doc:"of the declaration, for those who are new; empty: where other users stand"`
	Fields    map[string]string `json:"fields,omitempty" doc:"fields of users, and the attribute that each is taken from, beside or in place of the usual ones: details.base: addresses.locality"`
	AtOnce    bool              `json:"at-once,omitempty" doc:"what is pushed is taken by itself, a little while after the last push"`
	Everybody bool              `json:"everybody,omitempty" doc:"a file that the system drops holds all its people: who is not in it is gone"`
	Share     int               `json:"share,omitempty" doc:"of all users, in percent: when more would leave, nothing is taken by itself; 0 means 5"`
}

// shareUsual is the share of all users who may leave by one push, in percent.
const shareUsual = 5

// fewLeaving is up to how many who leave no share of them is a reason to wait.
const fewLeaving = 3

// Source is a system that pushes people in: an operator with the duty to.
type Source struct {
	Name     string     `json:"name"`
	Settings Settings   `json:"settings"`
	People   int        `json:"people" doc:"whom it has pushed and not taken away"`
	Last     *time.Time `json:"last,omitempty" doc:"when it last pushed somebody"`
}

// Intake takes people in.
type Intake struct {
	*declared.Declared
	end   context.Context // the service's life
	once  func(what string, do func(context.Context) error)
	drops string            // the folder into which systems drop files; "": there is none
	wrong map[string]string // by folder: what was complained of last
	stuck sync.Map          // files that could not be put away → when they had been changed
}

// New makes the room. once has one of several services do something; drops is the folder into which systems drop files, or "".
func New(below *declared.Declared, end context.Context, once func(string, func(context.Context) error), drops string) *Intake {
	return &Intake{Declared: below, end: end, once: once, drops: drops, wrong: map[string]string{}}
}

// Sources lists the systems that may push people in.
func (s *Intake) Sources(ctx context.Context, who door.Operator) ([]Source, error) {
	if err := who.May(door.Look); err != nil {
		return nil, err
	}
	all, err := s.Store.Intakes(ctx)
	if err != nil {
		return nil, err
	}
	out := []Source{}
	for _, name := range door.KeysOf(all) {
		one, err := s.source(ctx, name, all[name])
		if err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, nil
}

func (s *Intake) source(ctx context.Context, name, settings string) (out Source, err error) {
	out.Name = name
	if err := json.Unmarshal([]byte(settings), &out.Settings); err != nil {
		return out, fmt.Errorf("settings of the intake %s: %w", name, err)
	}
	out.People, out.Last, err = s.Store.PushedSum(ctx, name)
	return out, err
}

// named is a source that was set up.
func (s *Intake) named(ctx context.Context, name string) (Source, error) {
	all, err := s.Store.Intakes(ctx)
	if err != nil {
		return Source{}, err
	}
	settings, ok := all[name]
	if !ok {
		return Source{}, door.NotKnown("system that pushes people in", name, door.KeysOf(all))
	}
	return s.source(ctx, name, settings)
}

// Set says what becomes of what a system pushes. It is an operator with the duty push, and no other duty.
func (s *Intake) Set(ctx context.Context, who door.Operator, name string, x Settings) error {
	if err := who.May(door.Administer); err != nil {
		return err
	}
	if err := s.pushes(ctx, who, name); err != nil {
		return err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return err
	}
	for _, r := range x.Roles {
		if c.Declared.Roles[r] == nil {
			return door.NotKnown("role", r, door.KeysOf(c.Declared.Roles))
		}
	}
	var files []string
	for _, f := range c.Source.Files() {
		files = append(files, f.Name)
	}
	if x.File != "" && !slices.Contains(files, x.File) {
		return door.NotKnown("file of the declaration", x.File, files)
	}
	for field, path := range x.Fields {
		if err := fieldFits(field, path); err != nil {
			return door.Wrong("fields", "%v", err)
		}
	}
	if x.Share < 0 || x.Share > 100 {
		return door.Wrong("share", "%d is no share in percent", x.Share)
	}
	text, err := json.Marshal(x)
	if err != nil {
		return err
	}
	return s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		return []*store.Entry{{At: s.Now(), Kind: "operator", Operator: who.Name, Words: fmt.Sprintf("set up what %s pushes in: %s", name,
			x.words())}}, tx.PutIntake(ctx, name, string(text))
	})
}

func (x Settings) words() string {
	how := "to be taken by an operator"
	if x.AtOnce {
		how = fmt.Sprintf("taken by itself while no more than %d %% of all would leave", x.share())
	}
	if len(x.Roles) > 0 {
		how += "; who is new gets " + strings.Join(x.Roles, ", ")
	}
	if x.Everybody {
		how += "; a file holds everybody"
	}
	return how
}

func (x Settings) share() int {
	if x.Share == 0 {
		return shareUsual
	}
	return x.Share
}

// pushes says why an operator is no system that pushes people in.
func (s *Intake) pushes(ctx context.Context, who door.Operator, name string) error {
	list, err := s.Operators(ctx, who)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(list, func(o door.Operator) bool { return o.Name == name })
	if at < 0 || !slices.Equal(list[at].Duties, []door.Duty{door.Push}) {
		return door.Wrong("name",
			"a system that pushes people in is an operator with the duty %s and no other: roost operator add %s --duties %s",
			door.Push, name, door.Push)
	}
	return nil
}

// pathMost bounds the path of an attribute.
const pathMost = 200

// fieldFits says why a field cannot be taken from an attribute.
func fieldFits(field, path string) error {
	if !slices.Contains([]string{"id", "name", "given", "family", "number", "mail", "manager", "from", "until"}, field) &&
		(!strings.HasPrefix(field, "details.") || len(field) < 9) {
		return fmt.Errorf("users have no field %q; it is id, name, given, family, number, mail, manager, from, until, or details.KEY",
			field)
	}
	if path == "" || len(path) > pathMost {
		return fmt.Errorf("nothing says which attribute %s is taken from", field)
	}
	return nil
}

// word is what stands in an attribute, one word of several; "" for none.
func word(r scim.Resource, path string) string {
	switch v := r.Get(path).(type) {
	case string:
		return v
	case bool, float64:
		return fmt.Sprint(v)
	case []any:
		for _, x := range v {
			if s, ok := x.(string); ok {
				return s
			}
		}
	}
	return ""
}
