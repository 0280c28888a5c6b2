package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"hen-roost/internal/api"
	"hen-roost/internal/service"
)

func (a *app) watch() *cobra.Command {
	var during time.Duration
	c := &cobra.Command{Use: "watch", Short: "Follow surveys and rounds as they go", Args: cobra.NoArgs,
		Long:    "Follow everything that happens, whoever does it: surveys, rounds, every entry of the record. It goes on until interrupted, or as long as --for says. With --output json there is one value a line.",
		Example: "  roost watch\n  roost watch --for 10m --output json",
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			ctx := c.Context()
			began := time.Now()
			said := map[int64]int{}
			err = cl.Events(ctx, "/watch", func(event string, data []byte) (bool, error) {
				over := during > 0 && time.Since(began) > during
				if event == "problem" {
					var p api.Problem
					if err := json.Unmarshal(data, &p); err != nil {
						return true, err
					}
					return p.Status < 500, errors.New(p.Detail)
				}
				if !a.forPeople() {
					fmt.Fprintf(a.Out, "%s\n", data)
					return over, nil
				}
				var w service.Watched
				if err := json.Unmarshal(data, &w); err != nil {
					return true, err
				}
				a.showWatched(w, said)
				return over, nil
			})
			if ctx.Err() != nil {
				return nil // interrupted: that is how it ends
			}
			return err
		}}
	c.Flags().DurationVar(&during, "for", 0, "stop after so long, as 10m")
	return c
}

// showWatched prints what is new, a line each.
func (a *app) showWatched(w service.Watched, said map[int64]int) {
	if w.Missed > 0 {
		fmt.Fprintf(a.Out, "%s  … %s before these; roost record has them\n", w.At.UTC().Format(time.TimeOnly), plural(w.Missed, "entry", "entries"))
	}
	for _, e := range w.Entries {
		line := e.Words
		if e.Target != "" {
			line = e.Target + ": " + line
		}
		fmt.Fprintf(a.Out, "%s  %-9s %-14s %s\n", e.At.UTC().Format(time.TimeOnly), e.Kind, e.Operator, line)
	}
	for _, t := range w.Targets {
		if t.State != service.Surveyed {
			fmt.Fprintf(a.Out, "%s  %-9s %-14s %s: %s\n", t.TriedAt.UTC().Format(time.TimeOnly), "target", "", t.Name, mark(t.State))
		}
	}
	for _, r := range w.Rounds {
		ended := 0
		for _, t := range r.Targets {
			ended += t.Ended
		}
		if said[r.ID] != ended+1 {
			said[r.ID] = ended + 1
			fmt.Fprintf(a.Out, "%s  %-9s %-14s round %d: %d of %s, %s\n", w.At.UTC().Format(time.TimeOnly), "round", r.RunBy, r.ID, ended, plural(r.Steps, "step", "steps"), service.Tally(r.Outcomes))
		}
	}
}
