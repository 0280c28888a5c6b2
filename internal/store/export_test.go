package store

import (
	"context"
	"io/fs"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/go-sql-driver/mysql"
	"github.com/pressly/goose/v3"
)

// OpenAt is Open with the tables as an earlier version left them.
func OpenAt(ctx context.Context, dsn string, version int64) (*Store, error) {
	conf, err := mysql.ParseDSN(dsn)
	if err != nil {
		return nil, err
	}
	conf.ParseTime, conf.InterpolateParams = true, true
	db, err := pool(conf)
	if err != nil {
		return nil, err
	}
	files, _ := fs.Sub(migrations, "migrations")
	p, err := goose.NewProvider(goose.DialectMySQL, db.DB, files)
	if err != nil {
		return nil, err
	}
	_, err = p.UpTo(ctx, version)
	return &Store{db: db}, err
}

// Exec runs a statement of a test's own.
func (s *Store) Exec(ctx context.Context, query string, args ...any) error {
	_, err := s.exec(ctx, query, args...)
	return err
}

// Whatever comes and goes, and whatever is read of it, the pieces are those into
// which all that is left would be cut.
func TestPieces(t *testing.T) {
	k := setKey{"group", "crew", "account"}
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 1))
		name := func() string { return string([]byte{byte('a' + r.IntN(26)), byte('a' + r.IntN(26))}) }
		all := map[string]bool{}
		for range r.IntN(400) {
			all[name()] = true
		}
		state := map[pieceKey][]string{}
		for _, p := range k.cut("", sortedKeys(all)) {
			state[p.pieceKey] = p.members
		}
		for range 20 {
			in := map[string]bool{}
			for range 1 + r.IntN(6) {
				in[name()] = r.IntN(2) == 0
			}
			state = apply(k, state, in)
			for m, comes := range in {
				if comes {
					all[m] = true
				} else {
					delete(all, m)
				}
			}
			want := map[pieceKey][]string{}
			for _, p := range k.cut("", sortedKeys(all)) {
				want[p.pieceKey] = p.members
			}
			if len(want) != len(state) {
				t.Fatalf("seed %d: %d pieces, want %d", seed, len(state), len(want))
			}
			for key, members := range want {
				if !slices.Equal(state[key], members) {
					t.Fatalf("seed %d: piece %q holds %q, want %q", seed, key.first, state[key], members)
				}
			}
		}
	}
}

// apply does to all pieces what PutMoves does to those that it reads.
func apply(k setKey, state map[pieceKey][]string, in map[string]bool) map[pieceKey][]string {
	read := map[pieceKey][]string{}
	for m := range in {
		for _, below := range []bool{false, true} {
			if below && !begins(m) {
				continue
			}
			best, found := pieceKey{}, false
			for key := range state {
				if (key.first < m || !below && key.first == m) && (!found || key.first > best.first) {
					best, found = key, true
				}
			}
			if found {
				read[best] = state[best]
			}
		}
	}
	out := map[pieceKey][]string{}
	for key, members := range state {
		if _, was := read[key]; !was {
			out[key] = members
		}
	}
	for key, members := range k.moved(read, in) {
		out[key] = members
	}
	return out
}

func sortedKeys(m map[string]bool) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// LoadAgain forgets that a server did not allow it.
func LoadAgain() { noLoads.Store(false) }
