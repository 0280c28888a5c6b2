package api

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"hen-roost/internal/service"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/rounds"
)

type draftRequest struct {
	Body struct {
		declared.Choice
		Findings []string          `json:"findings,omitempty" maxItems:"1000" doc:"keys of findings: these and no others"`
		Without  []string          `json:"without,omitempty" maxItems:"1000" doc:"keys of findings to leave out, and what hangs on them"`
		Assigned string            `json:"assigned,omitempty" doc:"only findings that this operator looks after"`
		Revision int               `json:"revision,omitempty" doc:"that the findings were looked at under: refused when another is declared by now"`
		Because  string            `json:"because" example:"spring deck crew"`
		First    string            `json:"first,omitempty" example:"1" doc:"a first wave: so many targets of each kind, or those with a tag as fleet=vessels; the rest follows only if it held"`
		Params   map[string]string `json:"params,omitempty" doc:"params overridden for this round"`
	}
}

func (q *draftRequest) request() rounds.DraftRequest {
	return rounds.DraftRequest{Choice: q.Body.Choice, Findings: q.Body.Findings, Without: q.Body.Without, Assigned: q.Body.Assigned,
		Revision: q.Body.Revision,
		Because:  q.Body.Because, First: q.Body.First, Params: q.Body.Params}
}

type becauseRequest struct {
	ID   int64 `path:"id" minimum:"1"`
	Body struct {
		Because string `json:"because,omitempty"`
	}
}

type scheduleRequest struct {
	ID   int64 `path:"id" minimum:"1"`
	Body struct {
		NotBefore *time.Time `json:"not-before,omitempty"`
		InWindow  bool       `json:"in-window,omitempty" doc:"only while the windows of all its targets are open"`
	}
}

type bulkRequest struct {
	Body struct {
		Lines   []rounds.BulkLine `json:"lines,omitempty" maxItems:"100000"`
		CSV     string            `json:"csv,omitempty" doc:"in place of lines: a table with the columns user, target and what" example:"user,target,what\nmarit.fell,*,disable\n"`
		Where   string            `json:"where,omitempty" doc:"CEL over user, day and params, in place of lines" example:"user.details.base == 'northquay'"`
		Targets []string          `json:"targets,omitempty" doc:"with where; empty: all where they have an account"`
		What    string            `json:"what,omitempty" doc:"with where" example:"disable"`
		Because string            `json:"because,omitempty" doc:"needed unless it is only looked at"`
		First   string            `json:"first,omitempty"`
		Until   string            `json:"until,omitempty" example:"2027-01-31" doc:"what is against the declaration is kept until this day; left out: until the next round"`
		Look    bool              `json:"look,omitempty" doc:"say what would become of each line, and draft nothing"`
	}
}

type differenceRequest struct {
	ID   int64 `path:"id" minimum:"1"`
	Body struct {
		Target string `json:"target"`
	}
}

type approveRequest struct {
	ID   int64 `path:"id"`
	Body *struct {
		Password string `json:"password,omitempty" doc:"yours, where the round is held, you drafted it and nobody else could approve it"`
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
	Following
	ID      int64    `path:"id" minimum:"1"`
	Outcome []string `query:"outcome,explode" doc:"only those that ended so"`
	Target  string   `query:"target" doc:"only those on this target"`
}

// Rounds is one page of rounds.
type Rounds struct {
	Items []rounds.Round `json:"items"`
	Total int            `json:"total"`
}

func (h *handlers) rounds(api huma.API) {
	op(api, door.Draft, http.MethodPost, "/rounds", "draft", "Draft a round from findings; its id is 0 when there is nothing to do",
		func(ctx context.Context, who door.Operator, in *draftRequest) (rounds.Round, error) {
			return h.Draft(ctx, who, in.request())
		})
	op(api, door.Draft, http.MethodPost, "/reconcile", "reconcile", "Survey, draft and, unless the round is held, approve and run",
		func(ctx context.Context, who door.Operator, in *draftRequest) (rounds.Reconciled, error) {
			return h.Reconcile(ctx, who, in.request())
		})
	bulk := operation(door.Draft, http.MethodPost, "/bulk", "bulk",
		"Draft a round from changes asked for one by one; every line is answered")
	bulk.MaxBodyBytes = 32 << 20
	huma.Register(api, bulk, func(ctx context.Context, in *bulkRequest) (*body[rounds.BulkResult], error) {
		b := in.Body
		out, err := h.Bulk(ctx, who(ctx), rounds.BulkRequest{Lines: b.Lines, CSV: b.CSV, Where: b.Where, Targets: b.Targets,
			What: b.What, Because: b.Because, First: b.First, Until: b.Until, Look: b.Look})
		return &body[rounds.BulkResult]{out}, problem(ctx, err)
	})
	op(api, door.Run, http.MethodPost, "/rounds/{id}/stop", "stop",
		"Stop a round: what is under way is finished, the rest is not tried",
		func(ctx context.Context, who door.Operator, in *becauseRequest) (rounds.Round, error) {
			return h.Stop(ctx, who, in.ID, in.Body.Because)
		})
	op(api, door.Run, http.MethodPost, "/rounds/{id}/difference", "round-difference",
		"Have a target say itself what the steps of a round would change there; nothing is changed",
		func(ctx context.Context, who door.Operator, in *differenceRequest) (rounds.Difference, error) {
			return h.RoundDifference(ctx, who, in.ID, in.Body.Target)
		})
	op(api, door.Run, http.MethodPost, "/targets/{name}/difference", "target-difference",
		"Have a target say itself what a round of all that was found there would change; nothing is changed",
		func(ctx context.Context, who door.Operator, in *nameRequest) (rounds.Difference, error) {
			return h.TargetDifference(ctx, who, in.Name)
		})
	op(api, door.Draft, http.MethodPost, "/rounds/{id}/undo", "undo", "Draft the round that takes another back",
		func(ctx context.Context, who door.Operator, in *becauseRequest) (rounds.Round, error) {
			return h.Undo(ctx, who, in.ID, in.Body.Because)
		})
	op(api, door.Run, http.MethodPost, "/rounds/{id}/schedule", "schedule", "Let an approved round start by itself at its time",
		func(ctx context.Context, who door.Operator, in *scheduleRequest) (rounds.Round, error) {
			return h.Schedule(ctx, who, in.ID, in.Body.NotBefore, in.Body.InWindow)
		})
	op(api, door.Look, http.MethodGet, "/rounds", "list-rounds", "List rounds, newest first",
		func(ctx context.Context, who door.Operator, in *roundsRequest) (Rounds, error) {
			items, total, err := h.Rounds(ctx, who, in.State, in.page())
			return Rounds{items, total}, err
		})
	op(api, door.Look, http.MethodGet, "/rounds/{id}", "show-round", "Show one round",
		func(ctx context.Context, who door.Operator, in *roundRequest) (rounds.Round, error) {
			return h.Round(ctx, who, in.ID)
		})
	op(api, door.Look, http.MethodGet, "/rounds/{id}/steps", "list-steps", "List a round's steps",
		func(ctx context.Context, who door.Operator, in *stepsRequest) (rounds.Steps, error) {
			return h.RoundSteps(ctx, who, in.ID, rounds.StepChoice{Outcomes: in.Outcome, Target: in.Target, After: in.After}, in.Size)
		})
	op(api, door.Look, http.MethodGet, "/rounds/{id}/acts", "list-acts", "Say what a round does where: how many steps of each sort",
		func(ctx context.Context, who door.Operator, in *roundRequest) ([]rounds.Act, error) {
			return h.RoundActs(ctx, who, in.ID)
		})
	op(api, door.Approve, http.MethodPost, "/rounds/{id}/approve", "approve",
		"Let a drafted round run; one that is held needs somebody who did not draft it",
		func(ctx context.Context, who door.Operator, in *approveRequest) (rounds.Round, error) {
			password := ""
			if in.Body != nil {
				password = in.Body.Password
			}
			return h.ApproveWith(ctx, who, in.ID, password, address(ctx))
		})
	op(api, door.Run, http.MethodPost, "/rounds/{id}/run", "run", "Start an approved round",
		func(ctx context.Context, who door.Operator, in *roundRequest) (rounds.Round, error) {
			return h.RunRound(ctx, who, in.ID)
		})
	events := operation(door.Look, http.MethodGet, "/rounds/{id}/events", "follow-round",
		"Follow a round while it runs (server-sent events)")
	sse.Register(api, h.streaming(events, func(ctx context.Context, param func(string) string) error {
		id, err := strconv.ParseInt(param("id"), 10, 64)
		if err != nil {
			return nil // the framework says what is wrong with it
		}
		_, err = h.Round(ctx, who(ctx), id)
		return err
	}), map[string]any{"round": rounds.Round{}, "problem": Problem{}}, h.follow)
	watch := operation(door.Look, http.MethodGet, "/watch", "watch", "Follow everything that happens (server-sent events)")
	sse.Register(api, h.streaming(watch, func(ctx context.Context, _ func(string) string) error { return who(ctx).May(door.Look) }),
		map[string]any{"watched": service.Watched{}, "problem": Problem{}}, h.watch)
}
