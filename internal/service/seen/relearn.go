package seen

import (
	"context"
	"fmt"
	"reflect"
	"slices"

	"hen-roost/internal/connect"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// Relearn takes other connectors: the files that teach kinds of targets were changed. What is declared is read anew with them,
// and every target compared; where it cannot be read with them, its error says why, and all stays as it was.
func (s *Seen) Relearn(ctx context.Context, kinds connect.Kinds) error {
	words := relearnt(s.Kinds(), kinds)
	if len(words) == 0 {
		return nil
	}
	if err := s.Declared.Relearn(ctx, kinds.Schemas()); err != nil {
		return fmt.Errorf("what is declared does not fit them, so nothing was taken: %w", err)
	}
	s.kinds.Store(&kinds)
	s.known.keep(func(string) bool { return false })
	if err := s.Write(ctx, func(*store.Tx) (entries []*store.Entry, err error) {
		for _, w := range words {
			entries = append(entries, &store.Entry{At: s.Now(), Kind: "dialect", Words: door.ClipTo(w, 2000)})
		}
		return entries, nil
	}); err != nil {
		return err
	}
	err := s.CompareAll(ctx)
	if err != nil && door.ProblemOf(err).Kind == door.NotYet {
		err = nil
	}
	return err
}

// relearnt says which kinds are otherwise than before.
func relearnt(before, after connect.Kinds) (words []string) {
	for _, kind := range slices.Sorted(slices.Values(append(door.KeysOf(before), door.KeysOf(after)...))) {
		was, is := before.Knows(kind).Lesson, after.Knows(kind).Lesson
		what := ""
		switch {
		case before[kind] == nil:
			what = fmt.Sprintf("the dialect %s is new", kind)
		case after[kind] == nil:
			what = fmt.Sprintf("the dialect %s is gone", kind)
		case was != nil && is == nil:
			what = fmt.Sprintf("the dialect %s is broken, and its targets stand still until it is mended", kind)
		case was == nil && is != nil:
			what = fmt.Sprintf("the dialect %s is mended", kind)
		case is != nil && !reflect.DeepEqual(was, is):
			what = fmt.Sprintf("the dialect %s was read anew", kind)
		}
		if what != "" && !slices.Contains(words, what) {
			words = append(words, what)
		}
	}
	return words
}
