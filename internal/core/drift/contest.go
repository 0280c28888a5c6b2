package drift

import (
	"fmt"
	"strings"
	"time"

	"hen-roost/internal/core/model"
)

// Before is what is known of a difference that a round put right before.
type Before struct {
	Times int // how often it was put right
	Round int64
	At    time.Time // last
}

// Contest marks the findings that were put right before and are there again:
// somebody, or something, changes them back. before holds them by the key of
// their act. The list is changed in place.
func Contest(findings []model.Finding, before map[string]Before) {
	for i := range findings {
		f := &findings[i]
		b, ok := before[f.Act.Key()]
		if !ok || f.Verb == model.NoRemedy {
			continue
		}
		times := "once"
		if b.Times > 1 {
			times = fmt.Sprintf("%d times", b.Times)
		}
		f.Kind, f.Times = model.Contested, b.Times
		f.Note = strings.TrimSuffix(fmt.Sprintf("put right %s, last by round %d on %s, and changed back since; %s", times, b.Round, b.At.UTC().Format(time.DateOnly), f.Note), "; ")
	}
}
