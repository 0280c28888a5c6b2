package declare

import (
	"crypto/sha256"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"

	"hen-roost/internal/core/expr"
	"hen-roost/internal/core/model"
)

// Source is a declaration with the text that it was read from. It does not
// change: the next revision is read on it, and makes another.
type Source struct {
	*model.Declaration
	Touched []string // users in whose neighbourhood the text is otherwise than in the source before, sorted
	Whole   bool     // other things than users may be otherwise too

	// Late is what is wrong by rules that came after revisions were stored: it
	// keeps a new revision from being stored, and no old one from being read.
	Late Faults

	files   []fileParts
	parts   map[*model.Part]*part
	schemas map[string]model.Schema
	set     *expr.Set
}

// Fresh is what keeps the declaration from being stored anew; nil when nothing does.
func (s *Source) Fresh() error {
	if len(s.Late) > 0 {
		return s.Late
	}
	return nil
}

type fileParts struct {
	name  string
	parts []*part
}

// ReadOn parses and checks the files of a revision that follows another, nil
// for none. What has the same text as before is taken over; where only users
// changed, only they are checked. It returns Faults with all that is wrong.
func ReadOn(before *Source, files []File, schemas map[string]model.Schema) (*Source, error) {
	s := &Source{parts: map[*model.Part]*part{}, schemas: schemas}
	old := map[string][]*part{}
	if before != nil {
		for _, f := range before.files {
			old[f.name] = f.parts
		}
	}
	files, faults := bounded(files)
	starts := map[*model.Part]int{}
	s.files = make([]fileParts, len(files))
	atOnce(len(files), func(i int) { s.files[i] = fileParts{files[i].Name, partsOf(files[i], old[files[i].Name])} })
	for _, f := range s.files {
		line := 0
		for _, p := range f.parts {
			s.parts[p.id] = p
			starts[p.id] = line
			if p.head != "" {
				starts[p.id]-- // the section's line is put before it when it is read
			}
			line += p.lines
		}
	}
	var fresh []*part
	for _, f := range s.files {
		for _, p := range f.parts {
			if before == nil || before.parts[p.id] != p {
				fresh = append(fresh, p)
			}
		}
	}
	faults = faults.and(readParts(fresh, starts)...)
	if before != nil && len(faults)+len(before.Late) == 0 {
		s.set = before.set
		if s.follow(before, fresh, starts) {
			return s, nil
		}
	}
	s.Whole, s.set = true, expr.NewSet() // what nobody asks for any more is forgotten
	faults = faults.and(s.gather(starts)...)
	if len(faults) > 0 {
		return nil, faults.sorted()
	}
	return s, nil
}

// bounded leaves out files that are too large.
func bounded(files []File) (out []File, faults Faults) {
	if len(files) == 0 {
		faults = append(faults, Fault{Message: "no declaration files"})
	}
	total := 0
	for _, f := range files {
		fault := func(format string, args ...any) {
			faults = append(faults, Fault{At: model.Location{File: f.Name, Line: 1, Column: 1}, Message: fmt.Sprintf(format, args...)})
		}
		if total += len(f.Text); total > maxFiles && len(f.Text) <= maxFile {
			fault("all files together have more than %d bytes; nothing was read from here on", maxFiles)
			break
		}
		if len(f.Text) > maxFile {
			fault("the file has %d bytes; the most is %d, so spread it over several", len(f.Text), maxFile)
			continue
		}
		if n := strings.Count(f.Text, "\n"); n > maxLines {
			fault("the file has %d lines; the most is %d, so spread it over several", n, maxLines)
			continue
		}
		out = append(out, f)
	}
	return out, faults
}

// readParts reads parts on all processors.
func readParts(parts []*part, starts map[*model.Part]int) (all Faults) {
	faults := make([]Faults, len(parts))
	atOnce(len(parts), func(i int) { faults[i] = readPart(parts[i], starts[parts[i].id]) })
	for _, list := range faults {
		all = all.and(list...)
	}
	return all
}

// atOnce does something for each of n, on all processors.
func atOnce(n int, do func(int)) {
	work := make(chan int)
	var wg sync.WaitGroup
	for range min(n, runtime.GOMAXPROCS(0)) {
		wg.Go(func() {
			for i := range work {
				do(i)
			}
		})
	}
	for i := range n {
		work <- i
	}
	close(work)
	wg.Wait()
}

// readPart reads one part. What is wrong in a plain one is told by the parser's
// tree of it, which knows better what to say.
func readPart(p *part, start int) Faults {
	if root, ok := readPlain(p.full); ok {
		if faults := readTree(p, start, &root, nil); len(faults)+len(p.late) == 0 {
			return nil
		}
	}
	root, err := grow(p.full)
	return readTree(p, start, root, err)
}

func readTree(p *part, start int, root *node, err error) Faults {
	p.has, p.late = contents{}, nil
	r := &reader{part: p, start: start, budget: len(p.text) + 100_000}
	(&fileParser{reader: r, has: &p.has}).read(root, err)
	return r.faults
}

// gather puts the parts together and checks everything.
func (s *Source) gather(starts map[*model.Part]int) Faults {
	s.Declaration = &model.Declaration{
		Params: map[string]model.Text{}, Users: map[string]*model.User{}, Groups: map[string]*model.Group{},
		Roles: map[string]*model.Role{}, Targets: map[string]*model.Target{},
		Rights: map[string]*model.Right{}, Containers: map[string]*model.Container{}, Policies: map[string]*model.Policy{},
		Pools:  map[string]*model.Pool{},
		Starts: starts,
	}
	d, c, params := s.Declaration, s.checker(), map[string]param{}
	for _, f := range s.files {
		first := &f.parts[0].has
		if !first.broken && (first.version == 0 || first.first != "roost") {
			c.fault(first.root, "a declaration file begins with roost: 1")
		}
		for _, p := range f.parts {
			enter(c, "param", params, p.has.params)
			enter(c, "user", d.Users, p.has.users)
			enter(c, "group", d.Groups, p.has.groups)
			enter(c, "role", d.Roles, p.has.roles)
			enter(c, "target", d.Targets, p.has.targets)
			enter(c, "right", d.Rights, p.has.rights)
			enter(c, "container", d.Containers, p.has.containers)
			enter(c, "policy", d.Policies, p.has.policies)
			enter(c, "pool", d.Pools, p.has.pools)
		}
	}
	for name, p := range params {
		d.Params[name] = p.Text
	}
	c.run()
	s.Late = c.late
	for _, f := range s.files {
		for _, p := range f.parts {
			s.Late = s.Late.and(p.late...)
		}
	}
	s.Late = s.Late.sorted()
	return c.faults
}

func (s *Source) checker() *checker {
	return &checker{d: s.Declaration, schemas: s.schemas, parts: s.parts, set: s.set, bundle: map[string]map[string]bool{},
		fine: map[string]bool{}}
}

// thing is what has a name and a place.
type thing interface {
	Called() (name string, at model.Pos)
}

// enter notes things by their names, which nobody else may have.
func enter[T thing](c *checker, what string, into map[string]T, list []T) {
	for _, x := range list {
		name, at := x.Called()
		if first, taken := into[name]; taken {
			_, there := first.Called()
			c.fault(at, "%s %q is defined twice; the other place is %s", what, name, c.d.Locate(there))
			continue
		}
		into[name] = x
	}
}

// follow makes the declaration from the one before, when nothing but users
// changed and nothing is wrong with them. It says whether it could.
func (s *Source) follow(before *Source, fresh []*part, starts map[*model.Part]int) bool {
	if !slices.EqualFunc(before.files, s.files, func(a, b fileParts) bool { return a.name == b.name }) {
		return false
	}
	users := maps.Clone(before.Users)
	touched := map[string]bool{}
	for id, p := range before.parts {
		if s.parts[id] != nil {
			continue
		}
		if !p.onlyUsers() {
			return false
		}
		for _, u := range p.has.users {
			touched[u.ID] = true
			delete(users, u.ID)
		}
	}
	d := *before.Declaration
	d.Users, d.Starts = users, starts
	s.Declaration, s.Touched = &d, nil
	c := s.checker()
	for _, p := range fresh {
		if !p.onlyUsers() {
			return false
		}
		for _, u := range p.has.users {
			touched[u.ID] = true
		}
		enter(c, "user", users, p.has.users)
	}
	s.Touched = sorted(touched)
	c.some(s.Touched, before.Declaration)
	return len(c.faults)+len(c.late) == 0 && !slices.ContainsFunc(fresh, func(p *part) bool { return len(p.late) > 0 })
}

// Piece is a stretch of a file's text, as it is stored.
type Piece struct {
	Sum  [sha256.Size]byte
	Text string
}

// Pieces are a file's text, in order.
type Pieces struct {
	Name   string
	Pieces []Piece
}

// Pieces returns the files' text in the parts it was read in.
func (s *Source) Pieces() []Pieces {
	out := make([]Pieces, len(s.files))
	for i, f := range s.files {
		out[i] = Pieces{f.name, make([]Piece, len(f.parts))}
		for j, p := range f.parts {
			out[i].Pieces[j] = Piece{p.sum(), p.text}
		}
	}
	return out
}

// Files returns the text.
func (s *Source) Files() []File { return s.with(nil) }

// Holds says whether it is of just these files, whatever their order.
func (s *Source) Holds(files []File) bool {
	if len(files) != len(s.files) {
		return false
	}
	texts := make(map[string]string, len(files))
	for _, f := range files {
		texts[f.Name] = f.Text
	}
	for _, f := range s.files {
		rest, ok := texts[f.name]
		for _, p := range f.parts {
			if ok {
				rest, ok = strings.CutPrefix(rest, p.text)
			}
		}
		if !ok || rest != "" {
			return false
		}
	}
	return true
}

// with returns the text, that of some parts replaced.
func (s *Source) with(texts map[*part]string) []File {
	out := make([]File, len(s.files))
	for i, f := range s.files {
		var b strings.Builder
		size := 0
		for _, p := range f.parts {
			size += len(p.text)
		}
		b.Grow(size + 4096)
		for _, p := range f.parts {
			if text, ok := texts[p]; ok {
				b.WriteString(text)
			} else {
				b.WriteString(p.text)
			}
		}
		out[i] = File{f.name, b.String()}
	}
	return out
}
