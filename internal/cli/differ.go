package cli

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"hen-roost/internal/service/rounds"
)

const differLong = ` Devices with a candidate do: the steps are typed into
it, the device says how it differs, and it is thrown away. Nothing is changed. It takes the duty to run, and stands in the record.`

func (a *app) roundDifference() *cobra.Command {
	return &cobra.Command{Use: "difference ROUND TARGET", Short: "Have a target say itself what a round would change there",
		Args:    cobra.ExactArgs(2),
		Long:    "Have a target say itself what the steps of a round would change there, before the round begins." + differLong,
		Example: "  roost round difference 3 northquay-switch",
		RunE: func(c *cobra.Command, args []string) error {
			id, err := roundID(args[0])
			if err != nil {
				return err
			}
			return a.difference(c, fmt.Sprintf("/rounds/%d/difference", id), map[string]string{"target": args[1]})
		}}
}

func (a *app) targetDifference() *cobra.Command {
	return &cobra.Command{Use: "difference TARGET", Short: "Have a target say itself what a round of all its findings would change",
		Args:    cobra.ExactArgs(1),
		Long:    "Have a target say itself what a round of all that was found there would change." + differLong,
		Example: "  roost target difference northquay-switch", ValidArgsFunction: a.completing(1, a.targetNames),
		RunE: func(c *cobra.Command, args []string) error {
			return a.difference(c, "/targets/"+url.PathEscape(args[0])+"/difference", nil)
		}}
}

func (a *app) difference(c *cobra.Command, path string, body any) error {
	var out rounds.Difference
	if err := a.send(c.Context(), http.MethodPost, path, body, &out); err != nil {
		return err
	}
	type line struct {
		Line string `json:"line"`
	}
	lines := []line{}
	for _, l := range out.Lines {
		lines = append(lines, line{l})
	}
	if !a.forPeople() {
		return a.show(out, table{list: lines})
	}
	if len(out.Lines) == 0 {
		return a.show(out, table{bare: "Nothing would change on " + out.Target + ", it says."})
	}
	return a.show(out, table{bare: strings.Join(out.Lines, "\n")})
}
