package httpapi

import (
	"context"
	"net"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"wardicon/core/secret"
	"wardicon/core/view"
)

type signInInput struct {
	from string
	Body struct {
		Name     string      `json:"name" maxLength:"64"`
		Password secret.Text `json:"password" writeOnly:"true"`
		Kind     string      `json:"kind" enum:"cookie,token" doc:"cookie for the console, token for programs"`
	}
}

// Resolve takes the caller's address from the connection.
func (in *signInInput) Resolve(ctx huma.Context) []error {
	host, _, err := net.SplitHostPort(ctx.RemoteAddr())
	if err == nil {
		in.from = host
	}
	return nil
}

type signInOutput struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      view.SignedIn
}

type setUpInput struct {
	Body struct {
		Code     string      `json:"code" doc:"The code that the service wrote at its first start" maxLength:"100"`
		Name     string      `json:"name" doc:"Name to sign in with" maxLength:"200"`
		Password secret.Text `json:"password" writeOnly:"true"`
	}
}

func (a *api) sessions() {
	open := func(op huma.Operation) huma.Operation { op.Security = nil; return op }

	handle(a, open(operation(http.MethodGet, "/start", "start", "Tell whether the service is set up", "session")), func(ctx context.Context, _ *none) (*body[view.Start], error) {
		needs, err := a.svc.NeedsSetUp(ctx)
		return &body[view.Start]{view.Start{SetUp: needs, Version: a.opts.Version}}, err
	})
	setUp := open(operation(http.MethodPost, "/start", "set-up", "Make the owner at the first start", "session"))
	setUp.DefaultStatus = http.StatusNoContent
	handle(a, setUp, func(ctx context.Context, in *setUpInput) (*none, error) {
		return nil, a.svc.SetUp(ctx, in.Body.Code, in.Body.Name, in.Body.Password)
	})
	handle(a, open(operation(http.MethodPost, "/session", "sign-in", "Sign in", "session")), func(ctx context.Context, in *signInInput) (*signInOutput, error) {
		token := in.Body.Kind == "token"
		bearer, session, err := a.svc.SignIn(ctx, in.Body.Name, in.Body.Password, in.from, token)
		if err != nil {
			return nil, err
		}
		out := &signInOutput{Body: view.SignedIn{Operator: view.Operator{Name: session.Operator.Name, Role: session.Operator.Role}, Expires: session.Expires}}
		if token {
			out.Body.Token = bearer
		} else {
			out.SetCookie = a.cookie(bearer, session.Expires)
		}
		return out, nil
	})
	handle(a, operation(http.MethodGet, "/session", "show-session", "Show who is signed in", "session"), func(ctx context.Context, _ *none) (*body[view.SignedIn], error) {
		session, err := a.svc.Session(ctx, token(ctx))
		return &body[view.SignedIn]{view.SignedIn{Operator: view.Operator{Name: session.Operator.Name, Role: session.Operator.Role}, Expires: session.Expires}}, err
	})
	out := operation(http.MethodDelete, "/session", "sign-out", "Sign out", "session")
	out.DefaultStatus = http.StatusNoContent
	handle(a, out, func(ctx context.Context, _ *none) (*struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}, error) {
		return &struct {
			SetCookie http.Cookie `header:"Set-Cookie"`
		}{a.cookie("", time.Unix(1, 0))}, a.svc.SignOut(ctx, token(ctx))
	})
}

func token(ctx context.Context) string {
	t, _ := ctx.Value(bearerKey{}).(string)
	return t
}

func (a *api) cookie(value string, expires time.Time) http.Cookie {
	return http.Cookie{Name: cookieName, Value: value, Path: "/", Expires: expires, HttpOnly: true, Secure: a.opts.Secure, SameSite: http.SameSiteStrictMode}
}
