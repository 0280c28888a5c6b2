package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/intake"
)

type intakeSettings struct {
	Name string `path:"name"`
	Body intake.Settings
}

type intakeTake struct {
	Name string `path:"name"`
	Body struct {
		Mark    string `json:"mark" doc:"of the proposal, as you have seen it"`
		Because string `json:"because" doc:"the reason, for those who read the record"`
		Leaving int    `json:"leaving,omitempty" doc:"how many leave by it, as you have seen: of one that is held it must be that many"`
	}
}

type givePeople struct {
	Name string `path:"name"`
	Body struct {
		Users []string `json:"users,omitempty"`
		All   bool     `json:"all,omitempty" doc:"all users that are declared"`
	}
}

// Given is how many users were given to a system.
type Given struct {
	Users int `json:"users"`
}

func (h *handlers) intakes(api huma.API) {
	op(api, door.Look, http.MethodGet, "/intakes", "list-intakes", "List the systems that push people in",
		func(ctx context.Context, who door.Operator, _ *struct{}) ([]intake.Source, error) {
			return h.Intake.Sources(ctx, who)
		})
	op(api, door.Look, http.MethodGet, "/intakes/{name}", "show-intake", "Show what a system's pushes would change of the declaration",
		func(ctx context.Context, who door.Operator, in *nameRequest) (intake.Proposal, error) {
			return h.Intake.Propose(ctx, who, in.Name)
		})
	act(api, door.Administer, http.MethodPut, "/intakes/{name}", "set-intake", "Say what becomes of what a system pushes",
		func(ctx context.Context, who door.Operator, in *intakeSettings) error {
			return h.Intake.Set(ctx, who, in.Name, in.Body)
		})
	op(api, door.Draft, http.MethodPost, "/intakes/{name}/people", "give-people",
		"Give users to a system that pushes: they may leave by it",
		func(ctx context.Context, who door.Operator, in *givePeople) (Given, error) {
			if in.Body.All == (len(in.Body.Users) > 0) {
				return Given{}, door.Wrong("users", "name users, or say all")
			}
			n, err := h.Intake.Give(ctx, who, in.Name, in.Body.Users)
			return Given{n}, err
		})
	op(api, door.Draft, http.MethodPost, "/intakes/{name}/take", "take-intake", "Take what a system's pushes would change as a revision",
		func(ctx context.Context, who door.Operator, in *intakeTake) (declared.Revision, error) {
			return h.Intake.Take(ctx, who, in.Name, in.Body.Mark, in.Body.Because, in.Body.Leaving)
		})
}
