package api

import (
	"context"
	"net/http"
	"time"

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
	Following
	Name   string `path:"name"`
	Prefix string `query:"prefix" doc:"how the account names begin"`
	Ends   string `query:"ends" doc:"how they end, as @localhost"`
}

type seatsRequest struct {
	Paging
	Name    string `path:"name"`
	Licence string `query:"licence" doc:"who sits there too; empty: all licences, and nobody in them"`
}

type tryDialectRequest struct {
	Body struct {
		Target  string `json:"target,omitempty" doc:"one that is declared; left out for a system that is not, which the others are of"`
		Address string `json:"address,omitempty" example:"192.0.2.17:22"`
		As      string `json:"as,omitempty" doc:"the login"`
		Secret  string `json:"secret,omitempty" doc:"its password; kept nowhere"`
		Key     string `json:"key,omitempty" doc:"fingerprint of the system's key, as somebody has compared it there"`
		File    string `json:"file" doc:"what the file is called, for what is said of it"`
		Text    string `json:"text" maxLength:"1048576"`
	}
}

type poolsRequest struct {
	Target string `query:"target" doc:"those alone that it shares"`
}

type poolRequest struct {
	Paging
	Name string `path:"name"`
}

type loginRequest struct {
	Name string `path:"name"`
	From string `query:"from" doc:"the address that Hen Roost comes from; empty: the one that it reaches the target from"`
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
	Following
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

type matrixRequest struct {
	Name  string `path:"name"`
	Kind  string `path:"kind" doc:"of the sets: group, right, licence, elevation"`
	Sets  string `query:"sets" doc:"how the sets' names begin"`
	From  int    `query:"from" minimum:"0" doc:"sets to pass over"`
	Of    string `query:"of" enum:"account,group" default:"account" doc:"which members"`
	Begin string `query:"prefix" doc:"how the members' names begin"`
	After string `query:"after" doc:"members behind this name"`
	Size  int    `query:"size" minimum:"0" maximum:"1000" doc:"members"`
}

type historyRequest struct {
	Name   string    `path:"name"`
	Kind   string    `path:"kind"`
	Object string    `query:"object" required:"true"`
	Before time.Time `query:"before" doc:"only moments before this one: the next page"`
	Size   int       `query:"size" minimum:"0" maximum:"1000"`
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
			return h.TargetObjects(ctx, who, in.Name, in.Kind, in.Prefix, in.After, in.Size)
		})
	op(api, door.Look, http.MethodGet, "/targets/{name}/objects/{kind}/members", "list-members", "List who was last seen in a set",
		func(ctx context.Context, who door.Operator, in *membersRequest) (seen.Members, error) {
			return h.SetMembers(ctx, who, in.Name, in.Kind, in.Set, in.Of, in.page())
		})
	op(api, door.Look, http.MethodGet, "/targets/{name}/objects/{kind}/matrix", "show-matrix",
		"Show who was last seen in which sets of a kind, and whether the declaration asks for it",
		func(ctx context.Context, who door.Operator, in *matrixRequest) (seen.Matrix, error) {
			return h.TargetMatrix(ctx, who, in.Name, in.Kind, seen.MatrixQuery{Sets: in.Sets, From: in.From, Of: in.Of, Prefix: in.Begin,
				After: in.After, Size: in.Size})
		})
	op(api, door.Look, http.MethodGet, "/targets/{name}/objects/{kind}/history", "list-history",
		"List what became of an object of a target",
		func(ctx context.Context, who door.Operator, in *historyRequest) (seen.History, error) {
			return h.ObjectHistory(ctx, who, in.Name, in.Kind, in.Object, in.Before, in.Size)
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
			return h.TargetAccounts(ctx, who, in.Name, in.Prefix, in.Ends, in.After, in.Size)
		})
	op(api, door.Look, http.MethodGet, "/targets/{name}/origins", "list-origins", "List where the accounts of a target may come from",
		func(ctx context.Context, who door.Operator, in *nameRequest) ([]seen.Origin, error) {
			return h.TargetOrigins(ctx, who, in.Name)
		})
	op(api, door.Look, http.MethodGet, "/targets/{name}/seats", "list-seats", "Tell of licences: seats, who has one, and who wants one",
		func(ctx context.Context, who door.Operator, in *seatsRequest) (seen.Seats, error) {
			return h.TargetSeats(ctx, who, in.Name, in.Licence, in.page())
		})
	op(api, door.Look, http.MethodGet, "/dialects", "list-dialects", "List the kinds of target that files teach",
		func(ctx context.Context, who door.Operator, _ *struct{}) ([]seen.Dialect, error) {
			return h.Dialects(ctx, who)
		})
	op(api, door.Look, http.MethodGet, "/dialects/{name}", "show-dialect", "Show what teaches a kind of target, with its recordings",
		func(ctx context.Context, who door.Operator, in *nameRequest) (seen.DialectDetail, error) {
			return h.Dialect(ctx, who, in.Name)
		})
	op(api, door.Administer, http.MethodPost, "/dialects/try", "try-dialect",
		"Look at a target with a dialect that nobody relies on yet, and record what it says",
		func(ctx context.Context, who door.Operator, in *tryDialectRequest) (seen.TriedDialect, error) {
			b := in.Body
			return h.TryDialect(ctx, who, seen.TryRequest{File: b.File, Text: b.Text, Target: b.Target, Address: b.Address, As: b.As,
				Secret: b.Secret, Key: b.Key})
		})
	op(api, door.Look, http.MethodGet, "/pools", "list-pools", "List the pools of seats that several targets share, and how they stand",
		func(ctx context.Context, who door.Operator, in *poolsRequest) ([]seen.SharedPool, error) {
			return h.SharedPools(ctx, who, in.Target)
		})
	op(api, door.Look, http.MethodGet, "/pools/{name}", "show-pool", "Tell who takes the seats of a shared pool",
		func(ctx context.Context, who door.Operator, in *poolRequest) (seen.PoolSeats, error) {
			return h.SharedPoolSeats(ctx, who, in.Name, in.page())
		})
	op(api, door.Look, http.MethodGet, "/targets/{name}/needs", "show-needs",
		"Tell what makes a login for Hen Roost on a target that may do what is declared, and no more",
		func(ctx context.Context, who door.Operator, in *loginRequest) (seen.Needs, error) {
			return h.TargetNeeds(ctx, who, in.Name, in.From)
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
