package intake

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"hen-roost/internal/core/exchange"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// Systems that cannot speak the protocol drop files: into a folder that has a folder for each system, called as its operator.
// A file is taken in once it has not changed for a while, and goes, with its answers beside it, into a folder taken, or refused,
// that no system can write into. Whoever owns a folder may lay links there: each is opened once as a handle (os.Root), no link is
// followed, and what is written is new or not at all.
const (
	dropMost  = 256 << 20
	nameMost  = 180 // bytes of a file's name: the time and what answers are called must have room beside it
	stillLong = 2 * time.Second
	takenTo   = "taken"
	refusedTo = "refused"
)

// lookInto takes in what has been dropped into a folder.
func (s *Intake) lookInto(folder string) {
	drops, err := os.OpenRoot(folder)
	if err != nil {
		s.complain(folder, err)
		return
	}
	defer drops.Close()
	systems, err := fs.ReadDir(drops.FS(), ".")
	if err != nil {
		s.complain(folder, err)
		return
	}
	for _, sys := range systems {
		name := sys.Name()
		if !sys.IsDir() || strings.HasPrefix(name, ".") || name == takenTo || name == refusedTo {
			continue
		}
		files, err := s.waiting(drops, name)
		if err != nil {
			s.complain(filepath.Join(folder, name), err)
		}
		if len(files) == 0 {
			continue
		}
		s.once("drops/"+name, func(ctx context.Context) error { return s.takeAll(ctx, folder, name) })
	}
}

// takeAll takes in the files of one system.
func (s *Intake) takeAll(ctx context.Context, folder, system string) error {
	drops, err := os.OpenRoot(folder)
	if err != nil {
		return err
	}
	defer drops.Close()
	files, err := s.waiting(drops, system) // another service may have taken them
	for _, f := range files {
		err = errors.Join(err, s.takeFile(ctx, drops, system, f))
	}
	return err
}

// complain logs what is wrong with a folder, once until something else is.
func (s *Intake) complain(folder string, err error) {
	if s.wrong[folder] != err.Error() {
		s.wrong[folder] = err.Error()
		s.Log.Error("what is dropped cannot be looked at", "folder", folder, "error", err)
	}
}

// waiting are the files of a system that are to be taken in, by their names. One that could not be put away waits no more.
func (s *Intake) waiting(drops *os.Root, system string) (out []string, err error) {
	if info, err := drops.Lstat(system); err != nil || !info.IsDir() {
		return nil, fmt.Errorf("it is no folder")
	}
	list, err := fs.ReadDir(drops.FS(), system)
	for _, f := range list {
		switch strings.ToLower(filepath.Ext(f.Name())) {
		case ".csv", ".jsonl":
		default:
			continue
		}
		i, err := f.Info()
		if err != nil || !i.Mode().IsRegular() || strings.HasPrefix(f.Name(), ".") || s.Now().Sub(i.ModTime()) < stillLong {
			continue
		}
		if at, stuck := s.stuck.Load(system + "/" + f.Name()); !stuck || !at.(time.Time).Equal(i.ModTime()) {
			out = append(out, f.Name())
		}
	}
	return out, err
}

// takeFile takes one file in, and puts it away.
func (s *Intake) takeFile(ctx context.Context, drops *os.Root, system, name string) error {
	text, changed, err := slurp(drops, system+"/"+name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	var answers []Answer
	switch {
	case err != nil:
		err = door.Wrong("file", "%v", err)
	case len(name) > nameMost:
		err = door.Wrong("file", "its name has more than %d bytes", nameMost)
	default:
		from, _ := s.named(ctx, system) // whether it was set up is found out below
		answers, err = s.Drop(ctx, system, strings.EqualFold(filepath.Ext(name), ".csv"), from.Settings.Everybody, text)
	}
	if ctx.Err() != nil || door.ProblemOf(err).Kind == door.Away {
		return err // it is tried again
	}
	called := door.ClipTo(model.Clean(name, false), 100)
	to, words := takenTo, "took in the file "+called+": "+summary(answers)
	if err != nil {
		to, words = refusedTo, "refused the file "+called+": "+err.Error()
	}
	if err := putAway(drops, system, name, to, s.Now(), answers, err); err != nil {
		s.stuck.Store(system+"/"+name, changed)
		words += fmt.Sprintf("; it could not be put away and is looked at again only when it has changed: %v", err)
	}
	return s.Write(ctx, func(*store.Tx) ([]*store.Entry, error) {
		return []*store.Entry{{At: s.Now(), Kind: "intake", Operator: system, Words: door.ClipTo(words, 2000)}}, nil
	})
}

// slurp reads a file that is one, no link, and has no more than a file may have; with it comes when it was changed.
func slurp(drops *os.Root, path string) (text []byte, changed time.Time, err error) {
	seen, err := drops.Lstat(path)
	if err != nil {
		return nil, changed, err
	}
	changed = seen.ModTime()
	f, err := drops.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, changed, err
	}
	defer f.Close()
	if opened, err := f.Stat(); err != nil || !opened.Mode().IsRegular() || !os.SameFile(seen, opened) {
		return nil, changed, errors.Join(errors.New("it is no file of its own"), err)
	}
	text, err = io.ReadAll(io.LimitReader(f, dropMost+1))
	if err == nil && len(text) > dropMost {
		err = errors.New("it has more than 256 MB")
	}
	return text, changed, err
}

// putAway moves a file out of the way, its answers first.
func putAway(drops *os.Root, system, name, to string, at time.Time, answers []Answer, why error) error {
	for _, dir := range []string{to, to + "/" + system} {
		if err := drops.Mkdir(dir, 0o750); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
		if info, err := drops.Lstat(dir); err != nil || !info.IsDir() {
			return fmt.Errorf("%s is no folder", dir)
		}
	}
	base := to + "/" + system + "/" + at.UTC().Format("20060102T150405.000Z-") + strings.ToValidUTF8(name[:min(len(name), nameMost)], "")
	f, err := drops.OpenFile(base+".answers.csv", os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o640)
	if err != nil {
		return err
	}
	w := csv.NewWriter(f)
	_ = w.Write([]string{"line", "user", "outcome", "words"})
	for _, a := range answers {
		line := ""
		if a.Line > 0 {
			line = strconv.Itoa(a.Line)
		}
		_ = w.Write([]string{line, exchange.Defuse(a.Name), a.Outcome, exchange.Defuse(a.Words)})
	}
	if why != nil {
		_ = w.Write([]string{"", "", "refused", exchange.Defuse(why.Error())})
	}
	w.Flush()
	if err := errors.Join(w.Error(), f.Close()); err != nil {
		return err
	}
	if _, err := drops.Lstat(base); err == nil {
		return fmt.Errorf("%s is there already", base)
	}
	return drops.Rename(system+"/"+name, base)
}

// summary counts answers in words.
func summary(answers []Answer) string {
	n := map[string]int{}
	for _, a := range answers {
		n[a.Outcome]++
	}
	var parts []string
	for _, x := range []string{Fresh, Changed, Same, Gone, NotRead} {
		if n[x] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n[x], x))
		}
	}
	if parts == nil {
		return "nobody is in it"
	}
	return strings.Join(parts, ", ")
}
