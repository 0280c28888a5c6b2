package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"hen-roost/internal/service/door"
	"hen-roost/internal/service/life"
	"hen-roost/internal/service/seen"
)

type joinRequest struct {
	Body struct {
		People  []life.Joiner     `json:"people,omitempty" maxItems:"20000"`
		CSV     string            `json:"csv,omitempty" doc:"in place of people: a table, a column for each field"`
		Columns map[string]string `json:"columns,omitempty" doc:"of the table: field → column"`
		Like    string            `json:"like,omitempty" doc:"a colleague whose roles and details they get"`
		Roles   []string          `json:"roles,omitempty" doc:"beside those"`
		Without []string          `json:"without,omitempty" doc:"but not these of the colleague's"`
		From    string            `json:"from,omitempty" example:"2027-04-01" doc:"first day of those who say none"`
		Until   string            `json:"until,omitempty" example:"2027-10-31" doc:"last day of those who say none"`
		File    string            `json:"file,omitempty" doc:"of the declaration, for the new entries"`
		Handing
		NoPasswords bool   `json:"no-passwords,omitempty" doc:"none are made"`
		Because     string `json:"because,omitempty" example:"spring crew"`
		Look        bool   `json:"look,omitempty" doc:"say what it would do, and store nothing"`
	}
}

type moveRequest struct {
	ID   string `path:"id"`
	Body struct {
		To      []string `json:"to" example:"[\"ticket-clerk\"]" doc:"roles that begin"`
		Keep    []string `json:"keep,omitempty" doc:"roles that go on; all others that were given by name end"`
		On      string   `json:"on,omitempty" example:"2027-01-01" doc:"the day on which it changes; left out: today"`
		Overlap int      `json:"overlap,omitempty" minimum:"0" maximum:"366" doc:"days for which the old roles go on beside the new"`
		Because string   `json:"because,omitempty" example:"moves ashore"`
		Look    bool     `json:"look,omitempty" doc:"say what it would do, and store nothing"`
	}
}

type allotRequest struct {
	Body struct {
		Users   []string `json:"users,omitempty" maxItems:"20000" doc:"with groups left out too: all who have none"`
		Groups  []string `json:"groups,omitempty" maxItems:"20000"`
		Because string   `json:"because,omitempty" example:"one number everywhere"`
		Look    bool     `json:"look,omitempty" doc:"say what it would do, and store nothing"`
	}
}

type leaveRequest struct {
	ID   string `path:"id"`
	Body struct {
		On      string `json:"on,omitempty" example:"2027-01-31" doc:"the last day; left out: today"`
		AtOnce  bool   `json:"at-once,omitempty" doc:"the accounts are shut now"`
		Remove  bool   `json:"remove,omitempty" doc:"with at-once: the accounts are removed, where they can be"`
		HandTo  string `json:"hand-to,omitempty" doc:"who looks after the groups, services and people that they looked after"`
		Because string `json:"because,omitempty" example:"retires"`
		Look    bool   `json:"look,omitempty" doc:"say what it would do, and store nothing"`
	}
}

type renameRequest struct {
	ID   string `path:"id"`
	Body struct {
		To      string `json:"to" example:"jens.krag-bell" doc:"the new id"`
		Because string `json:"because,omitempty" example:"married"`
		Look    bool   `json:"look,omitempty" doc:"say what it would do, and store nothing"`
	}
}

type timeLineRequest struct {
	ID string `path:"id"`
}

// TimeLine is a person's line of time.
type TimeLine struct {
	Items []life.Moment `json:"items"`
}

func (h *handlers) people(api huma.API) {
	op(api, door.Look, http.MethodGet, "/users/{id}/time", "show-time", "Show a user's line of time: joined, roles, suspended, "+
		"handovers, left",
		func(ctx context.Context, who door.Operator, in *timeLineRequest) (TimeLine, error) {
			list, err := h.TimeLine(ctx, who, in.ID)
			return TimeLine{list}, err
		})
	o := operation(door.Draft, http.MethodPost, "/users/join", "join",
		"Let people join, or come back: they are declared, brought to the targets, and each gets a password that is handed over once")
	o.MaxBodyBytes = 16 << 20
	huma.Register(api, o, func(ctx context.Context, in *joinRequest) (*body[life.Passage], error) {
		if err := may(ctx, door.Draft); err != nil {
			return nil, problem(ctx, err)
		}
		b := in.Body
		out, err := h.Join(ctx, who(ctx), life.JoinRequest{People: b.People, CSV: b.CSV, Columns: b.Columns, Like: b.Like, Roles: b.Roles,
			Without: b.Without, From: b.From, Until: b.Until, File: b.File, Batch: b.Batch, Aloud: b.Aloud, Keeps: b.Keeps,
			Lasts: b.lasts(), NoSecret: b.NoPasswords, Because: b.Because, Look: b.Look})
		return answer(out, err)
	})
	op(api, door.Draft, http.MethodPost, "/numbers", "allot",
		"Give users and groups that have no number the lowest free one of the range of a role of theirs",
		func(ctx context.Context, who door.Operator, in *allotRequest) (life.Allotment, error) {
			b := in.Body
			return h.Allot(ctx, who, life.AllotRequest{Users: b.Users, Groups: b.Groups, Because: b.Because, Look: b.Look})
		})
	op(api, door.Draft, http.MethodPost, "/users/{id}/move", "move", "Change what somebody does on a day; the old roles end after an "+
		"overlap",
		func(ctx context.Context, who door.Operator, in *moveRequest) (life.Passage, error) {
			b := in.Body
			return h.Move(ctx, who, life.MoveRequest{User: in.ID, To: b.To, Keep: b.Keep, On: b.On,
				Overlap: time.Duration(b.Overlap) * 24 * time.Hour, Because: b.Because, Look: b.Look})
		})
	op(api, door.Draft, http.MethodPost, "/users/{id}/rename", "rename",
		"Give a user another id everywhere in the declaration; their accounts stay theirs, under the logins that they have",
		func(ctx context.Context, who door.Operator, in *renameRequest) (seen.Renaming, error) {
			b := in.Body
			return h.Rename(ctx, who, seen.RenameRequest{User: in.ID, To: b.To, Because: b.Because, Look: b.Look})
		})
	op(api, door.Draft, http.MethodPost, "/users/{id}/leave", "leave",
		"Give somebody their last day, and hand what they looked after to somebody else",
		func(ctx context.Context, who door.Operator, in *leaveRequest) (life.Passage, error) {
			b := in.Body
			return h.Leave(ctx, who, life.LeaveRequest{User: in.ID, On: b.On, AtOnce: b.AtOnce, Remove: b.Remove, HandTo: b.HandTo,
				Because: b.Because, Look: b.Look})
		})
}
