package store_test

import (
	"bytes"
	"crypto/rand"
	"io"
	"testing"
	"time"

	"hen-roost/internal/core/model"
	"hen-roost/internal/store"
)

// A home is stored piece by piece, read back as it was, kept until its last day, and gone after it with all its pieces.
func TestArchives(t *testing.T) {
	s, _ := open(t)
	now := time.Now().UTC().Truncate(time.Microsecond)
	if err := s.Tx(ctx, func(tx *store.Tx) error {
		return tx.AwaitArchives(ctx, []store.Archive{{Target: "pier", Account: "jarle", Number: "1701", User: "jarle", At: now},
			{Target: "quay", Number: "1990", At: now}})
	}); err != nil {
		t.Fatal(err)
	}
	if targets, err := s.AwaitedArchives(ctx); err != nil || len(targets) != 2 {
		t.Fatalf("%v %v", targets, err)
	}
	list, err := s.OpenArchives(ctx, "pier")
	if err != nil || len(list) != 1 {
		t.Fatalf("%+v %v", list, err)
	}
	a := list[0]
	plain := make([]byte, 2*store.ArchivePiece+12345)
	_, _ = rand.Read(plain) // never fails (crypto/rand)
	for range 2 {           // the first was cut off: it begins anew
		w, err := s.FillArchive(ctx, a.ID)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := io.Copy(w, io.MultiReader(bytes.NewReader(plain[:7]), bytes.NewReader(plain[7:]))); err != nil {
			t.Fatal(err)
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
	}
	if got, err := io.ReadAll(s.ReadArchive(ctx, a.ID)); err != nil || !bytes.Equal(got, plain) {
		t.Fatalf("%d bytes came back of %d, %v", len(got), len(plain), err)
	}
	until := now.Add(time.Hour)
	a.State, a.Until, a.Bytes, a.File, a.Sum = store.ArchiveKept, &until, int64(len(plain)), "jarle-1701-1.tar.gz", make([]byte, 32)
	if err := s.Tx(ctx, func(tx *store.Tx) error { return tx.KeepArchive(ctx, a) }); err != nil {
		t.Fatal(err)
	}
	if got, err := s.ArchiveByID(ctx, a.ID); err != nil || got.State != store.ArchiveKept || got.Bytes != int64(len(plain)) ||
		!got.Until.Equal(until) {
		t.Errorf("%+v %v", got, err)
	}
	if page, err := s.ArchivesOn(ctx, "", 0, 1); err != nil || len(page) != 1 || page[0].Target != "quay" {
		t.Errorf("%+v %v", page, err)
	}
	for _, at := range []struct {
		when time.Time
		gone int
	}{{now, 0}, {until.Add(time.Minute), 1}} {
		var gone []store.Archive
		if err := s.Tx(ctx, func(tx *store.Tx) (err error) { gone, err = tx.ForgetArchives(ctx, at.when, 10); return err }); err != nil ||
			len(gone) != at.gone {
			t.Errorf("%+v %v", gone, err)
		}
	}
	if _, err := s.ArchiveByID(ctx, a.ID); err != store.ErrNone {
		t.Errorf("it is still there: %v", err)
	}
	if got, err := io.ReadAll(s.ReadArchive(ctx, a.ID)); err != nil || len(got) != 0 {
		t.Errorf("%d bytes are still there, %v", len(got), err)
	}
}

// What surveys alone tell of an account outlasts what a step reads back; what is shut opens nothing any more.
func TestCarriedOver(t *testing.T) {
	s, _ := open(t)
	object := func(disabled string, more ...model.Attribute) model.Object {
		return model.Object{Kind: model.Account, Name: "jarle", Attributes: model.Pack(append(more, model.Attribute{Name: model.Disabled,
			Values: []string{disabled}})...)}
	}
	seen := object("no", model.Attribute{Name: model.LastSignIn, Values: []string{"2026-11-20"}},
		model.Attribute{Name: model.SharedLogin, Values: []string{"one key"}})
	seen.Marked = true
	put := func(o model.Object) model.Object {
		t.Helper()
		if err := s.Tx(ctx, func(tx *store.Tx) error {
			return tx.PutObjects(ctx, "pier", []model.Object{o}, nil, time.Now())
		}); err != nil {
			t.Fatal(err)
		}
		o, err := s.Object(ctx, "pier", model.Account, "jarle")
		if err != nil {
			t.Fatal(err)
		}
		return o
	}
	put(seen)
	if o := put(object("no", model.Attribute{Name: "shell", Values: []string{"/bin/sh"}})); !o.Marked ||
		o.Attributes.One(model.LastSignIn) != "2026-11-20" || o.Attributes.One(model.SharedLogin) != "one key" ||
		o.Attributes.One("shell") != "/bin/sh" {
		t.Errorf("%+v %v", o, o.Attributes.Map())
	}
	if o := put(object("yes")); o.Marked || o.Attributes.Has(model.SharedLogin) ||
		o.Attributes.One(model.LastSignIn) != "2026-11-20" {
		t.Errorf("%+v %v", o, o.Attributes.Map())
	}
}
