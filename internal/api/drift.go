package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/seen"
)

type driftQuery struct {
	Following
	Target   []string `query:"target,explode" doc:"only these targets"`
	User     []string `query:"user,explode" doc:"only these users"`
	Kind     []string `query:"kind,explode" doc:"only these kinds: missing, unexpected, different, unmatched, contested"`
	Assigned string   `query:"assigned" doc:"only those that this operator looks after"`
	Accepted bool     `query:"accepted" doc:"those accepted for a time, instead of the others"`
	All      bool     `query:"all" doc:"both"`
}

type findingRequest struct {
	Key string `path:"key"`
}

type giveUpFindings struct {
	Body struct {
		Keys    []string `json:"keys" doc:"of contested findings"`
		Because string   `json:"because"`
	}
}

type acceptFindings struct {
	Body struct {
		Keys    []string `json:"keys" minItems:"1" maxItems:"1000"`
		Until   string   `json:"until,omitempty" doc:"last day, 2006-01-02; empty: no longer accepted"`
		Because string   `json:"because"`
	}
}

type assignFindings struct {
	Body struct {
		Keys     []string `json:"keys" minItems:"1" maxItems:"1000"`
		Operator string   `json:"operator,omitempty" doc:"empty: nobody in particular"`
	}
}

type commentFinding struct {
	Key  string `path:"key"`
	Body struct {
		Text string `json:"text"`
	}
}

type counted struct {
	Findings int `json:"findings"`
}

type trendQuery struct {
	Days   int      `query:"days" minimum:"0" maximum:"366" doc:"0 means 30"`
	Target []string `query:"target,explode"`
}

type decisionRequest struct {
	Body struct {
		Target  string `json:"target"`
		Account string `json:"account"`
		User    string `json:"user"`
		Theirs  bool   `json:"theirs" doc:"false: it is not theirs"`
		Because string `json:"because"`
	}
}

type decisionQuery struct {
	Target string `query:"target"`
}

type forgetRequest struct {
	Target  string `query:"target" required:"true"`
	Account string `query:"account" required:"true"`
	User    string `query:"user" required:"true"`
}

type explainQuery struct {
	User    string `query:"user" required:"true"`
	Target  string `query:"target" required:"true"`
	What    string `query:"what" doc:"an attribute, group, right or licence; empty: everything"`
	On      string `query:"on" doc:"a day, 2006-01-02; empty: today"`
	Account string `query:"account" doc:"which of their accounts there, where they have several"`
	Action  string `query:"action" doc:"what they would do there, as it is typed, in place of what: whether they may, and why"`
	Address string `query:"address" doc:"an address: which account answers when they sign in from there"`
}

type holdersQuery struct {
	Paging
	What   string `query:"what" required:"true" doc:"a group, right or licence, or account, or elevation"`
	Target string `query:"target" required:"true"`
	On     string `query:"on" doc:"a day, 2006-01-02; empty: today"`
}

func (h *handlers) drift(api huma.API) {
	op(api, door.Look, http.MethodGet, "/findings", "drift", "List what differs from the declaration",
		func(ctx context.Context, who door.Operator, in *driftQuery) (seen.Findings, error) {
			return h.Drift(ctx, who, seen.DriftRequest{Choice: declared.Choice{Targets: in.Target, Users: in.User, Kinds: in.Kind},
				Assigned: in.Assigned, Accepted: in.Accepted, All: in.All, After: in.After}, in.Size)
		})
	op(api, door.Look, http.MethodGet, "/findings/{key}", "show-finding", "Show one finding with what was said of it",
		func(ctx context.Context, who door.Operator, in *findingRequest) (seen.FindingDetail, error) {
			return h.Finding(ctx, who, in.Key)
		})
	op(api, door.Draft, http.MethodPost, "/findings/accept", "accept", "Let findings be as they are for a time",
		func(ctx context.Context, who door.Operator, in *acceptFindings) (counted, error) {
			var until *time.Time
			if in.Body.Until != "" {
				day, err := time.Parse(time.DateOnly, in.Body.Until)
				if err != nil {
					return counted{}, &door.Problem{Kind: door.Invalid, Field: "until",
						Words: "until is a day, written as 2026-10-31"}
				}
				until = &day
			}
			n, err := h.Accept(ctx, who, in.Body.Keys, until, in.Body.Because)
			return counted{n}, err
		})
	op(api, door.Draft, http.MethodPost, "/findings/give-up", "give-up", "Leave what is contested to whatever changes it back",
		func(ctx context.Context, who door.Operator, in *giveUpFindings) (declared.Revision, error) {
			return h.GiveUp(ctx, who, in.Body.Keys, in.Body.Because)
		})
	op(api, door.Draft, http.MethodPost, "/findings/assign", "assign", "Give findings to an operator to look after",
		func(ctx context.Context, who door.Operator, in *assignFindings) (counted, error) {
			n, err := h.Assign(ctx, who, in.Body.Keys, in.Body.Operator)
			return counted{n}, err
		})
	act(api, door.Look, http.MethodPost, "/findings/{key}/comments", "comment-finding", "Say something of a finding",
		func(ctx context.Context, who door.Operator, in *commentFinding) error {
			return h.CommentFinding(ctx, who, in.Key, in.Body.Text)
		})
	op(api, door.Look, http.MethodGet, "/trend", "trend", "Findings per day",
		func(ctx context.Context, who door.Operator, in *trendQuery) ([]seen.TrendDay, error) {
			return h.Trend(ctx, who, in.Target, in.Days)
		})
	op(api, door.Look, http.MethodGet, "/decisions", "list-decisions", "List what people decided of accounts",
		func(ctx context.Context, who door.Operator, in *decisionQuery) ([]seen.Decision, error) {
			return h.Decisions(ctx, who, in.Target)
		})
	act(api, door.Draft, http.MethodPost, "/decisions", "adopt", "Decide that an account is a user's, or that it is not",
		func(ctx context.Context, who door.Operator, in *decisionRequest) error {
			b := in.Body
			return h.Decide(ctx, who, b.Target, b.Account, b.User, b.Theirs, b.Because)
		})
	act(api, door.Draft, http.MethodDelete, "/decisions", "forget-decision", "Take a decision back",
		func(ctx context.Context, who door.Operator, in *forgetRequest) error {
			return h.Forget(ctx, who, in.Target, in.Account, in.User)
		})
	op(api, door.Look, http.MethodGet, "/explain", "explain", "Say why a user has or lacks something on a target",
		func(ctx context.Context, who door.Operator, in *explainQuery) (seen.Explanation, error) {
			return h.Explain(ctx, who, seen.Question{User: in.User, Target: in.Target, Account: in.Account, What: in.What, Day: in.On,
				From: in.Address, Action: in.Action})
		})
	op(api, door.Look, http.MethodGet, "/holders", "who-has", "List who has something on a target, or should",
		func(ctx context.Context, who door.Operator, in *holdersQuery) (seen.Holders, error) {
			return h.WhoHas(ctx, who, in.What, in.Target, in.On, in.page())
		})
}
