package httpapi

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"wardicon/api"
	"wardicon/core/vpn"
	"wardicon/service"
)

// entryCookie keeps a sign-in by the provider while its operator is there.
const entryCookie = "wardicon_entry"

type signOnInput struct {
	SeenInput
	Body struct {
		vpn.SingleSignOn
		// Remove the stored client secret.
		RemoveSecret bool `json:"remove_secret" required:"false"`
	}
}

type entryInput struct {
	from string
	Body struct {
		// Page of the console to show afterwards.
		To string `json:"to,omitempty" maxLength:"500" pattern:"^(/[^/\\\\].*|/?)$"`
	}
}

// Resolve takes the caller's address.
func (in *entryInput) Resolve(ctx huma.Context) []error {
	in.from = callerOf(ctx.Context()).address
	return nil
}

type entryOutput struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      api.Entry
}

// singleSignOn are the operations on signing in by a provider of OpenID Connect.
func (a *handlers) singleSignOn() {
	const tag = "session"
	handle(a, by(service.RoleOwner, operation(http.MethodGet, "/single-sign-on", "show-single-sign-on",
		"Show the single sign-on settings (owners only)", tag)),
		func(ctx context.Context, _ *none) (vpn.SingleSignOn, error) {
			return a.svc.SingleSignOn(ctx)
		})
	handle(a, confirming(by(service.RoleOwner, operation(http.MethodPut, "/single-sign-on",
		"change-single-sign-on", "Change the single sign-on settings (owners only)", tag))),
		func(ctx context.Context, in *signOnInput) (zero vpn.SingleSignOn, err error) {
			version, err := in.version("single sign-on configuration", true)
			if err != nil {
				return zero, err
			}
			in.Body.Version = version
			keep := in.Body.Secret == nil && !in.Body.RemoveSecret
			return a.svc.SetSingleSignOn(ctx, in.Body.SingleSignOn, keep)
		})
	begin := func(ctx context.Context, in *entryInput, session string) (*entryOutput, error) {
		address, kept, err := a.svc.BeginEntry(ctx, callerOf(ctx).origin+service.SignInBack, in.Body.To,
			session, in.from)
		if err != nil {
			return nil, err
		}
		return &entryOutput{entryCookieOf(ctx, kept), api.Entry{Address: address}}, nil
	}
	first := operation(http.MethodPost, "/session/entry", "begin-entry",
		"Start single sign-on; the response has the URL to go to", tag)
	first.Security = nil
	register(a, first, func(ctx context.Context, in *entryInput) (*entryOutput, error) {
		return begin(ctx, in, "")
	})
	register(a, ownOperation(http.MethodPost, "/session/confirmation-entry",
		"begin-confirmation-entry",
		"Start to confirm your identity by single sign-on; the response has the URL to go to", tag),
		func(ctx context.Context, in *entryInput) (*entryOutput, error) {
			return begin(ctx, in, here(ctx).ID)
		})
}

func entryCookieOf(ctx context.Context, value string) http.Cookie {
	c := cookie(ctx, value, time.Now().Add(10*time.Minute))
	c.Name = strings.Replace(c.Name, cookieName, entryCookie, 1)
	c.SameSite = http.SameSiteLaxMode // it comes back with the browser from the provider's site
	if value == "" {
		c.Expires = time.Unix(1, 0)
	}
	return c
}

// signInBack takes operators back from the provider, and on to the console.
func (a *handlers) signInBack(w http.ResponseWriter, r *http.Request) {
	ctx := r.Context()
	clear := entryCookieOf(ctx, "")
	kept := ""
	if c, err := r.Cookie(clear.Name); err == nil {
		kept = c.Value
	}
	query := r.URL.Query()
	origin := callerOf(ctx)
	in, err := a.svc.Enter(ctx, origin.origin+service.SignInBack, query.Get("state"),
		query.Get("code"), kept,
		service.Caller{Address: origin.address, Client: r.Header.Get("User-Agent")})
	http.SetCookie(w, &clear)
	w.Header().Set("Cache-Control", "no-store")
	to := in.To
	switch {
	case err != nil:
		to = "/sign-in?refused=" + refusal(err)
		if refusal(err) == "failed" {
			a.log.ErrorContext(ctx, "a sign-in by the provider failed", "error", err)
		}
	case in.Bearer == "":
		to = "/confirmed"
	default:
		session := cookie(ctx, in.Bearer, in.Session.Expires)
		http.SetCookie(w, &session)
	}
	if u, err := url.Parse(to); err != nil || u.IsAbs() || u.Host != "" || to == "" {
		to = "/"
	}
	http.Redirect(w, r, to, http.StatusSeeOther)
}

// refusal is the word by which the sign-in page says why.
func refusal(err error) string {
	var busy *service.BusyError
	for _, known := range []struct {
		err  error
		word string
	}{
		{service.ErrEntry, "entry"}, {service.ErrNoRole, "role"}, {service.ErrNameTaken, "name"},
		{service.ErrProvider, "provider"}, {service.ErrNoProvider, "provider"},
	} {
		if errors.Is(err, known.err) {
			return known.word
		}
	}
	if errors.As(err, &busy) {
		return "tries"
	}
	return "failed"
}
