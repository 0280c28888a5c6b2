package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"hen-roost/internal/service/life"
)

// renewed rotates a secret of our own, and says how far it is.
func (a *app) renewed(ctx context.Context, name, because string, users []string) error {
	if len(users) > 0 {
		return wrong{errors.New("people's passwords, or a secret of Hen Roost's own: not both")}
	}
	var out life.RenewedSecret
	if err := a.send(ctx, http.MethodPost, "/secrets/"+url.PathEscape(name)+"/rotate", map[string]any{"because": because},
		&out); err != nil {
		return err
	}
	t := table{head: []string{"TARGET", "NEW SECRET", "WORDS"}, about: capital(out.Words) + "."}
	for _, x := range out.Targets {
		t.rows = append(t.rows, []string{x.Target, mark(x.State), x.Words})
	}
	if err := a.show(out, t); err != nil {
		return err
	}
	if !out.Done {
		return exit{exitSteps}
	}
	return nil
}

func (a *app) authority() *cobra.Command {
	var withdrawn bool
	c := &cobra.Command{Use: "authority", Short: "Print the certificate of the service's own authority, for targets to trust",
		Args: cobra.NoArgs,
		Long: `Print the certificate of the service's own authority for client certificates, for targets to trust, or with
--withdrawn the signed list of those that are let in no more: in PEM. Both are open to everybody at
/api/authority and /api/authority/withdrawn, so that targets can fetch them; the list is good for a day.`,
		Example: "  roost authority > hen-roost.pem\n  roost authority --withdrawn > withdrawn.pem",
		RunE: func(c *cobra.Command, _ []string) error {
			path := "/authority"
			if withdrawn {
				path += "/withdrawn"
			}
			cl, err := a.client()
			if err != nil {
				return err
			}
			var text strings.Builder
			if err := cl.Copy(c.Context(), path, &text); err != nil {
				return err
			}
			if !a.forPeople() {
				return a.show(map[string]string{"pem": text.String()}, table{})
			}
			_, err = fmt.Fprint(a.file(), text.String())
			return err
		}}
	c.Flags().BoolVar(&withdrawn, "withdrawn", false, "the list of certificates that are let in no more")
	return c
}
