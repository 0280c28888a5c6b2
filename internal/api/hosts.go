package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"hen-roost/internal/service/door"
	"hen-roost/internal/service/life"
	"hen-roost/internal/service/rounds"
	"hen-roost/internal/service/seen"
)

type homesRequest struct {
	Targets []string `query:"target" doc:"left out: all on which people have homes"`
	Days    int      `query:"stale" minimum:"0" maximum:"36500" doc:"days without use after which a home may go; 0: as each target's declaration says, or else 90"`
}

type draftHomesRequest struct {
	Body struct {
		Targets []string `json:"targets,omitempty" doc:"left out: all on which people have homes"`
		Days    int      `json:"stale,omitempty" minimum:"0" maximum:"36500" doc:"days without use; 0: as each target's declaration says, or else 90"`
		How     string   `json:"how" enum:"archive,seal,remove" doc:"kept in an archive on the target, fetched and sealed here, or gone for good"`
		Because string   `json:"because" example:"end of the season"`
	}
}

type twinsRequest struct {
	One   string `query:"one" required:"true"`
	Other string `query:"other" required:"true"`
}

type fleetRequest struct {
	Tag string `query:"tag" example:"fleet=vessels" doc:"key=value; left out: all targets"`
}

type commissionRequest struct {
	Name string `path:"name"`
	Body struct {
		Administrator string `json:"administrator" example:"odd.strand" doc:"a user to whom the declaration gives superuser rights there"`
		Password      string `json:"password,omitempty" doc:"that they have there; left out: the one that waits for them, or a new one"`
		Own           string `json:"own-password,omitempty" doc:"yours: it approves the rounds that make a superuser, where nobody else could"`
		Because       string `json:"because" example:"take over from the yard"`
	}
}

type renumberRequest struct {
	Name string `path:"name"`
	Body struct {
		Account string `json:"account,omitempty" example:"jorunn.strand"`
		Group   string `json:"group,omitempty" example:"deck" doc:"in place of an account"`
		Number  int    `json:"number" minimum:"1" maximum:"2147483646" example:"1002"`
		Because string `json:"because" example:"1502 is somebody else's elsewhere"`
	}
}

type archivesRequest struct {
	Target string `query:"target" doc:"left out: of all"`
	Before int64  `query:"before" minimum:"0" doc:"next of the page before"`
	Size   int    `query:"size" minimum:"0" maximum:"1000"`
}

type returnRequest struct {
	ID   int64 `path:"id" minimum:"1"`
	Body struct {
		Because string `json:"because" example:"he comes back"`
	}
}

// Returned is a home that is on its target again.
type Returned struct {
	life.Archive
	Said string `json:"said" doc:"what the target did with it"`
}

func days(n int) time.Duration { return time.Duration(n) * 24 * time.Hour }

// hosts are operations on what targets hold beside accounts, and on targets beside each other.
func (h *handlers) hosts(api huma.API) {
	op(api, door.Run, http.MethodGet, "/homes", "list-homes", "Ask targets what people left there, and which of it nobody uses",
		func(ctx context.Context, who door.Operator, in *homesRequest) (seen.HomesSeen, error) {
			return h.Homes(ctx, who, in.Targets, days(in.Days))
		})
	op(api, door.Draft, http.MethodPost, "/homes/draft", "draft-homes",
		"Draft a round that takes homes away which nobody has used for long; each is looked at again before it goes",
		func(ctx context.Context, who door.Operator, in *draftHomesRequest) (rounds.HomesDrafted, error) {
			b := in.Body
			return h.DraftHomes(ctx, who, b.Targets, days(b.Days), b.How, b.Because)
		})
	op(api, door.Look, http.MethodGet, "/targets/{name}/superusers", "list-superusers", "Tell who can become superuser, and through what",
		func(ctx context.Context, who door.Operator, in *nameRequest) (seen.Superusers, error) {
			return h.TargetSuperusers(ctx, who, in.Name)
		})
	op(api, door.Look, http.MethodGet, "/archives", "list-archives", "List homes of those who were removed, kept sealed here",
		func(ctx context.Context, who door.Operator, in *archivesRequest) (life.Archives, error) {
			return h.ListArchives(ctx, who, in.Target, in.Before, in.Size)
		})
	op(api, door.Run, http.MethodPost, "/archives/{id}/return", "return-archive",
		"Bring a sealed home back to the target that it came from",
		func(ctx context.Context, who door.Operator, in *returnRequest) (Returned, error) {
			a, said, err := h.ReturnArchive(ctx, who, in.ID, in.Body.Because)
			return Returned{a, said}, err
		})
	op(api, door.Look, http.MethodGet, "/compare", "compare-targets", "Tell in what two targets differ that should be alike",
		func(ctx context.Context, who door.Operator, in *twinsRequest) (seen.Twins, error) {
			return h.CompareTargets(ctx, who, in.One, in.Other)
		})
	op(api, door.Look, http.MethodGet, "/fleet", "list-fleet",
		"Set targets that share a tag beside each other, and tell what is odd about one among its like",
		func(ctx context.Context, who door.Operator, in *fleetRequest) (seen.Fleet, error) {
			return h.Fleet(ctx, who, in.Tag)
		})
	op(api, door.Draft, http.MethodPost, "/targets/{name}/renumber", "renumber",
		"Draft a round that gives an account or a group another number, with all files that it owns",
		func(ctx context.Context, who door.Operator, in *renumberRequest) (rounds.Round, error) {
			b := in.Body
			return h.Renumber(ctx, who, in.Name, b.Account, b.Group, b.Number, b.Because)
		})
	op(api, door.Credential, http.MethodPost, "/targets/{name}/commission", "commission",
		"Make a named administrator, prove that they get in and become superuser, and only then close what the target was delivered with",
		func(ctx context.Context, who door.Operator, in *commissionRequest) (life.Commissioned, error) {
			return h.Commission(ctx, who, in.Name, life.CommissionRequest{Administrator: in.Body.Administrator, Given: in.Body.Password,
				Because: in.Body.Because, Own: in.Body.Own, From: address(ctx)})
		})
}
