package declare

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"hen-roost/internal/core/model"
)

// Apply makes edits one after the other, each in the part that it concerns, and
// returns the files as they are then. See the function Apply. What it costs
// follows the edits and the parts that they are in, not all that is declared. It
// ends when over, asked before each edit, says why it should; nil: nothing does.
func (s *Source) Apply(edits []Edit, over func() error) ([]File, error) {
	a := amending{source: s, parts: map[*part]*amended{}, last: map[[2]string]*part{}, gone: map[[2]string]bool{},
		made: map[[2]string]bool{}}
	var errs []error
	for i, e := range edits {
		if over != nil {
			if err := over(); err != nil {
				return nil, err
			}
		}
		if err := a.apply(e); err != nil {
			errs = append(errs, fmt.Errorf("edit %d: %w", i+1, err))
		}
	}
	texts := map[*part]string{}
	for p, x := range a.parts {
		if err := x.flush(p); err != nil {
			errs = append(errs, err)
		}
		texts[p] = x.text
	}
	if len(errs) > 0 {
		return nil, errors.Join(errs...)
	}
	return s.with(texts), nil
}

// amending are the parts that edits have touched so far.
type amending struct {
	source *Source
	parts  map[*part]*amended
	last   map[[2]string]*part // by section and file: where new entries go
	gone   map[[2]string]bool  // by section and name: entries that were taken away
	made   map[[2]string]bool  // and those that were put in
}

// amended is a part with edits made in it, and new entries that are still to be put
// behind its last: all at once, since each time means to find that anew.
type amended struct {
	text    string
	section string
	fresh   []string
}

// has says whether new entries of a section can be put into the part: those that wait already are of it, or it stands there.
func (x *amended) has(p *part, section string) bool {
	if len(x.fresh) > 0 || p.cut {
		return section == x.section || len(x.fresh) == 0 && p.section() == section
	}
	t := text{s: p.head + x.text}
	_, has := t.child(t.top(), section)
	return has
}

func (a *amending) apply(e Edit) error {
	at := a.source.find(e.Section, e.Name)
	if a.gone[[2]string{e.Section, e.Name}] {
		at = model.Pos{}
	}
	p := a.source.parts[at.Part]
	made := a.made[[2]string{e.Section, e.Name}]
	if at.Part == nil {
		p = a.lastOf(e.Section, e.File)
		if e.Do == Set && e.Key != "" && e.File == "" && e.Section != "params" && !made && slices.Contains(sections, e.Section) {
			return unknown(e, namesIn(a.source.Files(), e.Section))
		}
		if e.Do == Take && !made && slices.Contains(sections, e.Section) {
			return errors.New(Meant(fmt.Sprintf("nothing is called %q under %s", e.Name, e.Section), e.Name,
				namesIn(a.source.Files(), e.Section)))
		}
	}
	if e.Do == Set {
		a.made[[2]string{e.Section, e.Name}] = true
	}
	if p == nil { // the names of the files are enough to say what is wrong
		files := make([]File, len(a.source.files))
		for i, f := range a.source.files {
			files[i].Name = f.name
		}
		return apply(files, e)
	}
	x := a.parts[p]
	if x == nil {
		x = &amended{text: p.text}
		a.parts[p] = x
	}
	if at.Part == nil && !made && e.Do == Set && e.Key == "" && slices.Contains(sections, e.Section) && badName(e.Name) == "" &&
		x.has(p, e.Section) {
		value, err := flow(e.Value)
		if err != nil {
			return err
		}
		x.section = e.Section
		x.fresh = append(x.fresh, scalar(e.Name)+": "+value)
		return nil
	}
	if err := x.flush(p); err != nil {
		return err
	}
	one := []File{{Name: e.File, Text: p.head + x.text}}
	if err := apply(one, e); err != nil {
		return err
	}
	if e.Do == Take && e.Key == "" {
		a.gone[[2]string{e.Section, e.Name}] = true
	}
	return x.put(p, one[0].Text)
}

// flush puts the new entries into the text.
func (x *amended) flush(p *part) error {
	if len(x.fresh) == 0 {
		return nil
	}
	t := text{s: p.head + x.text}
	body, ok := t.child(t.top(), x.section)
	if !ok {
		return fmt.Errorf("the section %s of %s cannot be added to", x.section, p.id.File)
	}
	lines := x.fresh
	x.fresh = nil
	return x.put(p, t.insert(body, lines...))
}

func (x *amended) put(p *part, whole string) error {
	rest, ok := strings.CutPrefix(whole, p.head)
	if !ok {
		return fmt.Errorf("the section %s of %s cannot be changed as a whole", p.section(), p.id.File)
	}
	x.text = rest
	return nil
}

// lastOf is the part that a new entry goes into: where others of its section end,
// in the file that is named or the first that has the section; nil: there is none.
func (a *amending) lastOf(section, file string) *part {
	key := [2]string{section, file}
	if p, known := a.last[key]; known {
		return p
	}
	var last *part
	for _, f := range a.source.files {
		if file != "" && f.name != file || last != nil {
			continue
		}
		if first := f.parts[0]; !first.cut { // of whatever shape: it is small
			t := text{s: first.text}
			if _, has := t.child(t.top(), section); has || file != "" {
				last = first
			}
			continue
		}
		for _, p := range f.parts {
			if p.section() == section {
				last = p
			}
		}
		if last == nil && file != "" {
			last = f.parts[len(f.parts)-1]
		}
	}
	a.last[key] = last
	return last
}

func (s *Source) find(section, name string) model.Pos {
	switch section {
	case "params":
		return s.Params[name].Pos
	case "users":
		return stands(s.Users, name)
	case "groups":
		return stands(s.Groups, name)
	case "roles":
		return stands(s.Roles, name)
	case "targets":
		return stands(s.Targets, name)
	case "rights":
		return stands(s.Rights, name)
	case "containers":
		return stands(s.Containers, name)
	case "policies":
		return stands(s.Policies, name)
	case "pools":
		return stands(s.Pools, name)
	}
	return model.Pos{}
}

func stands[T thing](in map[string]T, name string) (at model.Pos) {
	if x, ok := in[name]; ok {
		_, at = x.Called()
	}
	return at
}
