package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"hen-roost/internal/service/door"
	"hen-roost/internal/service/life"
)

// Handing is how new passwords are made and handed over.
type Handing struct {
	Aloud bool   `json:"aloud,omitempty" doc:"easy to read out on a telephone"`
	Keeps bool   `json:"keeps,omitempty" doc:"it need not be changed at the first sign-in"`
	Batch string `json:"batch,omitempty" maxLength:"100" example:"spring-crew" doc:"they are handed over together: no links come with the answer"`
	Hours int    `json:"hours,omitempty" minimum:"0" maximum:"2160" doc:"how long they wait to be collected; 0: 72"`
}

func (h Handing) lasts() time.Duration { return time.Duration(h.Hours) * time.Hour }

type rotateRequest struct {
	Body struct {
		Users    []string `json:"users,omitempty" maxItems:"5000" example:"[\"kari.berg\"]"`
		Where    string   `json:"where,omitempty" maxLength:"4096" doc:"CEL over user, day and params, in place of users"`
		Targets  []string `json:"targets,omitempty" doc:"only there; empty: wherever they have an account with a password"`
		Accounts []string `json:"accounts,omitempty" doc:"only accounts of these names, where somebody has several; empty: all"`
		Password string   `json:"password,omitempty" maxLength:"1000" doc:"of one person: the one that they chose; left out: one is made"`
		Hash     string   `json:"hash,omitempty" maxLength:"400" doc:"of one person: the hash of a password that they have, as crypt(5) writes it"`
		Handing
		Because string `json:"because" example:"forgot it, telephoned"`
	}
}

type keyRequest struct {
	ID   string `path:"id"`
	Body struct {
		Until   string `json:"until,omitempty" example:"2027-12-31" doc:"its last day: a finding tells when it is near"`
		Alone   bool   `json:"alone,omitempty" doc:"all other keys of theirs are withdrawn with it"`
		Hours   int    `json:"hours,omitempty" minimum:"0" maximum:"2160" doc:"how long it waits to be collected; 0: 72"`
		Because string `json:"because" example:"a new laptop"`
	}
}

type certificateRequest struct {
	ID   string `path:"id"`
	Body struct {
		Days    int    `json:"days,omitempty" minimum:"0" maximum:"1095" doc:"for which it is good; 0: 365"`
		Hours   int    `json:"hours,omitempty" minimum:"0" maximum:"2160" doc:"how long it waits to be collected; 0: 72"`
		Because string `json:"because" example:"a new laptop"`
	}
}

// pemAnswer is a text in PEM (RFC 7468).
type pemAnswer struct {
	ContentType string `header:"Content-Type"`
	Body        []byte
}

type renewRequest struct {
	Name string `path:"name"`
	Body struct {
		Because string `json:"because" example:"every quarter"`
	}
}

type onAccounts struct {
	Body struct {
		Users   []string `json:"users" maxItems:"5000" example:"[\"kari.berg\"]"`
		Targets []string `json:"targets,omitempty" doc:"only there; empty: wherever they have an account"`
		Because string   `json:"because" example:"locked out after a holiday"`
	}
}

type tryRequest struct {
	Body struct {
		User     string `json:"user,omitempty" doc:"whose it would be; left out: anybody's"`
		Password string `json:"password" maxLength:"1000"`
	}
}

type handoversRequest struct {
	User   string `query:"user"`
	Batch  string `query:"batch"`
	State  string `query:"state" enum:"made,waiting,collected,expired,withdrawn,not set"`
	Before int64  `query:"before" minimum:"0" doc:"next of the page before; 0: the first page"`
	Size   int    `query:"size" minimum:"0" maximum:"1000" doc:"how many at most; 0 means 100"`
}

type handoverRequest struct {
	ID int64 `path:"id" minimum:"1"`
}

type withdrawRequest struct {
	ID   int64 `path:"id" minimum:"1"`
	Body struct {
		Because string `json:"because" example:"sent to the wrong address"`
	}
}

type batchRequest struct {
	Body struct {
		Batch string `json:"batch" maxLength:"100" example:"spring-crew"`
	}
}

type sealRequest struct {
	Body struct {
		Batch string   `json:"batch" maxLength:"100" example:"spring-crew"`
		To    []string `json:"to" minItems:"1" maxItems:"20" doc:"public keys of age or SSH, of those who will open it"`
	}
}

type behindRequest struct {
	Body struct {
		Link string `json:"link" maxLength:"100" doc:"what stands behind the # of the link"`
	}
}

type collectRequest struct {
	Body struct {
		Link string `json:"link" maxLength:"100" doc:"what stands behind the # of the link"`
		Code string `json:"code" maxLength:"100" example:"402913"`
	}
}

// ShownList are credentials, each shown once.
type ShownList struct {
	Items []life.Shown `json:"items"`
	More  bool         `json:"more,omitempty" doc:"others of the batch wait: ask again"`
}

func (h *handlers) credentials(api huma.API) {
	op(api, door.Credential, http.MethodPost, "/passwords/rotate", "rotate-passwords",
		"Give people new passwords: sealed as they are made, set by a round that signs in with each, and handed over once",
		func(ctx context.Context, who door.Operator, in *rotateRequest) (life.Rotated, error) {
			b := in.Body
			return h.Rotate(ctx, who, life.RotateRequest{Users: b.Users, Where: b.Where, Targets: b.Targets, Accounts: b.Accounts,
				Aloud: b.Aloud, Keeps: b.Keeps, Given: b.Password, Hash: b.Hash, Batch: b.Batch, Lasts: b.lasts(), Because: b.Because})
		})
	op(api, door.Credential, http.MethodPost, "/users/{id}/certificates", "rotate-certificate",
		"Issue a user a client certificate, handed over once with its key; when it is proved everywhere, those issued before are withdrawn",
		func(ctx context.Context, who door.Operator, in *certificateRequest) (life.Rotated, error) {
			return h.RotateCertificate(ctx, who, life.CertificateRequest{User: in.ID, Days: in.Body.Days,
				Lasts: time.Duration(in.Body.Hours) * time.Hour, Because: in.Body.Because})
		})
	op(api, door.Administer, http.MethodPost, "/secrets/{name}/rotate", "rotate-secret",
		"Rotate a secret that Hen Roost itself signs in with: each target is given the new one and proves it, then the old one is "+
			"withdrawn",
		func(ctx context.Context, who door.Operator, in *renewRequest) (life.RenewedSecret, error) {
			return h.RenewSecret(ctx, who, in.Name, in.Body.Because)
		})
	op(api, door.Credential, http.MethodPost, "/users/{id}/keys", "rotate-key",
		"Make a user a key pair: the public half is declared and brought to the targets, the private half is handed over once; when it is "+
			"proved everywhere, those made before are withdrawn",
		func(ctx context.Context, who door.Operator, in *keyRequest) (life.Rotated, error) {
			return h.RotateKey(ctx, who, life.KeyRequest{User: in.ID, Until: in.Body.Until, Alone: in.Body.Alone,
				Lasts:   time.Duration(in.Body.Hours) * time.Hour,
				Because: in.Body.Because})
		})
	op(api, door.Credential, http.MethodPost, "/passwords/expire", "expire-passwords",
		"Have people change their passwords at the next sign-in",
		func(ctx context.Context, who door.Operator, in *onAccounts) (life.Rotated, error) {
			return h.Expire(ctx, who, in.Body.Users, in.Body.Targets, in.Body.Because)
		})
	op(api, door.Credential, http.MethodPost, "/passwords/unlock", "unlock",
		"Let people in again who were locked out after wrong passwords; what was shut on purpose stays shut",
		func(ctx context.Context, who door.Operator, in *onAccounts) (life.Rotated, error) {
			return h.Unlock(ctx, who, in.Body.Users, in.Body.Targets, in.Body.Because)
		})
	op(api, door.Look, http.MethodPost, "/passwords/try", "try-password",
		"Say whether a password could be used, and why not; nothing of it is stored",
		func(ctx context.Context, who door.Operator, in *tryRequest) (life.Tried, error) {
			return h.TryPassword(ctx, who, in.Body.User, in.Body.Password)
		})
	op(api, door.Look, http.MethodGet, "/handovers", "list-handovers", "List handovers, newest first",
		func(ctx context.Context, who door.Operator, in *handoversRequest) (life.Handovers, error) {
			return h.ListHandovers(ctx, who, life.HandoverChoice{User: in.User, Batch: in.Batch, State: in.State, Before: in.Before,
				Size: in.Size})
		})
	op(api, door.Look, http.MethodGet, "/handovers/{id}", "show-handover", "Show a handover, without what is in it",
		func(ctx context.Context, who door.Operator, in *handoverRequest) (life.Handover, error) {
			return h.HandoverByID(ctx, who, in.ID)
		})
	op(api, door.Credential, http.MethodPost, "/handovers/{id}/link", "link-handover",
		"Make a new link and code to a handover, in place of those before",
		func(ctx context.Context, who door.Operator, in *handoverRequest) (life.Linked, error) {
			return h.LinkTo(ctx, who, in.ID)
		})
	op(api, door.Credential, http.MethodPost, "/handovers/{id}/show", "collect-handover",
		"Show what is in a handover, once, to the operator who asks: the record names them",
		func(ctx context.Context, who door.Operator, in *handoverRequest) (life.Shown, error) {
			return h.CollectFor(ctx, who, in.ID)
		})
	op(api, door.Credential, http.MethodPost, "/handovers/{id}/withdraw", "withdraw-handover",
		"Withdraw a handover: nobody can collect it any more",
		func(ctx context.Context, who door.Operator, in *withdrawRequest) (life.Handover, error) {
			return h.WithdrawHandover(ctx, who, in.ID, in.Body.Because)
		})
	op(api, door.Credential, http.MethodPost, "/handovers/sheets", "print-handovers",
		"Show what is in all handovers of a batch that wait, once, to be printed on a sheet for each person",
		func(ctx context.Context, who door.Operator, in *batchRequest) (ShownList, error) {
			list, more, err := h.Sheets(ctx, who, in.Body.Batch)
			return ShownList{list, more}, err
		})
	op(api, door.Credential, http.MethodPost, "/handovers/files", "seal-handovers",
		"Seal all handovers of a batch that wait into one file for given recipients",
		func(ctx context.Context, who door.Operator, in *sealRequest) (life.BatchFile, error) {
			return h.SealBatch(ctx, who, in.Body.Batch, in.Body.To)
		})
	op(api, door.Credential, http.MethodGet, "/handovers/files/{id}", "show-handover-file", "Fetch a sealed file of handovers again",
		func(ctx context.Context, who door.Operator, in *handoverRequest) (life.BatchFile, error) {
			return h.BatchFileByID(ctx, who, in.ID)
		})
	h.collecting(api)
	h.authority(api)
}

// authority is what targets are told to trust, and no longer: they are no operators.
func (h *handlers) authority(api huma.API) {
	for path, x := range map[string]struct {
		id, summary string
		read        func(context.Context) ([]byte, error)
	}{
		"/authority": {"show-authority", "The certificate of the service's own authority for client certificates, in PEM",
			func(ctx context.Context) ([]byte, error) { return h.AuthorityPEM(ctx) }},
		"/authority/withdrawn": {"list-withdrawn", "The signed list of client certificates that are let in no more (RFC 5280), in PEM",
			func(ctx context.Context) ([]byte, error) { return h.WithdrawnList(ctx) }},
	} {
		o := operation(open, http.MethodGet, path, x.id, x.summary)
		o.Security = []map[string][]string{}
		huma.Register(api, o, func(ctx context.Context, _ *struct{}) (*pemAnswer, error) {
			text, err := x.read(ctx)
			if err != nil {
				return nil, problem(ctx, err)
			}
			return &pemAnswer{"application/x-pem-file", text}, nil
		})
	}
}

// collecting is what those ask who have a link: they are no operators.
func (h *handlers) collecting(api huma.API) {
	for path, register := range map[string]func(huma.Operation){
		"/collect/look": func(o huma.Operation) {
			o.OperationID, o.Summary = "look-behind-link", "Say what waits behind a link; it shows nothing of it, and changes nothing"
			huma.Register(api, o, func(ctx context.Context, in *behindRequest) (*body[life.Pending], error) {
				out, err := h.Behind(ctx, in.Body.Link)
				return answer(out, err)
			})
		},
		"/collect": func(o huma.Operation) {
			o.OperationID, o.Summary = "collect", "Collect what waits behind a link, once, with the code that was told beside it"
			huma.Register(api, o, func(ctx context.Context, in *collectRequest) (*body[life.Shown], error) {
				out, err := h.Collect(ctx, in.Body.Link, in.Body.Code, address(ctx))
				return answer(out, err)
			})
		},
	} {
		o := operation(open, http.MethodPost, path, "", "")
		o.Security = []map[string][]string{}
		o.MaxBodyBytes = 4 << 10 // it is read before anybody knows who sends it
		register(o)
	}
}

func answer[T any](out T, err error) (*body[T], error) {
	if err != nil {
		return nil, problem(context.Background(), err)
	}
	return &body[T]{out}, nil
}
