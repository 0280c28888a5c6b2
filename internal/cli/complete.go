package cli

import (
	"context"
	"time"

	"github.com/spf13/cobra"

	"hen-roost/internal/service/seen"
)

// completer offers the names that may stand in a place, for a shell that completes them.
type completer func(c *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective)

// completing asks the service for names. A shell waits for the answer, so it is given little time.
func (a *app) completing(most int, names func(ctx context.Context, begun string) ([]string, error)) completer {
	return func(c *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
		if most > 0 && len(args) >= most {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		ctx, cancel := context.WithTimeout(c.Context(), 2*time.Second)
		defer cancel()
		list, err := names(ctx, begun)
		if err != nil {
			return nil, cobra.ShellCompDirectiveError
		}
		return list, cobra.ShellCompDirectiveNoFileComp
	}
}

func (a *app) targetNames(ctx context.Context, begun string) ([]string, error) {
	var page seen.Targets
	err := a.get(ctx, "/targets", map[string][]string{"text": {begun}, "size": {"50"}}, &page)
	var out []string
	for _, t := range page.Items {
		out = append(out, t.Name+"\t"+t.Kind)
	}
	return out, err
}

func (a *app) userNames(ctx context.Context, begun string) ([]string, error) {
	var page seen.Users
	err := a.get(ctx, "/users", map[string][]string{"text": {begun}, "size": {"50"}}, &page)
	var out []string
	for _, u := range page.Items {
		out = append(out, u.ID+"\t"+u.Name)
	}
	return out, err
}

func kindNames(context.Context, string) ([]string, error) {
	return []string{"missing", "unexpected", "different", "unmatched"}, nil
}
