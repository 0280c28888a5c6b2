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
// A file is taken in once it has not changed for a while, and goes, with its answers beside it, into a folder taken, or refused.
const (
	dropMost  = 256 << 20
	stillLong = 2 * time.Second
	takenTo   = "taken"
	refusedTo = "refused"
)

// lookInto takes in what has been dropped into a folder.
func (s *Intake) lookInto(folder string) {
	systems, err := os.ReadDir(folder)
	if err != nil {
		s.complain(folder, err)
		return
	}
	for _, sys := range systems {
		if !sys.IsDir() || strings.HasPrefix(sys.Name(), ".") {
			continue
		}
		dir := filepath.Join(folder, sys.Name())
		files, err := waiting(dir, s.Now())
		if err != nil {
			s.complain(dir, err)
		}
		if len(files) == 0 {
			continue
		}
		s.once("drops/"+sys.Name(), func(ctx context.Context) error {
			files, err := waiting(dir, s.Now()) // another service may have taken them
			for _, f := range files {
				err = errors.Join(err, s.takeFile(ctx, sys.Name(), dir, f))
			}
			return err
		})
	}
}

// complain logs what is wrong with a folder, once until something else is.
func (s *Intake) complain(folder string, err error) {
	if s.wrong[folder] != err.Error() {
		s.wrong[folder] = err.Error()
		s.Log.Error("what is dropped cannot be looked at", "folder", folder, "error", err)
	}
}

// waiting are the files of a folder that are to be taken in, by their names.
func waiting(dir string, now time.Time) (out []string, err error) {
	list, err := os.ReadDir(dir)
	for _, f := range list {
		switch strings.ToLower(filepath.Ext(f.Name())) {
		case ".csv", ".jsonl":
		default:
			continue
		}
		i, err := f.Info()
		if err == nil && i.Mode().IsRegular() && !strings.HasPrefix(f.Name(), ".") && now.Sub(i.ModTime()) >= stillLong {
			out = append(out, f.Name())
		}
	}
	return out, err
}

// takeFile takes one file in, and puts it away.
func (s *Intake) takeFile(ctx context.Context, system, dir, name string) error {
	text, err := slurp(filepath.Join(dir, name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	var answers []Answer
	if err != nil {
		err = door.Wrong("file", "%v", err)
	} else {
		from, _ := s.named(ctx, system) // whether it was set up is found out below
		answers, err = s.Drop(ctx, system, strings.EqualFold(filepath.Ext(name), ".csv"), from.Settings.Everybody, text)
	}
	if ctx.Err() != nil || door.ProblemOf(err).Kind == door.Away {
		return err // it is tried again
	}
	called := model.Clean(name, false)
	to, words := takenTo, "took in the file "+called+": "+summary(answers)
	if err != nil {
		to, words = refusedTo, "refused the file "+called+": "+err.Error()
	}
	if err := putAway(dir, name, to, s.Now(), answers, err); err != nil {
		return fmt.Errorf("%s was looked at, and cannot be put away, so that it will be again: %w", name, err)
	}
	return s.Write(ctx, func(*store.Tx) ([]*store.Entry, error) {
		return []*store.Entry{{At: s.Now(), Kind: "intake", Operator: system, Words: door.ClipTo(words, 2000)}}, nil
	})
}

// slurp reads a file that is one, and no more than a file may have.
func slurp(path string) ([]byte, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, dropMost+1))
	if err == nil && len(text) > dropMost {
		err = errors.New("it has more than 256 MB")
	}
	return text, err
}

// putAway moves a file out of the way, its answers first.
func putAway(dir, name, to string, at time.Time, answers []Answer, why error) error {
	to = filepath.Join(dir, to)
	if err := os.MkdirAll(to, 0o750); err != nil {
		return err
	}
	base := filepath.Join(to, at.UTC().Format("20060102T150405.000Z-")+name)
	f, err := os.OpenFile(base+".answers.csv", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o640)
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
	return os.Rename(filepath.Join(dir, name), base)
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
