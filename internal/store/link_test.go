package store_test

import (
	"database/sql"
	"errors"
	"fmt"
	"testing"
	"time"

	"hen-roost/internal/core/model"
	"hen-roost/internal/store"
)

func TestLinksAndDecisions(t *testing.T) {
	s, _ := open(t)
	links := []model.Link{{Target: "a", User: "marit", Name: "mf", Unique: "u1"}, {Target: "a", User: "hanne", Name: "hanne"}}
	tx(t, s, func(tx *store.Tx) error { return tx.PutLinks(ctx, "a", links, 1, now) })
	tx(t, s, func(tx *store.Tx) error {
		return tx.PutLinks(ctx, "a", []model.Link{{Target: "a", User: "marit", Name: "marit", Unique: "u1"}}, 2, now.Add(time.Hour))
	})
	tx(t, s, func(tx *store.Tx) error { return tx.DropLinks(ctx, "a", links[1:], now.Add(2*time.Hour)) })
	for at, want := range map[time.Duration]string{-time.Second: "", 0: "hanne mf ", time.Hour: "hanne marit ", 3 * time.Hour: "marit "} {
		got := ""
		list, err := s.LinksAt(ctx, "a", now.Add(at))
		for _, l := range list {
			got += l.Name + " "
		}
		if err != nil || got != want {
			t.Errorf("after %s: %q, want %q (%v)", at, got, want, err)
		}
	}
	if l, err := s.LinksOn(ctx, "a"); err != nil || len(l) != 1 {
		t.Errorf("%v %v", l, err)
	}
	// Accounts tell that they are linked to who has their name; all other links stand beside them.
	tx(t, s, func(tx *store.Tx) error {
		return errors.Join(
			tx.PutObjects(ctx, "b", []model.Object{{Kind: model.Account, Name: "a"}, {Kind: model.Account, Name: "b", Unique: "u2"},
				{Kind: model.Account, Name: "c", Unique: "u3"}, {Kind: model.Account, Name: "free"}, {Kind: model.GroupKind, Name: "b"}},
				nil, now),
			tx.PutLinks(ctx, "b", []model.Link{{User: "a", Name: "a"}, {User: "bea", Name: "b", Unique: "u2"},
				{User: "carl", Name: "c", Unique: "other"}, {User: "0", Name: "0"}, {User: "z", Name: "z"}, {User: "second", Name: "b"}},
				1, now))
	})
	tx(t, s, func(tx *store.Tx) error {
		return tx.PutObjects(ctx, "b", []model.Object{{Kind: model.Account, Name: "d",
			Attributes: model.Pack(model.Attribute{Name: model.Disabled, Values: []string{"yes"}})}}, nil, now.Add(time.Hour))
	})
	if shut, err := s.ShutSince(ctx, "b"); err != nil || len(shut) != 1 || !shut["d"].Equal(now.Add(time.Hour)) {
		t.Errorf("%v %v", shut, err)
	}
	accounts, others, left, err := s.Holding(ctx, "b")
	owners := ""
	for _, o := range accounts {
		owners += fmt.Sprint(o.Name, "=", o.Linked, " ")
	}
	for _, l := range left {
		owners += l.User + " "
	}
	if err != nil || len(others) != 1 || owners != "a=true b=false c=false d=false free=false 0 bea second carl z " {
		t.Errorf("%q %v %v", owners, others, err)
	}
	decide := func(name, user string, theirs bool) {
		tx(t, s, func(tx *store.Tx) error {
			return tx.PutDecision(ctx, store.Decision{Target: "a", Name: name, User: user, Theirs: theirs, Operator: "odd", Because: "b",
				MadeAt: now})
		})
	}
	decide("kberg", "kari", true)
	decide("kari", "kari", false)
	decide("kari2", "kari", true) // takes the place of kberg
	if d, err := s.Decisions(ctx, "a"); err != nil || len(d) != 2 || d[1].Name != "kari2" || d[0].Theirs {
		t.Errorf("%v %v", d, err)
	}
	tx(t, s, func(tx *store.Tx) error {
		if there, err := tx.DropDecision(ctx, "a", "kari2", "kari"); !there || err != nil {
			t.Errorf("%v %v", there, err)
		}
		return nil
	})
	if d, err := s.Decisions(ctx, ""); err != nil || len(d) != 1 {
		t.Errorf("%v %v", d, err)
	}
}

// Links of many people at once are as those of few: what was known of some of them goes into the past.
func TestManyLinks(t *testing.T) {
	s, _ := open(t)
	var links []model.Link
	for i := range 400 {
		links = append(links, model.Link{Target: "a", User: fmt.Sprintf("o'neil %03d", i), Name: fmt.Sprintf("tab\t%03d", i), Unique: "u"})
	}
	tx(t, s, func(tx *store.Tx) error { return tx.PutLinks(ctx, "a", links[:150], 1, now) })
	links[7].Name = "other"
	tx(t, s, func(tx *store.Tx) error { return tx.PutLinks(ctx, "a", links, 2, now.Add(time.Hour)) })
	for at, want := range map[time.Duration]int{time.Minute: 150, 2 * time.Hour: 400} {
		list, err := s.LinksAt(ctx, "a", now.Add(at))
		if err != nil || len(list) != want {
			t.Fatalf("after %v %d links, want %d (%v)", at, len(list), want, err)
		}
		for _, l := range list {
			if l.User == links[7].User && (l.Name == "other") != (at > time.Hour) {
				t.Errorf("after %v %+v", at, l)
			}
		}
	}
}

// Every query that chooses rows finds them by an index.
func TestIndexes(t *testing.T) {
	_, db := open(t)
	for _, q := range []string{
		"SELECT * FROM record WHERE user = 'x' AND seq < 5 ORDER BY seq DESC LIMIT 5",
		"SELECT * FROM record WHERE target = 'x' ORDER BY seq DESC LIMIT 5",
		"SELECT * FROM record WHERE round = 5 ORDER BY seq DESC LIMIT 5",
		"SELECT * FROM record WHERE about = 5 ORDER BY seq DESC LIMIT 5",
		"SELECT * FROM finding WHERE target = 'x' ORDER BY target, place, id LIMIT 5", "SELECT * FROM finding WHERE user = 'x'",
		"SELECT * FROM finding WHERE kind = 'x' ORDER BY target, place LIMIT 5",
		"SELECT * FROM step WHERE round = 1 AND outcome = 'failed' ORDER BY seq LIMIT 5",
		"SELECT * FROM observed WHERE target = 'x' ORDER BY kind, name", "SELECT * FROM link WHERE user = 'x'",
		"SELECT * FROM round WHERE state = 'running' ORDER BY id DESC LIMIT 5",
		"SELECT * FROM member_past WHERE target = 'x' AND kind = 'group' AND name = 'y' AND until < '2026-01-01' " +
			"ORDER BY until DESC LIMIT 5",
		"SELECT * FROM credential WHERE operator = 'x' AND kind = 'token'", "DELETE FROM credential WHERE ends_at < '2020-01-01'",
	} {
		rows, err := db.Query("EXPLAIN " + q)
		if err != nil {
			t.Fatal(err)
		}
		for rows.Next() {
			cols := make([]sql.NullString, 10)
			ptrs := make([]any, len(cols))
			for i := range cols {
				ptrs[i] = &cols[i]
			}
			if err := rows.Scan(ptrs...); err != nil {
				t.Fatal(err)
			}
			if cols[4].String == "" { // possible_keys
				t.Errorf("no index for %s", q)
			}
		}
		rows.Close()
	}
}
