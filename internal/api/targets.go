package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"hen-roost/internal/service"
)

type nameRequest struct {
	Name string `path:"name"`
}

type findTargets struct {
	Paging
	Text string `query:"text" doc:"part of a name or of a tag, or a whole kind"`
}

type accountsRequest struct {
	Paging
	Name   string `path:"name"`
	Prefix string `query:"prefix" doc:"how the account names begin"`
}

type acceptRequest struct {
	Name string `path:"name"`
	Body struct {
		Print string `json:"print" doc:"fingerprint of the key, as seen on the target itself"`
	}
}

type surveyRequest struct {
	Body struct {
		Targets []string `json:"targets,omitempty" doc:"empty: all"`
	}
}

func (h *handlers) targets(api huma.API) {
	op(api, http.MethodGet, "/targets", "list-targets", "List targets with their state and findings", func(ctx context.Context, who service.Operator, in *findTargets) (service.Targets, error) {
		return h.Targets(ctx, who, in.Text, in.page())
	})
	op(api, http.MethodGet, "/targets/{name}", "show-target", "Show one target", func(ctx context.Context, who service.Operator, in *nameRequest) (service.TargetDetail, error) {
		return h.Target(ctx, who, in.Name)
	})
	op(api, http.MethodGet, "/targets/{name}/accounts", "list-target-accounts", "List the accounts a target was last seen to hold", func(ctx context.Context, who service.Operator, in *accountsRequest) (service.HeldPage, error) {
		return h.TargetAccounts(ctx, who, in.Name, in.Prefix, in.page())
	})
	act(api, http.MethodPost, "/targets/{name}/accept-key", "accept-key", "Accept the identity key a target shows", func(ctx context.Context, who service.Operator, in *acceptRequest) error {
		return h.AcceptKey(ctx, who, in.Name, in.Body.Print)
	})
	op(api, http.MethodPost, "/surveys", "survey", "Read targets and compare them with the declaration", func(ctx context.Context, who service.Operator, in *surveyRequest) ([]service.SurveyResult, error) {
		return h.Survey(ctx, who, in.Body.Targets, nil)
	})
}
