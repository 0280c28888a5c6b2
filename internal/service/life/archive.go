package life

import (
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"hash"
	"io"
	"slices"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
	"hen-roost/internal/work"
)

// Homes of those who were removed are fetched from their targets where the declaration says so, sealed as they come, and
// taken away there only when all of it is stored and has the same hash. They are forgotten on the day that it says.

// Archive is a home that is kept here, or waits on its target to be fetched.
type Archive struct {
	ID       int64      `json:"id"`
	Target   string     `json:"target"`
	Account  string     `json:"account"`
	Number   string     `json:"number"`
	User     string     `json:"user,omitempty"`
	UserName string     `json:"user-name,omitempty"`
	Bytes    int64      `json:"bytes"`
	State    string     `json:"state" enum:"awaited,fetched,kept,returned"`
	Words    string     `json:"words,omitempty" doc:"why it still waits"`
	At       time.Time  `json:"at" doc:"when it was removed there"`
	Until    *time.Time `json:"until,omitempty" doc:"after which it is forgotten"`
}

// Archives is one page of them, newest first.
type Archives struct {
	Items []Archive `json:"items"`
	Next  int64     `json:"next,omitempty" doc:"ask for the page behind this one with before"`
}

// whose names the account that a home belonged to, or else the number.
func whose(a store.Archive) string { return cmp.Or(a.Account, "number "+a.Number) }

// retained is for how long a home is kept where the declaration does not say.
const retained = 365 * 24 * time.Hour

// ListArchives lists archives of a target, or of all.
func (s *Life) ListArchives(ctx context.Context, who door.Operator, target string, before int64, size int) (Archives, error) {
	if err := who.May(door.Look); err != nil {
		return Archives{}, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return Archives{}, err
	}
	size = door.Page{Size: size}.Bounded().Size
	rows, err := s.Store.ArchivesOn(ctx, target, before, size+1)
	out := Archives{Items: []Archive{}}
	if len(rows) > size {
		rows = rows[:size]
		out.Next = rows[size-1].ID
	}
	for _, a := range rows {
		out.Items = append(out.Items, Archive{ID: a.ID, Target: a.Target, Account: a.Account, Number: a.Number, User: a.User,
			UserName: c.FullName(a.User), Bytes: a.Bytes, State: a.State, Words: a.Words, At: a.At, Until: a.Until})
	}
	return out, err
}

// archivesEvery is how often is looked for homes that wait, and for those whose last day has gone by.
var archivesEvery = 10 * time.Second

// keepArchives does both until the service ends.
func (s *Life) keepArchives() {
	for {
		if err := errors.Join(s.fetchAll(s.Life), s.forgetArchives(s.Life)); err != nil && s.Life.Err() == nil {
			s.Log.Warn("archives are not kept", "error", err)
		}
		select {
		case <-s.Life.Done():
			return
		case <-time.After(archivesEvery):
		}
	}
}

func (s *Life) forgetArchives(ctx context.Context) error {
	return s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		gone, err := tx.ForgetArchives(ctx, s.Now(), 100)
		var entries []*store.Entry
		for _, a := range gone {
			entries = append(entries, &store.Entry{At: s.Now(), Kind: "archive", Operator: door.Itself.Name, Target: a.Target, User: a.User,
				Words: fmt.Sprintf("forgot the sealed home of %s: its last day was %s", whose(a), day(*a.Until))})
		}
		return entries, err
	})
}

func (s *Life) fetchAll(ctx context.Context) error {
	targets, err := s.Store.AwaitedArchives(ctx)
	if err != nil {
		return err
	}
	work.Each(ctx, targets, s.Width, func(ctx context.Context, target string) {
		held, err := work.TryHold(ctx, s.Store, "archive/"+target, s.Owner)
		if err != nil {
			return // somebody else is at it
		}
		defer held.Release()
		if err := s.fetchFrom(ctx, target); err != nil && ctx.Err() == nil {
			if err := s.Store.ArchiveWaits(ctx, target, door.ClipTo(err.Error(), 1000)); err != nil {
				s.Log.Warn("that a home still waits is not noted", "target", target, "error", err)
			}
		}
	})
	return nil
}

// fetchFrom fetches all that waits on a target.
func (s *Life) fetchFrom(ctx context.Context, target string) error {
	c, err := s.Current(ctx)
	if err != nil {
		return err
	}
	session, err := s.SessionOn(ctx, target)
	if err != nil {
		return err
	}
	defer session.Close()
	from, err := connect.Archives(session)
	if err != nil {
		return err
	}
	there, err := from.Waiting(ctx)
	if err != nil {
		return err
	}
	rows, err := s.Store.OpenArchives(ctx, target)
	if err != nil {
		return err
	}
	keep := retained
	if d := c.Plan.Targets[target]; d != nil {
		keep = cmp.Or(d.Target.Removal.Retain, retained)
	}
	for _, a := range rows { // stored before, when it could not be taken away
		if a.State == store.ArchiveFetched {
			if err := s.takeAway(ctx, from, a); err != nil {
				return err
			}
			there = slices.DeleteFunc(there, func(x connect.Archive) bool { return x.Name == a.File })
		}
	}
	for _, x := range there {
		at := slices.IndexFunc(rows, func(a store.Archive) bool { return a.State == store.ArchiveAwaited && a.Number == x.Number })
		if at < 0 {
			continue // nobody's removal that we know of put it there
		}
		until := s.Now().Add(keep)
		a := rows[at]
		a.File, a.Until = x.Name, &until
		if err := s.fetch(ctx, from, &a); err != nil {
			return err
		}
		rows[at].State = store.ArchiveKept
	}
	for _, a := range rows {
		if a.State != store.ArchiveAwaited {
			continue
		}
		err := s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) { // an archive is whole before its step has ended
			return []*store.Entry{{At: s.Now(), Kind: "archive", Operator: door.Itself.Name, Target: a.Target, User: a.User,
				Words: fmt.Sprintf("no archive of %s waits on %s: there was no home", whose(a), target)}}, tx.DropArchive(ctx, a.ID)
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// fetch stores one, and takes it away there when that is done.
func (s *Life) fetch(ctx context.Context, from connect.Archiver, a *store.Archive) error {
	pieces, err := s.Store.FillArchive(ctx, a.ID)
	if err != nil {
		return err
	}
	sealing, err := s.Sealing(pieces)
	if err != nil {
		return err
	}
	n := counted{to: sealing, sum: sha256.New()}
	if err := errors.Join(from.Fetch(ctx, a.File, &n), sealing.Close(), pieces.Close()); err != nil {
		return err
	}
	a.Bytes, a.Sum = n.n, n.sum.Sum(nil)
	if err := s.whole(ctx, a); err != nil {
		return err
	}
	a.State = store.ArchiveFetched
	if err := s.Store.Tx(ctx, func(tx *store.Tx) error { return tx.KeepArchive(ctx, *a) }); err != nil {
		return err
	}
	return s.takeAway(ctx, from, *a)
}

// takeAway takes an archive away where it came from, once all of it is stored here.
func (s *Life) takeAway(ctx context.Context, from connect.Archiver, a store.Archive) error {
	if err := from.Fetched(ctx, a.File, a.Sum); err != nil {
		return err
	}
	a.State = store.ArchiveKept
	return s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		return []*store.Entry{{At: s.Now(), Kind: "archive", Operator: door.Itself.Name, Target: a.Target, User: a.User,
				Words: fmt.Sprintf("fetched and sealed the home of %s, %d bytes, until %s", whose(a), a.Bytes, day(*a.Until))}},
			tx.KeepArchive(ctx, a)
	})
}

// whole reads an archive back as it is stored: what cannot be opened is not taken away where it came from.
func (s *Life) whole(ctx context.Context, a *store.Archive) error {
	plain, err := s.Opening(s.Store.ReadArchive(ctx, a.ID))
	if err != nil {
		return err
	}
	sum := sha256.New()
	if _, err := io.Copy(sum, plain); err != nil {
		return err
	}
	if string(sum.Sum(nil)) != string(a.Sum) {
		return fmt.Errorf("the sealed home of %s reads back otherwise than it was fetched", whose(*a))
	}
	return nil
}

// counted counts and hashes what is written through it.
type counted struct {
	to  io.Writer
	sum hash.Hash
	n   int64
}

func (c *counted) Write(p []byte) (int, error) {
	n, err := c.to.Write(p)
	c.sum.Write(p[:n])
	c.n += int64(n)
	return n, err
}

// ReturnArchive brings a home back to the target that it came from: among the archives there and, where its account is
// there with the same number and without a home, in its place. What is here stays until its last day.
func (s *Life) ReturnArchive(ctx context.Context, who door.Operator, id int64, because string) (Archive, string, error) {
	if err := who.May(door.Run); err != nil {
		return Archive{}, "", err
	}
	because, err := door.Reason(because)
	if err != nil {
		return Archive{}, "", err
	}
	a, err := s.Store.ArchiveByID(ctx, id)
	if err == store.ErrNone {
		return Archive{}, "", &door.Problem{Kind: door.Unknown, Words: fmt.Sprintf("there is no archive %d", id)}
	}
	if err != nil {
		return Archive{}, "", err
	}
	if a.State == store.ArchiveAwaited || a.State == store.ArchiveFetched {
		return Archive{}, "", door.Clashing("the home of %s is still on %s: it was not fetched yet", whose(a), a.Target)
	}
	session, err := s.SessionOn(ctx, a.Target)
	if err != nil {
		return Archive{}, "", &door.Problem{Kind: door.Away, Words: err.Error()}
	}
	defer session.Close()
	to, err := connect.Archives(session)
	if err != nil {
		return Archive{}, "", &door.Problem{Kind: door.Unknown, Words: err.Error()}
	}
	plain, err := s.Opening(s.Store.ReadArchive(ctx, a.ID))
	if err != nil {
		return Archive{}, "", err
	}
	words, err := to.Return(ctx, connect.Archive{Name: a.File, Account: a.Account, Number: a.Number, Bytes: a.Bytes}, plain)
	if err != nil {
		return Archive{}, "", &door.Problem{Kind: door.Away, Words: err.Error()}
	}
	err = s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		return []*store.Entry{{At: s.Now(), Kind: "archive", Operator: who.Name, Target: a.Target, User: a.User, Because: because,
			Words: fmt.Sprintf("returned the sealed home of %s: %s", whose(a), words)}}, tx.ReturnArchive(ctx, id)
	})
	return Archive{ID: a.ID, Target: a.Target, Account: a.Account, Number: a.Number, User: a.User, Bytes: a.Bytes,
		State: store.ArchiveReturned,
		At:    a.At, Until: a.Until}, words, err
}
