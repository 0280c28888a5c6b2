package main

import (
	"context"
	"fmt"
	"hash/maphash"
	"runtime"
	"strings"
	"sync"
	"time"

	"hen-roost/internal/connect/host"
	"hen-roost/internal/connect/ldap"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/drift"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
)

// A company with the shape of the sample world, large: everybody is on all
// targets, through the role everyone; each holds one role by name, one in ten a second.
var (
	companyUsers   = sized(100_000)
	companyGroups  = 2_000
	companyRoles   = 300
	companyTargets = sized(20)
)

var companySchemas = map[string]model.Schema{host.Kind: host.Connector{}.Schema(), ldap.Kind: ldap.Connector{}.Schema()}

// company writes the declaration.
func company(users int) []declare.File {
	var people, rest strings.Builder
	people.WriteString("roost: 1\nusers:\n")
	bases := []string{"northquay", "southness"}
	for i := range users {
		roles := fmt.Sprintf("role-%d", 1+i%(companyRoles-1))
		if i%10 == 0 {
			roles += fmt.Sprintf(", role-%d", 1+(i%(companyRoles-1)+1+i/companyRoles%7)%(companyRoles-1))
		}
		fmt.Fprintf(&people, "  hand.%06d:\n    name: \"Åse Hand %d\"\n    given: Åse\n    family: Hand %d\n    number: %d\n    mail: "+
			"${user.id}@${params.domain}\n    details: {base: %s}\n    roles: [%s]\n", i, i, i, 10_000+i, bases[i%2], roles)
	}
	rest.WriteString("roost: 1\nparams: {domain: ternsound.example}\ngroups:\n")
	for i := range companyGroups {
		in := ""
		if i >= 100 {
			in = fmt.Sprintf(", in: [group-%d]", i%100)
		}
		fmt.Fprintf(&rest, "  group-%d: {about: Group %d, number: %d%s}\n", i, i, 5000+i, in)
	}
	rest.WriteString("roles:\n  everyone:\n    held-when: \"!user.service\"\n    gives:\n      - at: {kind: host}\n        account: " +
		"{home: \"/home/${user.id}\", shell: /bin/bash}\n      - at: {kind: directory}\n        account: {home: \"/home/${user.id}\", " +
		"shell: /bin/bash}\n")
	for i := 1; i < companyRoles; i++ {
		fmt.Fprintf(&rest, "  role-%d:\n    about: Role %d\n    gives:\n      - at: {kind: host}\n        groups: [group-%d]\n      - at: "+
			"{kind: directory}\n        groups: [group-%d, group-%d]\n", i, i, i*6, i*6, i*6+1)
	}
	rest.WriteString("targets:\n")
	for i := range companyTargets {
		kind, settings := host.Kind, ""
		if i%2 == 1 {
			kind, settings = ldap.Kind, ", settings: {people: \"ou=People,dc=x\", groups: \"ou=Groups,dc=x\"}"
		}
		fmt.Fprintf(&rest, "  target-%02d: {kind: %s, address: \"127.0.2.1:22\", login: {as: root}, unexpected: disable, protect: "+
			"[\"svc-*\"]%s}\n", i, kind, settings)
	}
	return []declare.File{{Name: "people.yaml", Text: people.String()}, {Name: "company.yaml", Text: rest.String()}}
}

// holds makes what a target holds: all that is desired of it but for one account in a hundred.
func holds(d *resolve.Desired) drift.Input {
	in := drift.Input{Desired: d, InOrder: true, Accounts: make([]model.Object, 0, d.Len())}
	var text strings.Builder
	members := map[string][]string{}
	n := 0
	for a := range d.Accounts() {
		o := model.Object{Kind: model.Account, Name: a.Name, Unique: fmt.Sprintf("6b1f0c2e-0000-4000-8000-%012d", n)}
		var list []model.Attribute
		for _, w := range a.Want() {
			list = append(list, model.Attribute{Name: w.Name, Values: w.Values})
		}
		if n%100 == 0 {
			list = append(list, model.Attribute{Name: "shell", Values: []string{"/bin/sh"}})
		}
		o.Attributes = model.Pack(list...)
		if size := len(o.Name) + len(o.Unique) + len(o.Attributes); text.Cap()-text.Len() < size {
			text = strings.Builder{}
			text.Grow(64 << 10)
		}
		from := text.Len() // side by side, as they are read from the database
		text.WriteString(o.Name + o.Unique + string(o.Attributes))
		row := text.String()[from:]
		o.Name, o.Unique, o.Attributes = row[:len(o.Name)], row[len(o.Name):len(o.Name)+len(o.Unique)],
			model.Attributes(row[len(o.Name)+len(o.Unique):])
		o.Linked = true
		for _, j := range a.Sets() {
			members[j.Set.Name] = append(members[j.Set.Name], a.Name)
		}
		in.Accounts = append(in.Accounts, o)
		n++
	}
	for _, g := range d.Sets {
		list := []model.Attribute{{Name: model.Members, Values: members[g.Name]}}
		if g.Number != 0 {
			list = append(list, model.Attribute{Name: model.Number, Values: []string{fmt.Sprint(g.Number)}})
		}
		var inside []string
		for name := range g.Groups {
			inside = append(inside, name)
		}
		list = append(list, model.Attribute{Name: model.MemberGroups, Values: inside})
		in.Others = append(in.Others, model.Object{Kind: model.GroupKind, Name: g.Name, Attributes: model.Pack(list...)})
	}
	return in
}

// engine is a large company read and resolved, made once.
type engine struct {
	d     *model.Declaration
	plan  *resolve.Plan
	parse time.Duration
	heap  uint64 // of declaration and plan
}

func (w *workbench) engineOf() (*engine, error) {
	if w.engine != nil {
		return w.engine, nil
	}
	files := company(companyUsers)
	before := heap()
	began := time.Now()
	d, err := declare.Read(files, companySchemas)
	if err != nil {
		return nil, err
	}
	e := &engine{d: d, parse: time.Since(began)}
	if e.plan, err = resolve.Resolve(d, companySchemas, time.Now(), nil); err != nil {
		return nil, err
	}
	e.heap = heap() - before
	w.engine = e
	return e, nil
}

func heap() uint64 {
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return m.HeapAlloc
}

// parseCompany: reading and checking the declaration; there is no bare program beside it.
func parseCompany(_ context.Context, w *workbench) (float64, float64, error) {
	e, err := w.engineOf()
	if err != nil {
		return 0, 0, err
	}
	return e.parse.Seconds(), e.parse.Seconds(), nil
}

// resolveCompany: from the declaration to every value of two million accounts, on one processor, in µs an account.
func resolveCompany(_ context.Context, w *workbench) (float64, float64, error) {
	e, err := w.engineOf()
	if err != nil {
		return 0, 0, err
	}
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	began, n := time.Now(), 0
	p, err := resolve.Resolve(e.d, companySchemas, time.Now(), nil)
	if err != nil {
		return 0, 0, err
	}
	var sum uint32
	for _, d := range p.Targets {
		var room []byte
		for a := range d.Accounts() {
			n++
			for i := range a.Fields() {
				v, _ := a.Value(i)
				for _, s := range v.Values {
					room = append(room[:0], s...)
				}
			}
			sum += uint32(len(room) + len(a.Sets()))
		}
	}
	return time.Since(began).Seconds() * 1e6 / float64(n), 1.5, nil
}

// compareFirst: one target's observations, of which one in a hundred differs,
// for the first time; compareCompany: again, as after each survey.
func compareFirst(ctx context.Context, w *workbench) (float64, float64, error) {
	return compared(w, nil)
}

func compareCompany(ctx context.Context, w *workbench) (float64, float64, error) {
	return compared(w, drift.NewKnown(maphash.MakeSeed()))
}

// compared: one target's observations, of which one in a hundred differs,
// against one hash over the same bytes, in ns an account.
func compared(w *workbench, known *drift.Known) (float64, float64, error) {
	e, err := w.engineOf()
	if err != nil {
		return 0, 0, err
	}
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	in := holds(e.plan.Targets["target-01"])
	if in.Known = known; known != nil {
		drift.Compare(in)
	}
	// Both sides of each pair, as they lie in memory.
	both := make([][]byte, 0, len(in.Accounts))
	for _, o := range in.Accounts {
		one := o.Name + o.Unique + string(o.Attributes)
		both = append(both, []byte(one+one))
	}
	found := 0
	seed := maphash.MakeSeed()
	var sink uint64
	ours, bare, err := pair(7, func(int) error { found = len(drift.Compare(in)); return nil }, func(int) error {
		for _, b := range both {
			sink += maphash.Bytes(seed, b)
		}
		return nil
	})
	if err == nil && found != (len(in.Accounts)+99)/100 {
		err = fmt.Errorf("%d findings of %d accounts", found, len(in.Accounts))
	}
	n := float64(len(in.Accounts))
	return ours * 1e9 / n, bare * 1e9 / n, err
}

// compareTwice: all targets on one processor against two.
func compareTwice(_ context.Context, w *workbench) (float64, float64, error) {
	e, err := w.engineOf()
	if err != nil {
		return 0, 0, err
	}
	var inputs []drift.Input
	for _, name := range []string{"target-00", "target-01", "target-02", "target-03"} {
		inputs = append(inputs, holds(e.plan.Targets[name]))
	}
	all := func(width int) error {
		defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(width))
		var wg sync.WaitGroup
		queue := make(chan drift.Input)
		for range width {
			wg.Go(func() {
				for in := range queue {
					drift.Compare(in)
				}
			})
		}
		for range 4 {
			for _, in := range inputs {
				queue <- in
			}
		}
		close(queue)
		wg.Wait()
		return nil
	}
	return pair(5, func(int) error { return all(2) }, func(int) error { return all(1) })
}

// memoryCompany: what the declaration, the plan and comparing target after
// target take beyond the observations, in bytes for each of two million accounts.
func memoryCompany(_ context.Context, w *workbench) (float64, float64, error) {
	e, err := w.engineOf()
	if err != nil {
		return 0, 0, err
	}
	before := heap()
	in := holds(e.plan.Targets["target-01"])
	observed := float64(heap()-before) / float64(len(in.Accounts))
	var stop sync.WaitGroup
	done, peak, base := make(chan bool), uint64(0), heap()
	stop.Go(func() {
		for {
			select {
			case <-done:
				return
			case <-time.After(200 * time.Microsecond):
				var m runtime.MemStats
				runtime.ReadMemStats(&m)
				peak = max(peak, m.HeapAlloc)
			}
		}
	})
	found := drift.Compare(in)
	close(done)
	stop.Wait()
	extra := (float64(peak-base) + float64(e.heap)) / float64(len(in.Accounts)*companyTargets)
	runtime.KeepAlive(found)
	fmt.Printf("# observations and links %.0f bytes an account; declaration and plan %.0f MB; one comparison %.0f MB\n", observed,
		float64(e.heap)/1e6, float64(peak-base)/1e6)
	return extra, 100, nil
}
