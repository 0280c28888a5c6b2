package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/life"
)

type suspendRequest struct {
	Body struct {
		Users    []string `json:"users,omitempty" maxItems:"5000" example:"[\"marit.fell\"]"`
		Where    string   `json:"where,omitempty" maxLength:"4096" doc:"CEL over user, day and params, in place of users"`
		Group    string   `json:"group,omitempty" doc:"all who should be in a declared group, in place of users"`
		Because  string   `json:"because" example:"laptop lost"`
		Security bool     `json:"security,omitempty" doc:"for security's sake: only two operators together can restore them, unless the one who suspends does"`
		Last     bool     `json:"although-last,omitempty" doc:"shut the last administrator of a target too: Hen Roost's own login stays"`
	}
}

type suspensionsRequest struct {
	User    string `query:"user"`
	InForce bool   `query:"in-force" doc:"only those in force"`
	Before  int64  `query:"before" minimum:"0" doc:"next of the page before; 0: the first page"`
	Size    int    `query:"size" minimum:"0" maximum:"1000" doc:"how many at most; 0 means 100"`
}

type suspensionRequest struct {
	ID int64 `path:"id" minimum:"1"`
}

type restoreUserRequest struct {
	ID   string `path:"id"`
	Body struct {
		Because     string `json:"because" example:"laptop found"`
		NewPassword *bool  `json:"new-password,omitempty" doc:"open the accounts with a new password; left out: after one for security's sake"`
	}
}

type screeningsRequest struct {
	User string `query:"user" doc:"of this user alone"`
}

// Screenings are passwords taken that a policy watches for.
type Screenings struct {
	Items []life.Screened `json:"items"`
}

type endingRequest struct {
	Paging
	Within int `query:"within" default:"14" minimum:"0" maximum:"3660" doc:"days from today"`
}

type extendRequest struct {
	ID   string `path:"id"`
	Body struct {
		Role    string `json:"role,omitempty" doc:"a role given by name; left out: the user's own last day"`
		Until   string `json:"until" format:"date" example:"2026-12-31" doc:"the new last day"`
		Because string `json:"because" example:"the season goes on"`
	}
}

// Suspended are the suspensions of one act.
type Suspended struct {
	Items []life.Suspension `json:"items"`
}

func (h *handlers) life(api huma.API) {
	op(api, door.Suspend, http.MethodPost, "/suspensions", "suspend",
		"Cut people off now: shut every account of theirs, ahead of all else; it answers at once, and goes on until each is shut",
		func(ctx context.Context, who door.Operator, in *suspendRequest) (Suspended, error) {
			b := in.Body
			list, err := h.Suspend(ctx, who, life.SuspendRequest{Users: b.Users, Where: b.Where, Group: b.Group, Because: b.Because,
				Security: b.Security, Last: b.Last})
			return Suspended{list}, err
		})
	op(api, door.Look, http.MethodGet, "/suspensions", "list-suspensions", "List suspensions, newest first",
		func(ctx context.Context, who door.Operator, in *suspensionsRequest) (life.Suspensions, error) {
			return h.ListSuspensions(ctx, who, life.SuspensionChoice{User: in.User, InForce: in.InForce, Before: in.Before, Size: in.Size})
		})
	op(api, door.Look, http.MethodGet, "/suspensions/{id}", "show-suspension", "Show a suspension, and what became of each account",
		func(ctx context.Context, who door.Operator, in *suspensionRequest) (life.Suspension, error) {
			return h.SuspensionByID(ctx, who, in.ID)
		})
	op(api, door.Restore, http.MethodPost, "/users/{id}/restore", "restore-user",
		"End a user's suspension: what it shut is opened again by a round, and nothing else",
		func(ctx context.Context, who door.Operator, in *restoreUserRequest) (life.Restored, error) {
			return h.RestoreUser(ctx, who, life.RestoreRequest{User: in.ID, Because: in.Body.Because, Fresh: in.Body.NewPassword})
		})
	op(api, door.Look, http.MethodGet, "/ending", "list-ending", "List roles and people whose last day is near, the earliest first",
		func(ctx context.Context, who door.Operator, in *endingRequest) (life.Endings, error) {
			return h.Ending(ctx, who, in.Within, in.page())
		})
	op(api, door.Credential, http.MethodGet, "/screenings", "list-screenings",
		"List who took passwords that a policy watches for and lets through, week by week",
		func(ctx context.Context, who door.Operator, in *screeningsRequest) (Screenings, error) {
			list, err := h.Screenings(ctx, who, in.User)
			return Screenings{list}, err
		})
	op(api, door.Draft, http.MethodPost, "/users/{id}/extend", "extend-user",
		"Let a role of a user's, or all of theirs, end on a later day",
		func(ctx context.Context, who door.Operator, in *extendRequest) (declared.Revision, error) {
			return h.Extend(ctx, who, in.ID, in.Body.Role, in.Body.Until, in.Body.Because)
		})
}
