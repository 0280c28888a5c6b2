package store_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"hen-roost/internal/core/model"
	"hen-roost/internal/dbserver/dbtest"
	"hen-roost/internal/store"
)

// What a version without pieces left is taken over: members, who can become
// superuser, steps and findings of who joins what.
func TestTakenOver(t *testing.T) {
	dsn := dbtest.Create(t)
	old, err := store.OpenAt(ctx, dsn, 5)
	if err != nil {
		t.Fatal(err)
	}
	var many []string
	for i := range 1000 {
		many = append(many, fmt.Sprintf("hand.%04d", i))
	}
	pack := func(list ...model.Attribute) []byte { return []byte(model.Pack(list...)) }
	put := func(query string, args ...any) {
		t.Helper()
		if err := old.Exec(ctx, query, args...); err != nil {
			t.Fatal(err)
		}
	}
	observed := `INSERT INTO observed (target, kind, name, uniq, belongs, body, since) VALUES (?, ?, ?, '', 0, ?, ?)`
	put(observed, "a", "group", "crew", pack(model.Attribute{Name: model.Members, Values: many},
		model.Attribute{Name: model.Number, Values: []string{"5"}}), now)
	put(observed, "a", "group", "early", []byte(`{"members":["marit","hanne"],"member-groups":["crew"]}`), now)
	put(observed, "a", "account", "hanne", pack(model.Attribute{Name: model.Disabled, Values: []string{"yes"}},
		model.Attribute{Name: model.Elevation, Values: []string{"sudoers"}}), now)
	put(`INSERT INTO link (target, user, name, uniq, round, since) VALUES ('a', 'hanne', 'hanne', '', 1, ?)`, now)
	act := `{"target":"a","verb":"join group","object":"membership","name":"crew","member":"hanne","member-kind":"account","user":"hanne"}`
	put(`INSERT INTO round (id, state, because, revision, drafted_by, drafted_at) VALUES (7, 'draft', 'x', 1, 'odd', ?)`, now)
	put(`INSERT INTO step (round, seq, target, stage, verb, user, body, outcome, words)
			VALUES (7, 1, 'a', 5, 'join group', 'hanne', ?, 'waiting', '')`, []byte(act))
	f := model.Finding{Kind: model.Missing, Act: model.Act{Target: "a", Verb: model.JoinIt, Object: model.GroupKind, Name: "crew",
		Member: "hanne", MemberKind: model.Account, User: "hanne"}}
	put(`INSERT INTO finding (target, id, kind, verb, user, body, place, seen_at)
			VALUES ('a', UNHEX(?), 'missing', 'join group', 'hanne', ?, ?, ?)`,
		f.Key(), []byte(`{"kind":"missing",`+act[1:]), "2crew\x1fhanne\x1fjoin group", now)
	old.Close()

	s, err := store.Open(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	for name, want := range map[string][]string{"crew": many, "early": {"hanne", "marit"}} {
		o, err := s.Set(ctx, "a", model.Named{Kind: model.GroupKind, Name: name})
		if err != nil || !slices.Equal(o.Attributes.Get(model.Members), want) {
			t.Errorf("%s: %d members, %v", name, len(o.Attributes.Get(model.Members)), err)
		}
	}
	if got, err := s.Administrators(ctx, "a", ""); err != nil || len(got) != 0 {
		t.Errorf("one that is shut administers: %v %v", got, err)
	}
	if got, err := s.Flagged(ctx, "a", []string{"hanne"}); err != nil || got["hanne"] == nil {
		t.Errorf("who can become superuser is not known: %v %v", got, err)
	}
	if shut, err := s.ShutSince(ctx, "a"); err != nil || !shut["hanne"].Equal(now) {
		t.Errorf("%v %v", shut, err)
	}
	if counts, err := s.Phases(ctx, 7); err != nil || len(counts) != 1 || counts[0].N != 1 || counts[0].Outcome != "waiting" {
		t.Errorf("%+v %v", counts, err)
	}
	if r, err := s.Round(ctx, 7); err != nil || r.People != 1 {
		t.Errorf("%+v %v", r, err)
	}
	steps, _, err := s.Steps(ctx, 7, store.StepFilter{}, 5)
	if err != nil || len(steps) != 1 || !steps[0].Act.Moves() || steps[0].Act.Of() != f.Of() {
		t.Errorf("%+v %v", steps, err)
	}
	list, _, err := s.Findings(ctx, store.FindingFilter{}, "", 5)
	if err != nil || len(list) != 1 || !list[0].Moves() || list[0].Key != f.Key() {
		t.Fatalf("%+v %v", list, err)
	}
	near, err := s.FindingsNear(ctx, store.Near{Targets: []string{"a"}, Users: []string{"nobody"}, Accounts: []string{"hanne"},
		Sets: []model.Named{f.Of()}})
	if err != nil || len(near["a"]) != 1 {
		t.Errorf("it is not found by its place: %v %v", near, err)
	}
	fresh := 0
	tx(t, s, func(tx *store.Tx) (err error) {
		fresh, err = tx.PutFindings(ctx, "a", []model.Finding{f}, now)
		return err
	})
	if fresh != 0 {
		t.Error("the same finding counts as new")
	}
}

// One who joins a large set is written with those around them, and known on both sides.
func TestMoves(t *testing.T) {
	s, _ := open(t)
	crew, deck := model.Named{Kind: model.GroupKind, Name: "crew"}, model.Named{Kind: model.RightKind, Name: "deck"}
	var many []string
	for i := range 5000 {
		many = append(many, fmt.Sprintf("hand.%04d", i))
	}
	g, err := s.Sight(ctx, "a", now)
	if err != nil {
		t.Fatal(err)
	}
	set := model.Object{Kind: crew.Kind, Name: crew.Name,
		Attributes: model.Pack(model.Attribute{Name: model.Members, Values: many},
			model.Attribute{Name: model.MemberGroups, Values: []string{"inner"}})}
	if err := g.Put(ctx, []model.Object{set, {Kind: deck.Kind, Name: deck.Name}}); err != nil {
		t.Fatal(err)
	}
	if _, err := g.Done(ctx); err != nil {
		t.Fatal(err)
	}
	marit := model.Named{Kind: model.Account, Name: "marit"}
	in := func(set, member model.Named) bool {
		t.Helper()
		yes, err := s.InSet(ctx, "a", set, member)
		if err != nil {
			t.Fatal(err)
		}
		return yes
	}
	if in(crew, marit) || !in(crew, model.Named{Kind: model.Account, Name: "hand.2500"}) ||
		!in(crew, model.Named{Kind: model.GroupKind, Name: "inner"}) || in(crew, model.Named{Kind: model.Account, Name: "inner"}) {
		t.Error("who is in the set is not told")
	}
	tx(t, s, func(tx *store.Tx) error {
		return tx.PutMoves(ctx, "a", []store.Move{{Set: crew, Member: marit, In: true}, {Set: deck, Member: marit, In: true},
			{Set: crew, Member: model.Named{Kind: model.Account, Name: "hand.2500"}}}, now.Add(time.Hour))
	})
	if !in(crew, marit) || in(crew, model.Named{Kind: model.Account, Name: "hand.2500"}) {
		t.Error("who came and who left is not stored")
	}
	if sets, err := s.SetsOf(ctx, "a", marit); err != nil || !slices.Equal(sets, []model.Named{crew, deck}) {
		t.Errorf("%v %v", sets, err)
	}
	page, total, err := s.MembersPage(ctx, "a", crew, model.Account, store.Page{From: 4999, Size: 5})
	if err != nil || total != 5000 || !slices.Equal(page, []string{"marit"}) {
		t.Errorf("%v %d %v", page, total, err)
	}
	some, err := s.InSets(ctx, []string{"a"}, []model.Named{crew, deck}, []string{"marit", "hand.0001", "nobody"})
	if err != nil || len(some["a"]) != 2 || !slices.Equal(some["a"][0].Attributes.Get(model.Members), []string{"hand.0001", "marit"}) {
		t.Errorf("%+v %v", some, err)
	}
	for at, want := range map[time.Duration]int{time.Minute: 0, 2 * time.Hour: 1} {
		_, others, err := s.ObservedAt(ctx, "a", now.Add(at))
		n := 0
		for _, o := range others {
			if slices.Contains(o.Attributes.Get(model.Members), "marit") && o.Kind == model.GroupKind {
				n++
			}
		}
		if err != nil || n != want || len(others[0].Attributes.Get(model.Members)) != 5000 {
			t.Errorf("after %s %d sets hold her, of which the first has %d members, %v", at, n,
				len(others[0].Attributes.Get(model.Members)), err)
		}
	}
	changed := 0
	again, err := s.Sight(ctx, "a", now.Add(3*time.Hour))
	if err == nil {
		if err = again.Put(ctx, []model.Object{set, {Kind: deck.Kind, Name: deck.Name}}); err == nil {
			var list []model.Named
			list, err = again.Done(ctx)
			changed = len(list)
		}
	}
	if err != nil || changed != 2 || in(crew, marit) || in(deck, marit) {
		t.Errorf("a survey that sees it as before: %d changed, %v", changed, err)
	}
}

// A survey of what changed writes that, and lets the rest be.
func TestSightSome(t *testing.T) {
	s, _ := open(t)
	object := func(name, unique, shell string) model.Object {
		return model.Object{Kind: model.Account, Name: name, Unique: unique,
			Attributes: model.Pack(model.Attribute{Name: "shell", Values: []string{shell}})}
	}
	g, err := s.Sight(ctx, "a", now)
	if err == nil {
		err = g.Put(ctx, []model.Object{object("marit", "u1", "sh"), object("hanne", "u2", "sh"), object("jarle", "u3", "sh"),
			object("kari", "u4", "sh")})
	}
	if err == nil {
		_, err = g.Done(ctx)
	}
	if err != nil {
		t.Fatal(err)
	}
	some := s.SightSome("a", now.Add(time.Hour))
	if err := some.Put(ctx, []model.Object{object("marit", "u1", "bash"), object("hanne", "u2", "sh"),
		object("karin", "u4", "sh")}); err != nil {
		t.Fatal(err)
	}
	if err := some.Gone(ctx, nil, map[model.ObjectKind][]string{model.Account: {"u3", "u9"}, model.GroupKind: {"u1"}}); err != nil {
		t.Fatal(err)
	}
	changed, err := some.Done(ctx)
	slices.SortFunc(changed, model.Named.Compare)
	if got := fmt.Sprint(changed); err != nil || got != "[{account jarle} {account kari} {account karin} {account marit}]" {
		t.Errorf("%s %v", got, err)
	}
	accounts, _, _, err := s.Holding(ctx, "a")
	got := ""
	for _, o := range accounts {
		got += o.Name + " " + o.Attributes.One("shell") + ", "
	}
	if err != nil || got != "hanne sh, karin sh, marit bash, " {
		t.Errorf("%s %v", got, err)
	}
}
