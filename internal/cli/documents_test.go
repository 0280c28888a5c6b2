package cli

import (
	"errors"
	"fmt"
	"os"
	"regexp"
	"testing"
	"time"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/serve"
	"hen-roost/internal/service/declared"
)

// What the document on the declaration shows, all of it together, is a declaration without a fault.
func TestDeclarationDocument(t *testing.T) {
	b, err := os.ReadFile("../../docs/declaration.md")
	if err != nil {
		t.Fatal(err)
	}
	var files []declare.File
	for i, m := range regexp.MustCompile("(?s)```yaml\n(.*?)```").FindAllStringSubmatch(string(b), -1) {
		text := m[1]
		if i > 0 {
			text = "roost: 1\n" + text
		}
		files = append(files, declare.File{Name: fmt.Sprintf("block-%d.yaml", i+1), Text: text})
	}
	kinds, err := serve.Kinds("../../demo/dialects")
	if err != nil || len(files) < 4 {
		t.Fatal(err, len(files))
	}
	_, err = declared.CheckFiles(kinds.Schemas(), files, time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC))
	var faults declare.Faults
	if errors.As(err, &faults) {
		for _, f := range faults {
			t.Errorf("%s: %s", f.At, f.Message)
		}
	}
	if err != nil {
		t.Error(err)
	}
}
