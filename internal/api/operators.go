package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
)

type operatorRequest struct {
	Body struct {
		Name     string   `json:"name"`
		FullName string   `json:"full-name,omitempty"`
		Password string   `json:"password,omitempty" doc:"generated when absent"`
		Duties   []string `json:"duties,omitempty" doc:"look alone when absent"`
	}
}

// Password is a new operator's password, shown this once.
type Password struct {
	Password string `json:"password"`
}

type dutiesRequest struct {
	Name string `path:"name"`
	Body struct {
		Duties []string `json:"duties"`
	}
}

type resetRequest struct {
	Name string `path:"name"`
	Body struct {
		Password string `json:"password,omitempty" doc:"generated when absent"`
	}
}

type passwordRequest struct {
	Body struct {
		Old string `json:"old"`
		New string `json:"new"`
	}
}

type secretRequest struct {
	Name string `path:"name"`
	Body struct {
		Value    []byte   `json:"value" doc:"base64"`
		For      []string `json:"for,omitempty" doc:"targets for which it is released: what waits of them is approved with it"`
		Revision int      `json:"revision,omitempty" doc:"as of which these targets were looked at"`
		Password string   `json:"password,omitempty" doc:"yours, where you declared them yourself and nobody else could approve them"`
	}
}

func (h *handlers) operators(api huma.API) {
	op(api, door.Administer, http.MethodGet, "/operators", "list-operators", "List operators and their duties",
		func(ctx context.Context, who door.Operator, _ *struct{}) ([]door.Operator, error) {
			return h.Operators(ctx, who)
		})
	op(api, door.Administer, http.MethodPost, "/operators", "add-operator", "Add an operator",
		func(ctx context.Context, who door.Operator, in *operatorRequest) (Password, error) {
			p, err := h.AddOperator(ctx, who, in.Body.Name, in.Body.FullName, in.Body.Password, in.Body.Duties)
			return Password{p}, err
		})
	act(api, door.Administer, http.MethodPut, "/operators/{name}/duties", "set-operator", "Change an operator's duties",
		func(ctx context.Context, who door.Operator, in *dutiesRequest) error {
			return h.SetOperator(ctx, who, in.Name, in.Body.Duties)
		})
	act(api, door.Administer, http.MethodDelete, "/operators/{name}", "remove-operator", "Remove an operator",
		func(ctx context.Context, who door.Operator, in *nameRequest) error {
			return h.RemoveOperator(ctx, who, in.Name)
		})
	act(api, door.Administer, http.MethodPost, "/operators/{name}/confirm", "confirm-operator",
		"Confirm that an operator whom somebody made is somebody of their own",
		func(ctx context.Context, who door.Operator, in *nameRequest) error {
			return h.ConfirmOperator(ctx, who, in.Name)
		})
	op(api, door.Administer, http.MethodPost, "/operators/{name}/password", "reset-password",
		"Give another operator a new password; all their sessions and tokens end",
		func(ctx context.Context, who door.Operator, in *resetRequest) (Password, error) {
			p, err := h.ResetPassword(ctx, who, in.Name, in.Body.Password)
			return Password{p}, err
		})
	act(api, anyone, http.MethodPut, "/session/password", "change-password",
		"Change your own password; your other sessions and tokens end",
		func(ctx context.Context, who door.Operator, in *passwordRequest) error {
			return h.ChangePassword(ctx, who, credential(ctx), in.Body.Old, in.Body.New, address(ctx))
		})
	op(api, door.Look, http.MethodGet, "/tokens", "list-tokens", "List your own API tokens",
		func(ctx context.Context, who door.Operator, _ *struct{}) ([]door.Token, error) {
			return h.Tokens(ctx, who)
		})
	act(api, door.Look, http.MethodDelete, "/tokens/{name}", "remove-token", "End one of your own API tokens",
		func(ctx context.Context, who door.Operator, in *nameRequest) error {
			return h.RemoveToken(ctx, who, in.Name)
		})
	op(api, door.Administer, http.MethodGet, "/secrets", "list-secrets", "List the names of sealed secrets",
		func(ctx context.Context, who door.Operator, _ *struct{}) ([]declared.SecretInfo, error) {
			return h.Secrets(ctx, who)
		})
	act(api, door.Administer, http.MethodPut, "/secrets/{name}", "set-secret", "Seal a secret under a name",
		func(ctx context.Context, who door.Operator, in *secretRequest) error {
			return h.ReleaseSecret(ctx, who, in.Name, in.Body.Value, declared.ApproveRequest{Things: in.Body.For,
				Revision: in.Body.Revision, Password: in.Body.Password, From: address(ctx)})
		})
}
