package serve

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/dialect"
	language "hen-roost/internal/dialect"
)

// recordingEnd is how the names of recordings end, which stand beside the dialects that they are of.
const recordingEnd = ".recording.yaml"

// taught adds the kinds of target that the dialects in a folder teach; "" is no folder. All that is wrong with them is told.
func taught(kinds connect.Kinds, folder string) error {
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
		f, err := language.Read(path, text)
		switch {
		case err != nil:
			errs = append(errs, err)
		case kinds[f.Kind] != nil:
			errs = append(errs, fmt.Errorf("%s: there is a kind %s already", path, f.Kind))
		default:
			kinds[f.Kind] = dialect.Connector{File: f}
		}
	}
	return errors.Join(errs...)
}
