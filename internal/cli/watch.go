package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"hen-roost/internal/api"
	"hen-roost/internal/service"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/service/seen"
)

func (a *app) watch() *cobra.Command {
	var during time.Duration
	c := &cobra.Command{Use: "watch", Short: "Follow surveys and rounds as they go", Args: cobra.NoArgs,
		Long: "Follow everything that happens, whoever does it: surveys, rounds, every entry of the record. It goes on until " +
			"interrupted, or as long as --for says. With --output json there is one value a line, with yaml one document after " +
			"the other, with csv a line for each entry of the record.",
		Example: "  roost watch\n  roost watch --for 10m --output json",
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			ctx := c.Context()
			if during > 0 {
				var cancel context.CancelFunc
				ctx, cancel = context.WithTimeout(ctx, during)
				defer cancel()
			}
			first := true
			said := map[int64]int{}
			err = cl.Events(ctx, "/watch", func(event string, data []byte) (bool, error) {
				if event == "problem" {
					var p api.Problem
					if err := json.Unmarshal(data, &p); err != nil {
						return true, err
					}
					return p.Status < 500, errors.New(p.Detail)
				}
				var w service.Watched
				if err := json.Unmarshal(data, &w); err != nil {
					return true, err
				}
				err := a.tellWatched(w, data, first, said)
				first = false
				return err != nil, err
			})
			if ctx.Err() != nil {
				return nil // interrupted, or its time is over: that is how it ends
			}
			return err
		}}
	c.Flags().DurationVar(&during, "for", 0, "stop after so long, as 10m")
	return c
}

// tellWatched writes what is new in the form that was asked for.
func (a *app) tellWatched(w service.Watched, data []byte, first bool, said map[int64]int) error {
	switch a.output {
	case "json":
		_, err := fmt.Fprintf(a.Out, "%s\n", data)
		return err
	case "yaml":
		b, err := yaml.JSONToYAML(data)
		if err != nil {
			return err
		}
		_, err = fmt.Fprintf(a.Out, "---\n%s", b)
		return err
	case "csv":
		var b bytes.Buffer
		if err := writeCSV(&b, w.Entries); err != nil {
			return err
		}
		text := b.String()
		if !first { // the columns are named once
			_, text, _ = strings.Cut(text, "\n")
		}
		_, err := io.WriteString(a.Out, text)
		return err
	}
	a.showWatched(w, said)
	return nil
}

// showWatched prints what is new, a line each.
func (a *app) showWatched(w service.Watched, said map[int64]int) {
	if w.Missed > 0 {
		fmt.Fprintf(a.Out, "%s  … %s before these; roost record has them\n", w.At.UTC().Format(time.TimeOnly),
			plural(w.Missed, "entry", "entries"))
	}
	for _, e := range w.Entries {
		line := flat(e.Words)
		if e.Target != "" {
			line = e.Target + ": " + line
		}
		fmt.Fprintf(a.Out, "%s  %-9s %-14s %s\n", e.At.UTC().Format(time.TimeOnly), e.Kind, flat(e.Operator), line)
	}
	for _, t := range w.Targets {
		if t.State != seen.Surveyed {
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
			fmt.Fprintf(a.Out, "%s  %-9s %-14s round %d: %d of %s, %s\n", w.At.UTC().Format(time.TimeOnly), "round", r.RunBy, r.ID, ended,
				plural(r.Steps, "step", "steps"), rounds.Tally(r.Outcomes))
		}
	}
}
