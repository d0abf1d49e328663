package httpapi

import (
	"context"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"wardicon/api"
	"wardicon/core/secret"
	"wardicon/service"
	"wardicon/store"
)

type signInInput struct {
	from, client, device string
	Body                 struct {
		Name     string      `json:"name" required:"false" maxLength:"64"`
		Password secret.Text `json:"password" required:"false" writeOnly:"true"`
		// Code of the second factor, where there is one.
		Code string `json:"code" required:"false" maxLength:"10"`
		// What a browser says of a passkey (an AuthenticationResponseJSON), in the place of name and
		// password.
		Passkey any `json:"passkey,omitempty"`
		// Mark of this device from an earlier sign-in; consoles send a cookie.
		Device string `json:"device" required:"false" maxLength:"200"`
		// cookie for the console, token for programs.
		Kind string `json:"kind" enum:"cookie,token"`
	}
}

// Resolve takes the caller's address from the connection.
func (in *signInInput) Resolve(ctx huma.Context) []error {
	host, _, err := net.SplitHostPort(ctx.RemoteAddr())
	if err == nil {
		in.from = host
	}
	in.client, in.device = ctx.Header("User-Agent"), in.Body.Device
	if cookies, err := http.ParseCookie(ctx.Header("Cookie")); err == nil && in.device == "" {
		for _, c := range cookies {
			if c.Name == deviceCookie || c.Name == hostPrefix+deviceCookie {
				in.device = c.Value
			}
		}
	}
	return nil
}

type signInOutput struct {
	SetCookie []http.Cookie `header:"Set-Cookie"`
	Body      api.SignedIn
}

type confirmInput struct {
	Body struct {
		Password secret.Text `json:"password" required:"false" writeOnly:"true"`
		// Code of the second factor, where there is one.
		Code string `json:"code" required:"false" maxLength:"10"`
		// What a browser says of a passkey (an AuthenticationResponseJSON), in the place of both.
		Passkey any `json:"passkey,omitempty"`
	}
}

type setUpInput struct {
	Body struct {
		// The set-up code that the service wrote at its first start.
		Code string `json:"code" maxLength:"100"`
		// Sign-in name.
		Name     string      `json:"name" maxLength:"200"`
		Password secret.Text `json:"password" writeOnly:"true"`
		// Address under which people reach this service; links in emails begin with it.
		Links string `json:"links,omitempty" maxLength:"300"`
	}
}

func (a *handlers) sessions() {
	open := func(op huma.Operation) huma.Operation { op.Security = nil; return op }

	handle(
		a,
		open(
			operation(
				http.MethodGet,
				"/start",
				"start",
				"Show whether the service is set up",
				"session",
			),
		),
		func(ctx context.Context, _ *none) (api.Start, error) {
			needs, err := a.svc.NeedsSetUp(ctx)
			if err != nil {
				return api.Start{}, err
			}
			title, err := a.svc.ProviderTitle(ctx)
			if err != nil {
				return api.Start{}, err
			}
			passkeys, err := a.svc.PasskeysUsed(ctx)
			return api.Start{
				SetUp: needs, Provider: title, Passkeys: passkeys, Version: a.opts.Version,
			}, err
		},
	)
	setUp := open(
		operation(
			http.MethodPost,
			"/start",
			"set-up",
			"Create the owner at the first start",
			"session",
		),
	)
	quiet(a, setUp, func(ctx context.Context, in *setUpInput) error {
		return a.svc.SetUp(ctx, in.Body.Code, in.Body.Name, in.Body.Password, in.Body.Links)
	})
	register(
		a,
		open(operation(http.MethodPost, "/session", "sign-in", "Sign in", "session")),
		func(ctx context.Context, in *signInInput) (*signInOutput, error) {
			token := in.Body.Kind == "token"
			passkey, err := passkeyOf(in.Body.Passkey)
			if err != nil {
				return nil, err
			}
			bearer, session, err := a.svc.SignIn(
				ctx,
				service.Entry{
					Name:     in.Body.Name,
					Password: in.Body.Password,
					Code:     strings.TrimSpace(in.Body.Code),
					From:     in.from,
					Client:   in.client,
					Device:   in.device,
					Token:    token,
					Passkey:  passkey,
				},
			)
			if err != nil {
				return nil, err
			}
			out := &signInOutput{
				Body: api.SignedIn{Operator: session.Operator, Expires: session.Expires},
			}
			if token {
				out.Body.Token, out.Body.Device = bearer, session.Device
			} else {
				known := cookie(ctx, session.Device, time.Now().AddDate(1, 0, 0))
				known.Name = strings.Replace(known.Name, cookieName, deviceCookie, 1)
				out.SetCookie = []http.Cookie{cookie(ctx, bearer, session.Expires), known}
			}
			return out, nil
		},
	)
	register(
		a,
		ownOperation(
			http.MethodGet,
			"/session",
			"show-session",
			"Show who is signed in",
			"session",
		),
		func(ctx context.Context, _ *none) (*body[api.SignedIn], error) {
			session := here(ctx)
			operator := session.Operator
			operator.Role = session.Role
			return &body[api.SignedIn]{
				api.SignedIn{Operator: operator, Expires: session.Expires},
			}, nil
		},
	)
	confirm := ownOperation(
		http.MethodPost,
		"/session/confirmation",
		"confirm-session",
		"Confirm your identity by password and second factor, or by a passkey; for five "+
			"minutes the session may then do what requires confirmation",
		"session",
	)
	quiet(a, confirm, func(ctx context.Context, in *confirmInput) error {
		passkey, err := passkeyOf(in.Body.Passkey)
		if err != nil {
			return err
		}
		if passkey != nil {
			return a.svc.ConfirmByPasskey(ctx, here(ctx), passkey)
		}
		return a.svc.Confirm(ctx, here(ctx), in.Body.Password, strings.TrimSpace(in.Body.Code))
	})
	out := ownOperation(http.MethodDelete, "/session", "sign-out", "Sign out", "session")
	out.DefaultStatus = http.StatusNoContent
	register(a, out, func(ctx context.Context, _ *none) (*struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}, error) {
		return &struct {
			SetCookie http.Cookie `header:"Set-Cookie"`
		}{cookie(ctx, "", time.Unix(1, 0))}, a.svc.SignOut(ctx, here(ctx))
	})
}

// here is the session of whoever asks.
func here(ctx context.Context) store.Session {
	session, _ := ctx.Value(bearerKey{}).(store.Session)
	return session
}

// ownOperation is one that whoever is signed in may call for themselves, whatever their role, and
// also those who must change their password first.
func ownOperation(method, path, id, summary, tag string) huma.Operation {
	op := by(service.RoleAuditor, operation(method, path, id, summary, tag))
	op.Metadata[ownAffair] = true
	return op
}

func cookie(ctx context.Context, value string, expires time.Time) http.Cookie {
	secure, name := callerOf(ctx).secure, cookieName
	if secure {
		name = hostPrefix + name
	}
	return http.Cookie{
		Name:     name,
		Value:    value,
		Path:     "/",
		Expires:  expires,
		HttpOnly: true,
		Secure:   secure,
		SameSite: http.SameSiteStrictMode,
	}
}
