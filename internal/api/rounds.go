package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"hen-roost/internal/service"
)

type choiceQuery struct {
	Paging
	Target []string `query:"target,explode" doc:"only these targets"`
	User   []string `query:"user,explode" doc:"only these users"`
	Kind   []string `query:"kind,explode" doc:"only these kinds: missing, unexpected, different, unmatched"`
}

type draftRequest struct {
	Body struct {
		service.Choice
		Because string `json:"because" example:"spring deck crew"`
	}
}

type roundRequest struct {
	ID int64 `path:"id" minimum:"1"`
}

type roundsRequest struct {
	Paging
	State []string `query:"state,explode"`
}

type stepsRequest struct {
	Paging
	ID      int64    `path:"id" minimum:"1"`
	Outcome []string `query:"outcome,explode"`
}

// Rounds is one page of rounds.
type Rounds struct {
	Items []service.Round `json:"items"`
	Total int             `json:"total"`
}

func (h *handlers) drift(api huma.API) {
	op(api, http.MethodGet, "/findings", "drift", "List what differs from the declaration", func(ctx context.Context, who service.Operator, in *choiceQuery) (service.Findings, error) {
		return h.Drift(ctx, who, service.Choice{Targets: in.Target, Users: in.User, Kinds: in.Kind}, in.page())
	})
}

func (h *handlers) rounds(api huma.API) {
	op(api, http.MethodPost, "/rounds", "draft", "Draft a round from findings; its id is 0 when there is nothing to do", func(ctx context.Context, who service.Operator, in *draftRequest) (service.Round, error) {
		return h.Draft(ctx, who, in.Body.Choice, in.Body.Because)
	})
	op(api, http.MethodPost, "/reconcile", "reconcile", "Survey, draft, approve and run", func(ctx context.Context, who service.Operator, in *draftRequest) (service.Reconciled, error) {
		return h.Reconcile(ctx, who, in.Body.Choice, in.Body.Because)
	})
	op(api, http.MethodGet, "/rounds", "list-rounds", "List rounds, newest first", func(ctx context.Context, who service.Operator, in *roundsRequest) (Rounds, error) {
		items, total, err := h.Rounds(ctx, who, in.State, in.page())
		return Rounds{items, total}, err
	})
	op(api, http.MethodGet, "/rounds/{id}", "show-round", "Show one round", func(ctx context.Context, who service.Operator, in *roundRequest) (service.Round, error) {
		return h.Round(ctx, who, in.ID)
	})
	op(api, http.MethodGet, "/rounds/{id}/steps", "list-steps", "List a round's steps", func(ctx context.Context, who service.Operator, in *stepsRequest) (service.Steps, error) {
		return h.RoundSteps(ctx, who, in.ID, in.Outcome, in.page())
	})
	op(api, http.MethodPost, "/rounds/{id}/approve", "approve", "Let a drafted round run", func(ctx context.Context, who service.Operator, in *roundRequest) (service.Round, error) {
		return h.Approve(ctx, who, in.ID)
	})
	op(api, http.MethodPost, "/rounds/{id}/run", "run", "Start an approved round", func(ctx context.Context, who service.Operator, in *roundRequest) (service.Round, error) {
		return h.RunRound(ctx, who, in.ID)
	})
	events := operation(http.MethodGet, "/rounds/{id}/events", "follow-round", "Follow a round while it runs (server-sent events)")
	sse.Register(api, events, map[string]any{"round": service.Round{}, "problem": Problem{}}, h.follow)
}

// follow sends a round's counts whenever they change, and ends when it does.
// It asks the database rather than this process, since another may carry the round.
func (h *handlers) follow(ctx context.Context, in *roundRequest, send sse.Sender) {
	last, quiet := -1, 0
	for {
		r, err := h.Round(ctx, who(ctx), in.ID)
		if err != nil {
			_ = send.Data(*document(service.ProblemOf(err)))
			return
		}
		ended := 0
		for _, t := range r.Targets {
			ended += t.Ended
		}
		over := r.State != service.Running
		if quiet++; ended != last || over || quiet > 40 { // say something every ten seconds, so that a dead connection is noticed
			if send.Data(r) != nil {
				return
			}
			last, quiet = ended, 0
		}
		if over {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(250 * time.Millisecond):
		}
	}
}
