package main

import (
	"context"
	"crypto/ed25519"
	"database/sql"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	_ "github.com/go-sql-driver/mysql" // the driver, for the bare program

	"hen-roost/internal/core/chain"
	"hen-roost/internal/dbserver"
	"hen-roost/internal/store"
)

var entries = sized(10_000)

func (w *workbench) database(ctx context.Context) (string, error) {
	db, err := dbserver.Start(ctx, dbserver.Options{Dir: filepath.Join(w.dir, "db")}) // with full durability
	if err != nil {
		return "", err
	}
	w.later(db.Stop)
	return db.Create(ctx)
}

// storeOf is a store on a database of its own.
func (w *workbench) storeOf(ctx context.Context) (*store.Store, error) {
	dsn, err := w.database(ctx)
	if err != nil {
		return nil, err
	}
	s, err := store.Open(ctx, dsn)
	if err == nil {
		w.later(func() { s.Close() })
	}
	return s, err
}

// recordPromise: ten thousand entries written in groups of a hundred, each group
// durable when it is written, against the second they may take.
func recordPromise(ctx context.Context, w *workbench) (float64, float64, error) {
	ours, _, err := record(ctx, w)
	return ours, 1, err
}

// recordBare: the same against bare rows in statements of a hundred, without chain, head or keys.
func recordBare(ctx context.Context, w *workbench) (float64, float64, error) { return record(ctx, w) }

func record(ctx context.Context, w *workbench) (float64, float64, error) {
	dsn, err := w.database(ctx)
	if err != nil {
		return 0, 0, err
	}
	s, err := store.Open(ctx, dsn)
	if err != nil {
		return 0, 0, err
	}
	w.later(func() { s.Close() })
	db, err := sql.Open("mysql", dsn+"?interpolateParams=true")
	if err != nil {
		return 0, 0, err
	}
	w.later(func() { db.Close() })
	if _, err := db.ExecContext(ctx,
		`CREATE TABLE bare (seq BIGINT AUTO_INCREMENT PRIMARY KEY, at DATETIME(6), words VARCHAR(2000), body BLOB)`); err != nil {
		return 0, 0, err
	}
	body := []byte(`{"step":17,"outcome":"done","before":{"shell":["/bin/sh"]},"after":{"shell":["/bin/bash"]}}`)
	return pair(5, func(int) error {
		for from := 0; from < entries; from += 100 {
			group := make([]*store.Entry, 100)
			for i := range group {
				group[i] = &store.Entry{At: time.Now(), Kind: "step", Operator: "odd.strand", Target: "arctic-tern", User: "marit.fell",
					Round: 7, Because: "spring deck crew", Words: fmt.Sprintf("change account marit.fell: done %d", from+i), Body: body}
			}
			if err := s.Tx(ctx, func(tx *store.Tx) error { return tx.Append(ctx, group...) }); err != nil {
				return err
			}
		}
		return nil
	}, func(int) error {
		for from := 0; from < entries; from += 100 {
			args := []any{}
			for i := range 100 {
				args = append(args, time.Now(), fmt.Sprintf("change account marit.fell: done %d", from+i), body)
			}
			if _, err := db.ExecContext(ctx, `INSERT INTO bare (at, words, body) VALUES (?,?,?)`+strings.Repeat(",(?,?,?)", 99),
				args...); err != nil {
				return err
			}
		}
		return nil
	})
}

// longEntries is how many entries a long record has.
var longEntries = int64(sized(sized(10_000_000)))

// long is a record of many years, made once: sealed parts and the newest entries as rows.
type long struct {
	store  *store.Store
	bytes  float64 // on disk
	notes  float64 // of them, the notes
	check  time.Duration
	worst  time.Duration
	walked float64 // entries a second, every entry walked through
}

// longRecord makes the parts as the service does, and asks of them what people ask.
func (w *workbench) longRecord(ctx context.Context) (*long, error) {
	if w.long != nil {
		return w.long, nil
	}
	s, err := w.storeOf(ctx)
	if err != nil {
		return nil, err
	}
	_, key, err := ed25519.GenerateKey(nil)
	if err != nil {
		return nil, err
	}
	l := &long{store: s}
	at := chain.Start()
	for at.Seq < longEntries {
		var list []chain.Entry
		list, at = steps(at, 500)
		p, err := chain.Pack(chain.Head{Seq: list[0].Seq - 1, Hash: list[0].Before}, list, key)
		if err != nil {
			return nil, err
		}
		if err := s.Tx(ctx, func(tx *store.Tx) error { return tx.AddPart(ctx, p, list) }); err != nil {
			return nil, err
		}
	}
	if err := l.look(ctx, key.Public().(ed25519.PublicKey), at); err != nil {
		return nil, err
	}
	l.notes = w.tables("record_note")
	l.bytes = l.notes + w.tables("record_part")
	w.long = l
	return l, nil
}

// look checks all of it by its seals, walks through some, and asks for pages.
func (l *long) look(ctx context.Context, key []byte, end chain.Head) error {
	began, at := time.Now(), chain.Start()
	if err := l.store.EachPart(ctx, 0, func(p *chain.Part) (err error) {
		if at, err = p.Follows(at); err == nil && !p.SealedWith(key) {
			err = fmt.Errorf("the part from %d is not as it was sealed", p.First)
		}
		return err
	}); err != nil || at.Seq != end.Seq {
		return fmt.Errorf("%d hold: %w", at.Seq, err)
	}
	l.check = time.Since(began)
	began = time.Now()
	walked := longEntries / 50
	if err := l.store.EachEntry(ctx, walked, func(*chain.Entry) error { return nil }); err != nil {
		return err
	}
	l.walked = float64(walked) / time.Since(began).Seconds()
	for _, f := range []store.EntryFilter{{User: longHand(longEntries / 2)}, {Target: "target-07", Kind: "step"}, {Round: 77},
		{Before: longEntries / 5 * 2}, {User: longHand(longEntries / 3), Kind: "step"},
		{Operator: "odd.strand", Round: 1 + int64(sized(900))}} {
		began := time.Now()
		list, _, err := l.store.Entries(ctx, f, 60)
		if err != nil || len(list) == 0 {
			return fmt.Errorf("%+v: %d entries, %w", f, len(list), err)
		}
		fmt.Printf("# record %+v: %d entries in %v\n", f, len(list), time.Since(began).Round(time.Millisecond))
		l.worst = max(l.worst, time.Since(began))
	}
	return nil
}

// longEntriesRound is how many of its entries are of one round.
var longEntriesRound = int64(sized(1000))

// longHand is whom an entry is about.
func longHand(i int64) string { return fmt.Sprintf("hand.%06d", i*7919%100_000) }

// steps are entries as rounds leave them: each of another person, on one of twenty targets, a thousand in a round.
func steps(at chain.Head, n int) (list []chain.Entry, _ chain.Head) {
	for range n {
		i := at.Seq
		e := chain.Entry{Seq: i + 1, At: time.UnixMicro(1_700_000_000_000_000 + i*1_000_003).UTC(), Kind: "step", Operator: "odd.strand",
			Target: fmt.Sprintf("target-%02d", i/longEntriesRound%20), User: longHand(i), Round: 1 + i/longEntriesRound,
			Because: "autumn", Words: fmt.Sprintf("done: change account %s: shell /bin/sh → /bin/bash", longHand(i)),
			Body: fmt.Appendf(nil, `{"step":%d,"outcome":"done","act":{"verb":"change","object":"account","name":"%s"},`+
				`"before":{"shell":["/bin/sh"]},"after":{"shell":["/bin/bash"]}}`, i%1000, longHand(i)), Before: at.Hash}
		e.Hash = e.Seal()
		list, at = append(list, e), chain.Head{Seq: e.Seq, Hash: e.Hash}
	}
	return list, at
}

// recordLong: what one of ten million entries takes, in bytes, against 350.
func recordLong(ctx context.Context, w *workbench) (float64, float64, error) {
	l, err := w.longRecord(ctx)
	if err != nil {
		return 0, 0, err
	}
	fmt.Printf("# of it notes: %.0f bytes an entry\n", l.notes/float64(longEntries))
	return l.bytes / float64(longEntries), 350, nil
}

// recordLongCheck: checking all of them by their seals, in µs an entry, against two; and the slowest page, in ms.
func recordLongCheck(ctx context.Context, w *workbench) (float64, float64, error) {
	l, err := w.longRecord(ctx)
	if err != nil {
		return 0, 0, err
	}
	fmt.Printf("# walked through: %.0f entries/s\n", l.walked)
	return l.check.Seconds() * 1e6 / float64(longEntries), 2, nil
}

func recordLongPage(ctx context.Context, w *workbench) (float64, float64, error) {
	l, err := w.longRecord(ctx)
	if err != nil {
		return 0, 0, err
	}
	return l.worst.Seconds() * 1000, 300, nil
}
