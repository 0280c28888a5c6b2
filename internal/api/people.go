package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"hen-roost/internal/service/door"
	"hen-roost/internal/service/seen"
)

type searchRequest struct {
	Paging
	Text string `query:"text" doc:"part of an id, name or mail, or a whole role"`
}

type idRequest struct {
	ID string `path:"id"`
}

func (h *handlers) users(api huma.API) {
	op(api, door.Look, http.MethodGet, "/users", "list-users", "List declared users",
		func(ctx context.Context, who door.Operator, in *searchRequest) (seen.Users, error) {
			return h.Users(ctx, who, in.Text, in.page())
		})
	op(api, door.Look, http.MethodGet, "/users/{id}", "show-user", "Show one user's accounts on every target",
		func(ctx context.Context, who door.Operator, in *idRequest) (seen.UserDetail, error) {
			return h.User(ctx, who, in.ID)
		})
	op(api, door.Run, http.MethodGet, "/users/{id}/sessions", "list-user-sessions", "Ask every target where a user is signed in now",
		func(ctx context.Context, who door.Operator, in *idRequest) (seen.Sessions, error) {
			return h.UserSessions(ctx, who, in.ID)
		})
}
