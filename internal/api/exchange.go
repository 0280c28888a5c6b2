package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
)

type importRequest struct {
	Body struct {
		Format  string            `json:"format" enum:"csv,ldif,scim"`
		Text    string            `json:"text"`
		Columns map[string]string `json:"columns,omitempty" doc:"of CSV: which column holds a field"`
		Roles   []string          `json:"roles,omitempty" doc:"for those who are new"`
		File    string            `json:"file,omitempty" doc:"of the declaration, for those who are new"`
	}
}

type exportRequest struct {
	Format string `query:"format" enum:"csv,ldif,scim" default:"csv"`
	Base   string `query:"base" doc:"DN that LDIF entries stand below"`
}

// Exported is users in a format.
type Exported struct {
	Format string `json:"format"`
	Text   string `json:"text"`
}

func (h *handlers) exchange(api huma.API) {
	read := operation(door.Look, http.MethodPost, "/import", "import",
		"Read users from CSV, LDIF or SCIM JSON: what they would change, as edits to be looked at and declared")
	read.MaxBodyBytes = maxDeclaration
	huma.Register(api, read, func(ctx context.Context, in *importRequest) (*body[declared.Import], error) {
		b := in.Body
		out, err := h.ReadUsers(ctx, who(ctx), declared.ImportRequest{Format: b.Format, Text: b.Text, Columns: b.Columns, Roles: b.Roles,
			File: b.File})
		return &body[declared.Import]{out}, problem(ctx, err)
	})
	op(api, door.Look, http.MethodGet, "/export", "export", "Write all declared users as CSV, LDIF or SCIM JSON",
		func(ctx context.Context, who door.Operator, in *exportRequest) (Exported, error) {
			text, err := h.WriteUsers(ctx, who, in.Format, in.Base)
			return Exported{in.Format, text}, err
		})
}
