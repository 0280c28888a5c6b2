package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"hen-roost/internal/service"
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

type commentRequest struct {
	Seq  int64 `path:"seq" minimum:"1"`
	Body struct {
		Text string `json:"text"`
	}
}

func (h *handlers) record(api huma.API) {
	op(api, http.MethodGet, "/record", "list-record", "List the team record, newest first", func(ctx context.Context, who service.Operator, in *recordRequest) (service.RecordPage, error) {
		return h.Record(ctx, who, service.RecordFilter{Kind: in.Kind, Operator: in.Operator, Target: in.Target, User: in.User, Round: in.Round, Text: in.Text, Before: in.Before}, in.Size)
	})
	op(api, http.MethodGet, "/record/{seq}", "show-entry", "Show one entry with its comments", func(ctx context.Context, who service.Operator, in *entryRequest) (service.Entry, error) {
		return h.EntryDetail(ctx, who, in.Seq)
	})
	op(api, http.MethodPost, "/record/{seq}/comments", "comment", "Add a comment to an entry", func(ctx context.Context, who service.Operator, in *commentRequest) (service.Entry, error) {
		return h.Comment(ctx, who, in.Seq, in.Body.Text)
	})
	op(api, http.MethodGet, "/record-check", "verify-record", "Check the record's chain from end to end", func(ctx context.Context, who service.Operator, _ *struct{}) (service.Verified, error) {
		return h.VerifyRecord(ctx, who)
	})
}
