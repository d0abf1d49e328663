package httpapi

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"wardicon/api"
	"wardicon/core/vpn"
	"wardicon/service"
	"wardicon/store"
)

// identified gives every request an identity of our own making: what a caller sends
// as one does not get into the logs.
func identified(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		next.ServeHTTP(
			w,
			r.WithContext(
				context.WithValue(r.Context(), middleware.RequestIDKey, rand.Text()[:16]),
			),
		)
	})
}

// sized bounds what a request may send: as much as its operation takes, where that is much.
func (a *handlers) sized(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		most := max(maxBody, a.uploads[r.URL.Path])
		middleware.RequestSize(most)(next).ServeHTTP(w, r)
	})
}

// bodies are the media types of what the API is sent.
var bodies = []string{"application/json", "application/merge-patch+json", "multipart/form-data"}

// typed refuses a body of another type to the API (RFC 9110 §15.5.16). One without a type is taken
// as it is.
func typed(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		said := r.Header.Get("Content-Type")
		media, _, err := mime.ParseMediaType(said)
		if strings.HasPrefix(r.URL.Path, "/api/") && said != "" && r.ContentLength != 0 &&
			(err != nil || !slices.Contains(bodies, media)) {
			w.Header().Set("Accept", strings.Join(bodies, ", "))
			writeProblem(w, r, problem(http.StatusUnsupportedMediaType, "media-type",
				fmt.Sprintf("found a body of the type %.100q, expected %s", said,
					strings.Join(bodies, ", "))))
			return
		}
		next.ServeHTTP(w, r)
	})
}

// logged writes one line for each request: never a query, a header or a body.
func (a *handlers) logged(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if a.svc != nil {
			a.svc.Called()
		}
		ww, start := middleware.NewWrapResponseWriter(w, r.ProtoMajor), time.Now()
		w.Header().Set("X-Request-Id", middleware.GetReqID(r.Context()))
		next.ServeHTTP(ww, r)
		route := "console"
		if rc := chi.RouteContext(r.Context()); rc != nil && rc.RoutePattern() != "" {
			route = rc.RoutePattern()
		}
		if a.opts.Measure != nil {
			a.opts.Measure(r.Method, route, ww.Status(), time.Since(start))
		}
		a.log.InfoContext(
			r.Context(),
			"request",
			"request",
			middleware.GetReqID(r.Context()),
			"method",
			r.Method,
			"route",
			route,
			"status",
			ww.Status(),
			"bytes",
			ww.BytesWritten(),
			"ms",
			time.Since(start).Milliseconds(),
		)
	})
}

// recovered answers a handler that broke down. What it broke down with is not logged: it
// could hold a secret; where is enough.
func (a *handlers) recovered(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			if broken := recover(); broken != nil {
				a.log.ErrorContext(
					r.Context(),
					"handler broke down",
					"request",
					middleware.GetReqID(r.Context()),
					"kind",
					fmt.Sprintf("%T", broken),
					"stack",
					string(debug.Stack()),
				)
				writeProblem(
					w,
					r,
					problem(
						http.StatusInternalServerError,
						"internal",
						"the service failed; see its log for this request",
					),
				)
			}
		}()
		next.ServeHTTP(w, r)
	})
}

// headers sets what every answer carries.
func headers(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		h.Set("Cross-Origin-Resource-Policy", "same-origin")
		h.Set(
			"Content-Security-Policy",
			"default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "+
				"object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors "+
				"'none'",
		)
		if callerOf(r.Context()).secure {
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		if strings.HasPrefix(r.URL.Path, "/api/") {
			h.Set("Cache-Control", "no-store")
		}
		next.ServeHTTP(w, r)
	})
}

// cookieName is the cookie of the console's session. By TLS it has a prefix that browsers hold to
// this host alone, and that of a visit one that they hold to TLS (RFC 6265bis §4.1.3).
const (
	cookieName   = "wardicon_session"
	hostPrefix   = "__Host-"
	securePrefix = "__Secure-"

	deviceCookie = "wardicon_device"
)

// bearer finds the token or the cookie of a request.
func bearer(authorization, cookie string) string {
	if token, ok := strings.CutPrefix(authorization, "Bearer "); ok {
		return token
	}
	c, err := http.ParseCookie(cookie)
	if err != nil {
		return ""
	}
	for _, one := range c {
		if one.Name == cookieName || one.Name == hostPrefix+cookieName {
			return one.Value
		}
	}
	return ""
}

type bearerKey struct{}

// What an operation says of who may call it.
const (
	roleNeeded = "role"
	ownAffair  = "own"     // open to whoever must change the password first
	enrolling  = "enrol"   // open to whoever must set up a second factor first
	confirmed  = "confirm" // a session alone is not enough
)

// confirming is an operation that a stolen session alone must not do.
func confirming(op huma.Operation) huma.Operation {
	op.Metadata[confirmed] = true
	return op
}

// signedIn lets only operators pass where an operation asks for one.
func (a *handlers) signedIn(ctx huma.Context, next func(huma.Context)) {
	if len(ctx.Operation().Security) == 0 {
		next(ctx)
		return
	}
	op := ctx.Operation()
	session, err := a.session(ctx.Context(), bearer(ctx.Header("Authorization"),
		ctx.Header("Cookie")), ctx.Header("User-Agent"), op.Metadata)
	if err != nil {
		p, _ := a.answer(ctx.Context(), err).(*api.Problem)
		if p.Status == http.StatusUnauthorized {
			ctx.SetHeader("WWW-Authenticate", "Bearer")
		}
		ctx.SetHeader("Content-Type", "application/problem+json")
		ctx.SetStatus(p.Status)
		_ = json.NewEncoder(ctx.BodyWriter()).Encode(p)
		return
	}
	as := service.AsOperator(ctx.Context(), session.Operator, session.Role)
	if err := a.within(as, session.Operator, op, ctx.Param("id")); err != nil {
		p, _ := a.answer(ctx.Context(), err).(*api.Problem)
		ctx.SetHeader("Content-Type", "application/problem+json")
		ctx.SetStatus(p.Status)
		_ = json.NewEncoder(ctx.BodyWriter()).Encode(p)
		return
	}
	next(huma.WithValue(huma.WithContext(ctx, as), bearerKey{}, session))
}

// session is the one of a token, if it allows what an operation needs.
func (a *handlers) session(
	ctx context.Context,
	token, agent string,
	needs map[string]any,
) (store.Session, error) {
	session, err := a.svc.Session(ctx, token,
		service.Caller{Address: callerOf(ctx).address, Client: agent})
	switch needed, _ := needs[roleNeeded].(string); {
	case err != nil:
	case session.Operator.MustChange && needs[ownAffair] == nil:
		err = service.ErrMustChange
	case session.Operator.MustEnrol && needs[ownAffair] == nil && needs[enrolling] == nil:
		err = service.ErrMustEnrol
	case !service.Allows(session.Role, needed):
		err = vpn.Refuse(vpn.KindRole, fmt.Sprintf(
			"this needs the role %s, and this session has %s; ask an owner", needed, session.Role))
	case needs[confirmed] != nil:
		err = a.svc.Confirmed(session)
	}
	return session, err
}

func writeProblem(w http.ResponseWriter, r *http.Request, p *api.Problem) {
	identify(r.Context(), p)
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.Status)
	_ = json.NewEncoder(w).Encode(p)
}

// consoleHandler serves the built console. A path without a file is one of its pages.
func consoleHandler(dist fs.FS) http.HandlerFunc {
	files := http.FileServerFS(dist)
	return func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet && r.Method != http.MethodHead {
			writeProblem(
				w,
				r,
				problem(http.StatusMethodNotAllowed, "method", "only GET is answered here"),
			)
			return
		}
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		info, err := fs.Stat(dist, name)
		switch {
		case err == nil && !info.IsDir():
			if strings.HasPrefix(name, "assets/") {
				w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			files.ServeHTTP(w, r)
		case path.Ext(name) != "":
			writeProblem(w, r, problem(http.StatusNotFound, "not-found", "there is no such file"))
		default:
			page, err := fs.ReadFile(dist, "index.html")
			if err != nil {
				writeProblem(
					w,
					r,
					problem(
						http.StatusNotFound,
						"not-found",
						"the console was not built into this binary; run make build",
					),
				)
				return
			}
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			w.Header().Set("Cache-Control", "no-cache")
			_, _ = w.Write(page)
		}
	}
}
