package seen

import (
	"context"
	"slices"
	"strings"

	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// How somebody stands to a set.
const (
	AsAsked  = "as declared" // in it, and the declaration asks for it
	Besides  = "found"       // in it, and nothing asks for it
	Lacking  = "missing"     // not in it, though the declaration asks for it
	Along    = "comes along" // of a permission: with a wider one that the declaration asks for
	acrossIt = 20            // sets side by side
)

// Matrix is who is in which sets of a kind: a line for each member, a column for each set.
type Matrix struct {
	Sets  []Column     `json:"sets"`
	Total int          `json:"total" doc:"sets of the kind that somebody is in"`
	From  int          `json:"from" doc:"sets passed over"`
	Lines []MatrixLine `json:"lines"`
	More  bool         `json:"more" doc:"further lines are told with after, the name of the last"`
}

// Column is one set.
type Column struct {
	Name     string `json:"name"`
	Declared bool   `json:"declared"`
}

// MatrixLine is how somebody stands to each set.
type MatrixLine struct {
	Member
	Stands map[string]string `json:"stands" doc:"by set: as declared, found, missing, comes along (with a wider permission); others do not hold it, nor should"`
}

// MatrixQuery chooses a part of a matrix.
type MatrixQuery struct {
	Sets   string // how the sets' names begin
	Of     string // account or group
	Prefix string // how the members' names begin
	After  string // members behind this name
	From   int    // sets to pass over
	Size   int    // lines
}

// TargetMatrix tells who was last seen in which sets of a kind on a target.
func (s *Seen) TargetMatrix(ctx context.Context, who door.Operator, target, kind string, q MatrixQuery) (Matrix, error) {
	d, k, err := s.kindOn(ctx, who, target, kind)
	if err != nil {
		return Matrix{}, err
	}
	if len(k.Members) == 0 {
		return Matrix{}, door.Wrong("kind", "nobody is in one of kind %s", kind)
	}
	of := model.Account
	if q.Of == model.GroupKind.String() {
		of = model.GroupKind
	}
	names, total, err := s.Store.SetsWith(ctx, target, k.Kind, of, q.Sets, store.Page{From: max(0, q.From), Size: acrossIt})
	if err != nil {
		return Matrix{}, err
	}
	out := Matrix{Sets: []Column{}, Total: total, From: max(0, q.From), Lines: []MatrixLine{}}
	for _, name := range names {
		out.Sets = append(out.Sets, Column{name, asked(d, model.Named{Kind: k.Kind, Name: name})})
	}
	standing, more, err := s.Store.Across(ctx, target, k.Kind, names, of, q.Prefix, q.After, door.Page{Size: q.Size}.Bounded().Size)
	if err != nil {
		return Matrix{}, err
	}
	out.More = more
	members := make([]string, len(standing))
	for i, x := range standing {
		members[i] = x.Name
	}
	list, err := s.membersNamed(ctx, target, of, members)
	for i, m := range list {
		line := MatrixLine{m, map[string]string{}}
		for _, at := range standing[i].In {
			line.Stands[names[at]] = Besides
		}
		wanted := wants(d, m)
		for _, name := range names {
			switch wanted, along := wanted(model.Named{Kind: k.Kind, Name: name}); {
			case wanted && line.Stands[name] == "":
				line.Stands[name] = Lacking
			case wanted:
				line.Stands[name] = AsAsked
			case along:
				line.Stands[name] = Along
			}
		}
		out.Lines = append(out.Lines, line)
	}
	return out, err
}

// wants tells which sets the declaration asks for somebody, or a group, to be in, and which permissions come along with those.
func wants(d *resolve.Desired, m Member) func(model.Named) (wanted, along bool) {
	same := func(a, b model.Named) bool {
		return a == b || d.Schema.FoldNames && a.Kind == b.Kind && strings.EqualFold(a.Name, b.Name)
	}
	if m.Kind == model.GroupKind.String() {
		return func(set model.Named) (bool, bool) {
			return slices.ContainsFunc(d.Sets, func(x *resolve.Set) bool { _, in := x.Groups[m.Name]; return in && same(x.Named, set) }),
				false
		}
	}
	var sets []resolve.Joining
	_, rest := d.Schema.Account().Login(m.Name)
	for _, a := range d.Plan.Accounts(m.User, d.Target.Name) {
		if a.Rest == rest {
			sets = a.Sets()
		}
	}
	return func(set model.Named) (wanted, along bool) {
		k := d.Schema.Of(set.Kind)
		for _, j := range sets {
			wanted = wanted || same(j.Set, set)
			along = along || k != nil && k.Spelled != nil && j.Set.Kind == set.Kind && k.Spelled.Covers(j.Set.Name, set.Name)
		}
		return wanted, along
	}
}

// membersNamed says whose those accounts are.
func (s *Seen) membersNamed(ctx context.Context, target string, kind model.ObjectKind, names []string) ([]Member, error) {
	out := make([]Member, len(names))
	for i, n := range names {
		out[i] = Member{Name: n, Kind: kind.String()}
	}
	if kind != model.Account {
		return out, nil
	}
	owners, err := s.Store.LinkedNames(ctx, target, names)
	if err != nil {
		return nil, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return nil, err
	}
	for i := range out {
		user := owners[out[i].Name]
		out[i].User, out[i].UserName = user, c.FullName(user)
	}
	return out, nil
}
