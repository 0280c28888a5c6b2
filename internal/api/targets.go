package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"hen-roost/internal/service/door"
	"hen-roost/internal/service/seen"
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

type objectsRequest struct {
	Paging
	Name   string `path:"name"`
	Kind   string `path:"kind" doc:"account, group, right, licence, container, policy …, as the kind of target has them"`
	Prefix string `query:"prefix" doc:"how the names begin"`
}

type membersRequest struct {
	Paging
	Name string `path:"name"`
	Kind string `path:"kind" doc:"of the set: group, right, licence, elevation"`
	Set  string `query:"set" required:"true"`
	Of   string `query:"of" enum:"account,group" default:"account" doc:"which members"`
}

type endRequest struct {
	Name string `path:"name"`
	Body struct {
		Sessions []string `json:"sessions" doc:"their names"`
		Because  string   `json:"because"`
	}
}

func (h *handlers) targets(api huma.API) {
	op(api, door.Look, http.MethodGet, "/kinds", "list-kinds", "List the kinds of target, and what they hold",
		func(ctx context.Context, who door.Operator, _ *struct{}) ([]seen.TargetKind, error) {
			return h.TargetKinds(ctx, who)
		})
	op(api, door.Look, http.MethodGet, "/targets/{name}/objects/{kind}", "list-objects",
		"List what a target was last seen to hold of a kind",
		func(ctx context.Context, who door.Operator, in *objectsRequest) (seen.Objects, error) {
			return h.TargetObjects(ctx, who, in.Name, in.Kind, in.Prefix, in.page())
		})
	op(api, door.Look, http.MethodGet, "/targets/{name}/objects/{kind}/members", "list-members", "List who was last seen in a set",
		func(ctx context.Context, who door.Operator, in *membersRequest) (seen.Members, error) {
			return h.SetMembers(ctx, who, in.Name, in.Kind, in.Set, in.Of, in.page())
		})
	op(api, door.Run, http.MethodGet, "/targets/{name}/sessions", "list-sessions", "Ask a target who is signed in now",
		func(ctx context.Context, who door.Operator, in *nameRequest) (seen.Sessions, error) {
			return h.TargetSessions(ctx, who, in.Name)
		})
	op(api, door.Run, http.MethodPost, "/targets/{name}/sessions/end", "end-sessions", "End sessions on a target; each is answered",
		func(ctx context.Context, who door.Operator, in *endRequest) ([]seen.EndedSession, error) {
			return h.EndSessions(ctx, who, in.Name, in.Body.Sessions, in.Body.Because)
		})
	op(api, door.Look, http.MethodGet, "/targets", "list-targets", "List targets with their state and findings",
		func(ctx context.Context, who door.Operator, in *findTargets) (seen.Targets, error) {
			return h.Targets(ctx, who, in.Text, in.page())
		})
	op(api, door.Look, http.MethodGet, "/targets/{name}", "show-target", "Show one target",
		func(ctx context.Context, who door.Operator, in *nameRequest) (seen.TargetDetail, error) {
			return h.Target(ctx, who, in.Name)
		})
	op(api, door.Look, http.MethodGet, "/targets/{name}/accounts", "list-target-accounts",
		"List the accounts a target was last seen to hold",
		func(ctx context.Context, who door.Operator, in *accountsRequest) (seen.HeldPage, error) {
			return h.TargetAccounts(ctx, who, in.Name, in.Prefix, in.page())
		})
	act(api, door.Administer, http.MethodPost, "/targets/{name}/accept-key", "accept-key", "Accept the identity key a target shows",
		func(ctx context.Context, who door.Operator, in *acceptRequest) error {
			return h.AcceptKey(ctx, who, in.Name, in.Body.Print)
		})
	op(api, door.Run, http.MethodPost, "/surveys", "survey", "Read targets and compare them with the declaration",
		func(ctx context.Context, who door.Operator, in *surveyRequest) ([]seen.SurveyResult, error) {
			return h.Survey(ctx, who, in.Body.Targets, nil)
		})
}
