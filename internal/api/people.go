package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"hen-roost/internal/service"
)

type searchRequest struct {
	Paging
	Text string `query:"text" doc:"part of an id, name or mail, or a whole role"`
}

type idRequest struct {
	ID string `path:"id"`
}

func (h *handlers) users(api huma.API) {
	op(api, service.Look, http.MethodGet, "/users", "list-users", "List declared users",
		func(ctx context.Context, who service.Operator, in *searchRequest) (service.Users, error) {
			return h.Users(ctx, who, in.Text, in.page())
		})
	op(api, service.Look, http.MethodGet, "/users/{id}", "show-user", "Show one user's accounts on every target",
		func(ctx context.Context, who service.Operator, in *idRequest) (service.UserDetail, error) {
			return h.User(ctx, who, in.ID)
		})
	op(api, service.Run, http.MethodGet, "/users/{id}/sessions", "list-user-sessions", "Ask every target where a user is signed in now",
		func(ctx context.Context, who service.Operator, in *idRequest) (service.Sessions, error) {
			return h.UserSessions(ctx, who, in.ID)
		})
}
