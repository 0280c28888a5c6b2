package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"hen-roost/internal/service/door"
)

type signInRequest struct {
	Body struct {
		Name     string `json:"name" example:"odd.strand" maxLength:"200"`
		Password string `json:"password" maxLength:"1000"`
		Token    string `json:"token,omitempty" maxLength:"100" doc:"name of an API token to make, in place of a browser session"`
	}
}

// SignedIn is who is signed in now. Secret is there for a new API token only, once.
type SignedIn struct {
	door.Operator
	Secret string    `json:"secret,omitempty"`
	EndsAt time.Time `json:"ends-at"`
}

type signInAnswer struct {
	SetCookie *http.Cookie `header:"Set-Cookie"`
	Body      SignedIn
}

func (h *handlers) signIn(api huma.API) {
	o := operation(open, http.MethodPost, "/session", "sign-in", "Sign in with name and password")
	o.Security = []map[string][]string{}
	o.MaxBodyBytes = 16 << 10 // it is read before anybody knows who sends it
	huma.Register(api, o, func(ctx context.Context, in *signInRequest) (*signInAnswer, error) {
		who, secret, until, err := h.SignIn(ctx, in.Body.Name, in.Body.Password, in.Body.Token, address(ctx))
		if err != nil {
			return nil, problem(ctx, err)
		}
		if in.Body.Token != "" {
			return &signInAnswer{Body: SignedIn{who, secret, until}}, nil
		}
		return &signInAnswer{SetCookie: cookie(secret, until), Body: SignedIn{Operator: who, EndsAt: until}}, nil
	})
	op(api, anyone, http.MethodGet, "/session", "who-am-i", "Who is signed in",
		func(ctx context.Context, who door.Operator, _ *struct{}) (door.Operator, error) {
			if who.Name == "" {
				return who, &door.Problem{Kind: door.SignedOut, Words: "you are not signed in: roost sign-in"}
			}
			return who, nil
		})
	out := operation(anyone, http.MethodDelete, "/session", "sign-out", "End this session or token")
	out.DefaultStatus = http.StatusNoContent
	huma.Register(api, out, func(ctx context.Context, _ *struct{}) (*struct {
		SetCookie *http.Cookie `header:"Set-Cookie"`
	}, error) {
		if who(ctx).Name == "" {
			return nil, problem(ctx, &door.Problem{Kind: door.SignedOut, Words: "you are not signed in"})
		}
		err := h.SignOut(ctx, who(ctx), credential(ctx))
		return &struct {
			SetCookie *http.Cookie `header:"Set-Cookie"`
		}{cookie("", time.Unix(0, 0))}, problem(ctx, err)
	})
}

func cookie(secret string, until time.Time) *http.Cookie {
	return &http.Cookie{Name: cookieName, Value: secret, Path: "/", Expires: until, Secure: true, HttpOnly: true,
		SameSite: http.SameSiteStrictMode}
}
