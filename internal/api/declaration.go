package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/service"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
)

const maxDeclaration = 72 << 20 // 48 MB of files, escaped: one at a time, see bodiesMost

type filesRequest struct {
	Body struct {
		From  int            `json:"from,omitempty" minimum:"0" doc:"the revision that the files were made from; absent: the newest"`
		Files []declare.File `json:"files" minItems:"1" maxItems:"10000"`
	}
}

type declareRequest struct {
	Body struct {
		From    int            `json:"from" minimum:"0" doc:"the revision that the files were made from, 0 before the first: what others declared since comes along, or is refused with both sides"`
		Files   []declare.File `json:"files" minItems:"1" maxItems:"10000"`
		Because string         `json:"because" example:"spring deck crew"`
	}
}

type editsRequest struct {
	Body struct {
		From    int            `json:"from,omitempty" minimum:"0" doc:"the revision that was looked at; absent: the newest"`
		Edits   []declare.Edit `json:"edits" minItems:"1" maxItems:"100000"`
		Because string         `json:"because" example:"Marit becomes mate"`
	}
}

type lookEdits struct {
	Body struct {
		Edits []declare.Edit `json:"edits" minItems:"1" maxItems:"100000"`
	}
}

// EditsMeaning is what edits would change, for people and in the text.
type EditsMeaning struct {
	declared.Meaning
	Lines []declare.LineChange `json:"lines" doc:"the first of them"`
}

type revisionRequest struct {
	Number int `path:"number" minimum:"0" doc:"0 is the newest"`
}

type compareRequest struct {
	Number int `path:"number" minimum:"0"`
	With   int `query:"with" minimum:"0" doc:"the older revision; 0: the one before"`
}

type pendingRequest struct {
	Things []string `query:"thing" doc:"only of these: \"target arctic-tern\", or the name alone"`
}

type approveSettingsRequest struct {
	Body struct {
		Things   []string `json:"things,omitempty" doc:"only of these: \"target arctic-tern\", or the name alone; none: all that wait"`
		Revision int      `json:"revision" minimum:"1" doc:"as of which they were looked at: refused when another is declared by now"`
		Because  string   `json:"because,omitempty"`
		Password string   `json:"password,omitempty" doc:"yours, where you declared them yourself and nobody else could approve them"`
	}
}

type restoreRequest struct {
	Number int `path:"number" minimum:"1"`
	Body   struct {
		From    int    `json:"from,omitempty" minimum:"0" doc:"the revision that was looked at: refused when another is declared by now"`
		Because string `json:"because"`
	}
}

// Revisions is one page of revisions.
type Revisions struct {
	Items []declared.Revision `json:"items"`
	Total int                 `json:"total"`
}

// RevisionFiles is a revision with its files.
type RevisionFiles struct {
	declared.Revision
	Files []declare.File `json:"files"`
}

func (h *handlers) declaration(api huma.API) {
	big := func(o huma.Operation) huma.Operation { o.MaxBodyBytes = maxDeclaration; return o }
	huma.Register(api, big(operation(door.Look, http.MethodPost, "/check", "check", "Check declaration files without storing them")),
		func(ctx context.Context, in *filesRequest) (*body[declared.Checked], error) {
			out, err := h.Check(ctx, who(ctx), in.Body.Files)
			return &body[declared.Checked]{out}, problem(ctx, err)
		})
	huma.Register(api, big(operation(door.Draft, http.MethodPost, "/revisions", "declare",
		"Store declaration files as a new revision")), func(ctx context.Context, in *declareRequest) (*body[declared.Revision], error) {
		out, err := h.DeclareFrom(ctx, who(ctx), in.Body.From, in.Body.Files, in.Body.Because)
		return &body[declared.Revision]{out}, problem(ctx, err)
	})
	huma.Register(api, big(operation(door.Look, http.MethodPost, "/meaning", "meaning",
		"Say what files would change for people, without storing them")),
		func(ctx context.Context, in *filesRequest) (*body[declared.Meaning], error) {
			look := func() (declared.Meaning, error) { return h.Means(ctx, who(ctx), in.Body.Files) }
			if in.Body.From != 0 {
				look = func() (declared.Meaning, error) { return h.MeansFrom(ctx, who(ctx), in.Body.From, in.Body.Files) }
			}
			out, err := look()
			return &body[declared.Meaning]{out}, problem(ctx, err)
		})
	huma.Register(api, big(operation(door.Draft, http.MethodPost, "/edits", "edit",
		"Change the declaration in its own text, and declare it")),
		func(ctx context.Context, in *editsRequest) (*body[declared.Revision], error) {
			out, err := h.Edit(ctx, who(ctx), in.Body.From, in.Body.Edits, in.Body.Because)
			return &body[declared.Revision]{out}, problem(ctx, err)
		})
	huma.Register(api, big(operation(door.Look, http.MethodPost, "/edits/meaning", "edit-meaning",
		"Say what edits would change, without storing them")), func(ctx context.Context, in *lookEdits) (*body[EditsMeaning], error) {
		out, lines, err := h.MeansEdits(ctx, who(ctx), in.Body.Edits)
		return &body[EditsMeaning]{EditsMeaning{out, lines}}, problem(ctx, err)
	})
	op(api, door.Look, http.MethodGet, "/revisions", "list-revisions", "List revisions, newest first",
		func(ctx context.Context, who door.Operator, in *Paging) (Revisions, error) {
			items, total, err := h.Revisions(ctx, who, in.page())
			return Revisions{items, total}, err
		})
	op(api, door.Look, http.MethodGet, "/revisions/pending", "list-pending-settings",
		"List changes of guarded settings that wait for approval", func(ctx context.Context, who door.Operator,
			in *pendingRequest) (declared.PendingSettings, error) {
			return h.Pending(ctx, who, in.Things)
		})
	op(api, door.Approve, http.MethodPost, "/revisions/approve", "approve-settings",
		"Put changes of guarded settings in force; it needs somebody who did not declare them", func(ctx context.Context,
			who door.Operator, in *approveSettingsRequest) (declared.Revision, error) {
			return h.ApproveSettings(ctx, who, declared.ApproveRequest{Things: in.Body.Things, Revision: in.Body.Revision,
				Because: in.Body.Because, Password: in.Body.Password, From: address(ctx)})
		})
	op(api, door.Look, http.MethodGet, "/revisions/{number}", "show-revision", "Show a revision with its files",
		func(ctx context.Context, who door.Operator, in *revisionRequest) (RevisionFiles, error) {
			rev, files, err := h.Files(ctx, who, in.Number)
			return RevisionFiles{rev, files}, err
		})
	op(api, door.Look, http.MethodGet, "/revisions/{number}/compare", "compare-revisions",
		"Say what changed from one revision to another", func(ctx context.Context, who door.Operator,
			in *compareRequest) (declared.Compared, error) {
			with := in.With
			if with == 0 {
				rev, _, err := h.Files(ctx, who, in.Number)
				if err != nil {
					return declared.Compared{}, err
				}
				with = max(rev.Number-1, 1)
			}
			return h.CompareRevisions(ctx, who, with, in.Number)
		})
	op(api, door.Draft, http.MethodPost, "/revisions/{number}/restore", "restore-revision",
		"Declare the files of an earlier revision anew", func(ctx context.Context, who door.Operator,
			in *restoreRequest) (declared.Revision, error) {
			return h.Restore(ctx, who, in.Number, in.Body.From, in.Body.Because)
		})
	op(api, door.Look, http.MethodGet, "/overview", "overview", "Is everything as declared, and if not, where",
		func(ctx context.Context, who door.Operator, _ *struct{}) (service.Overview, error) {
			return h.Overview(ctx, who)
		})
}
