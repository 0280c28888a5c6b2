package cli

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"hen-roost/internal/api"
	"hen-roost/internal/service/declared"
)

func (a *app) importUsers() *cobra.Command {
	var format, file, because string
	var columns, roles []string
	var yes bool
	c := &cobra.Command{Use: "import FILE", Short: "Read users from CSV, LDIF or SCIM JSON into the declaration", Args: cobra.ExactArgs(1),
		Long: `Read users from a file and declare what it says of them: new users with all of it, known ones with what
differs. Nobody is taken away. First it is shown what that means, and asked. Users that cannot be read are
listed; the others are taken all the same. A CSV names its columns in its first line; --map says which
column holds a field, where it is not called as the field is.`,
		Example: "  roost import crewing.csv --map \"id=Login\" --map \"name=Full name\" --role deck-crew --into deck.yaml --because " +
			"\"spring deck crew\"\n  roost import neighbour.ldif --role harbour-hand --because \"the merger\"",
		RunE: func(c *cobra.Command, args []string) error {
			text, err := a.readText(args[0])
			if err != nil {
				return err
			}
			if format == "" {
				format = map[string]string{".csv": "csv", ".ldif": "ldif", ".json": "scim"}[strings.ToLower(filepath.Ext(args[0]))]
			}
			if !slices.Contains(declared.Formats, format) {
				return wrong{fmt.Errorf("say what the file is: --format csv, ldif or scim")}
			}
			m, err := mapped(columns)
			if err != nil {
				return err
			}
			var out declared.Import
			if err := a.send(c.Context(), http.MethodPost, "/import",
				map[string]any{"format": format, "text": text, "columns": m, "roles": roles, "file": file}, &out); err != nil {
				return err
			}
			for _, f := range out.Faults {
				a.tell("%s, line %d: %s", args[0], f.Line, f.Words)
			}
			a.tell("%d new, %d changed, %d as declared, %d that cannot be read.\n", out.New, out.Changed, out.Same, len(out.Faults))
			if len(out.Edits) == 0 {
				a.tell("Nothing to declare.")
			} else {
				if err := a.declareEdits(c.Context(), out.Edits, because, yes); err != nil {
					return err
				}
			}
			if len(out.Faults) > 0 {
				return exit{exitSteps}
			}
			return nil
		}}
	c.Flags().StringVar(&format, "format", "", "csv, ldif or scim; left out: as the file's name ends")
	c.Flags().StringArrayVar(&columns, "map", nil,
		"FIELD=COLUMN of a CSV; fields are id, name, given, family, number, mail, manager, from, until, roles, details.KEY")
	c.Flags().StringSliceVar(&roles, "role", nil, "roles for those who are new")
	c.Flags().StringVar(&file, "into", "", "file of the declaration that new users go into")
	reasonFlag(c, &because)
	yesFlag(c, &yes)
	return c
}

// readText reads a file, or standard input where its name is -.
func (a *app) readText(name string) (string, error) {
	if name == "-" {
		b, err := io.ReadAll(a.In)
		return string(b), err
	}
	b, err := os.ReadFile(name)
	return string(b), err
}

func (a *app) export() *cobra.Command {
	var format, base string
	c := &cobra.Command{Use: "export", Short: "Write all declared users as CSV, LDIF or SCIM JSON", Args: cobra.NoArgs,
		Example: "  roost export > users.csv\n  roost export --format ldif --base ou=People,dc=ternsound,dc=example",
		RunE: func(c *cobra.Command, _ []string) error {
			var out api.Exported
			if err := a.get(c.Context(), "/export", map[string][]string{"format": {format}, "base": {base}}, &out); err != nil {
				return err
			}
			if !a.forPeople() {
				return a.show(out, table{})
			}
			_, err := io.WriteString(a.file(), out.Text)
			return err
		}}
	c.Flags().StringVar(&format, "format", "csv", "csv, ldif or scim")
	c.Flags().StringVar(&base, "base", "", "of LDIF: the DN that the entries stand below")
	return c
}
