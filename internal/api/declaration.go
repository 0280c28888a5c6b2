package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/service"
)

const maxDeclaration = 256 << 20

type filesRequest struct {
	Body struct {
		Files []declare.File `json:"files" minItems:"1" maxItems:"10000"`
	}
}

type declareRequest struct {
	Body struct {
		Files   []declare.File `json:"files" minItems:"1" maxItems:"10000"`
		Because string         `json:"because" example:"spring deck crew"`
	}
}

func (h *handlers) declaration(api huma.API) {
	big := func(o huma.Operation) huma.Operation { o.MaxBodyBytes = maxDeclaration; return o }
	huma.Register(api, big(operation(http.MethodPost, "/check", "check", "Check declaration files without storing them")), func(ctx context.Context, in *filesRequest) (*body[service.Checked], error) {
		out, err := h.Check(ctx, who(ctx), in.Body.Files)
		return &body[service.Checked]{out}, problem(ctx, err)
	})
	huma.Register(api, big(operation(http.MethodPost, "/revisions", "declare", "Store declaration files as a new revision")), func(ctx context.Context, in *declareRequest) (*body[service.Revision], error) {
		out, err := h.Declare(ctx, who(ctx), in.Body.Files, in.Body.Because)
		return &body[service.Revision]{out}, problem(ctx, err)
	})
	op(api, http.MethodGet, "/overview", "overview", "Is everything as declared, and if not, where", func(ctx context.Context, who service.Operator, _ *struct{}) (service.Overview, error) {
		return h.Overview(ctx, who)
	})
}
