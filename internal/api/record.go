package api

import (
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"hen-roost/internal/core/chain"
	"hen-roost/internal/service/door"
)

type recordRequest struct {
	Kind     string `query:"kind"`
	Operator string `query:"operator"`
	Target   string `query:"target"`
	User     string `query:"user"`
	Round    int64  `query:"round"`
	Text     string `query:"text" doc:"part of the words or the reason"`
	Before   int64  `query:"before" doc:"only entries with a smaller number: the next page"`
	Size     int    `query:"size" minimum:"0" maximum:"1000"`
}

type entryRequest struct {
	Seq int64 `path:"seq" minimum:"1"`
}

type headRequest struct {
	At int64 `query:"at" minimum:"0" doc:"number of the entry; 0: none"`
}

type commentRequest struct {
	Seq  int64 `path:"seq" minimum:"1"`
	Body struct {
		Text string `json:"text"`
	}
}

type checkQuery struct {
	Every bool `query:"every" doc:"walk through every entry, also of parts that are as they were when they were checked and sealed"`
}

func (h *handlers) record(api huma.API) {
	op(api, door.Look, http.MethodGet, "/record", "list-record", "List the team record, newest first",
		func(ctx context.Context, who door.Operator, in *recordRequest) (door.RecordPage, error) {
			return h.Record(ctx, who, door.RecordFilter{Kind: in.Kind, Operator: in.Operator, Target: in.Target, User: in.User,
				Round: in.Round, Text: in.Text, Before: in.Before}, in.Size)
		})
	op(api, door.Look, http.MethodGet, "/record/{seq}", "show-entry", "Show one entry with its comments",
		func(ctx context.Context, who door.Operator, in *entryRequest) (door.Entry, error) {
			return h.EntryDetail(ctx, who, in.Seq)
		})
	op(api, door.Look, http.MethodPost, "/record/{seq}/comments", "comment", "Add a comment to an entry",
		func(ctx context.Context, who door.Operator, in *commentRequest) (door.Entry, error) {
			return h.Comment(ctx, who, in.Seq, in.Body.Text)
		})
	op(api, door.Look, http.MethodGet, "/record-head", "record-head",
		"Return the record's head, signed, and the hash of an entry that somebody remembers",
		func(ctx context.Context, who door.Operator, in *headRequest) (door.RecordHead, error) {
			return h.RecordHead(ctx, who, in.At)
		})
	op(api, door.Look, http.MethodPost, "/record-checkpoint", "record-checkpoint",
		"Sign the record's head, keep it, and write it to the log",
		func(ctx context.Context, who door.Operator, _ *struct{}) (chain.Checkpoint, error) {
			return h.Checkpoint(ctx, who)
		})
	huma.Register(api, operation(door.Look, http.MethodGet, "/record-export", "export-record",
		"Write the whole record as lines of JSON, a checkpoint at its end"),
		func(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
			asks := who(ctx)
			if _, err := h.RecordHead(ctx, asks, 0); err != nil { // while there can still be a problem document
				return nil, problem(ctx, err)
			}
			return &huma.StreamResponse{Body: func(hc huma.Context) {
				hc.SetHeader("Content-Type", "application/jsonl")
				if err := h.ExportRecord(ctx, asks, hc.BodyWriter()); err != nil {
					fmt.Fprintf(hc.BodyWriter(), "{\"broken-off\": %q}\n", door.ProblemOf(err).Words)
				}
			}}, nil
		})
	op(api, door.Look, http.MethodGet, "/record-check", "verify-record", "Check the record's chain from end to end",
		func(ctx context.Context, who door.Operator, in *checkQuery) (door.Verified, error) {
			return h.VerifyRecord(ctx, who, in.Every)
		})
}
