package serve

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/dialect"
)

// recordingEnd is how the names of recordings end, which stand beside the dialects that they are of.
const recordingEnd = ".recording.yaml"

// taught adds the kinds of target that the dialects in a folder teach; "" is no folder. All that is wrong with them is told.
// What was learnt last of each kind is in known, if that is not nil.
func taught(kinds connect.Kinds, folder string, known *keptDialects) error {
	if folder == "" {
		return nil
	}
	files, err := filepath.Glob(filepath.Join(folder, "*.yaml"))
	if err != nil {
		return err
	}
	if info, err := os.Stat(folder); err != nil || !info.IsDir() {
		return fmt.Errorf("dialects: %s is no folder", folder)
	}
	var errs []error
	for _, path := range files {
		if strings.HasSuffix(path, recordingEnd) {
			continue
		}
		text, err := os.ReadFile(path)
		if err != nil {
			errs = append(errs, err)
			continue
		}
		recordings, err := recorded(path)
		c, err2 := dialect.Learn(filepath.Base(path), text, recordings...)
		switch {
		case err != nil || err2 != nil:
			errs = append(errs, known.still(kinds, text, errors.Join(err, err2)))
		case kinds[c.File.Kind] != nil:
			errs = append(errs, fmt.Errorf("%s: there is a kind %s already", path, c.File.Kind))
		default:
			kinds[c.File.Kind] = c
			errs = append(errs, known.keep(c.File.Kind, text))
		}
	}
	return errors.Join(errs...)
}

// recorded are the recordings that stand beside a dialect: harbour-switch.recording.yaml, harbour-switch.full.recording.yaml.
func recorded(path string) (out []connect.Recorded, err error) {
	files, err := filepath.Glob(strings.TrimSuffix(path, ".yaml") + ".*recording.yaml")
	for _, f := range files {
		text, bad := os.ReadFile(f)
		if bad != nil {
			return nil, bad
		}
		out = append(out, connect.Recorded{File: filepath.Base(f), Text: string(text)})
	}
	return out, err
}

// learn makes a connector of a file that is to be tried.
func learn(name string, text []byte) (connect.Pupil, error) { return dialect.Learn(name, text) }

// CheckDialect tries a dialect's file, with the recordings beside it. The error is of a file that cannot be read at all.
func CheckDialect(path string) (kind string, l connect.Lesson, err error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return "", l, err
	}
	recordings, err := recorded(path)
	if err != nil {
		return "", l, err
	}
	c, err := dialect.Learn(path, text, recordings...)
	if err != nil {
		l.Faults = strings.Split(err.Error(), "\n")
		return "", l, nil
	}
	return c.File.Kind, *c.Knows().Lesson, nil
}
