// Package httpapi serves the HTTP API, described by OpenAPI 3.1, and the console.
package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"log/slog"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"wardicon/api"
	"wardicon/core/rows"
	"wardicon/core/vpn"
	"wardicon/service"
	"wardicon/store"
)

// Limits of a request.
const (
	maxBody     = 4 << 20 // bytes, a last line: operations take 1 MiB
	maxUpload   = max(maxDropped, rows.MaxBytes) + 1<<20
	maxHeader   = 64 << 10
	readTime    = 15 * time.Second
	requestTime = 30 * time.Second
	idleTime    = 2 * time.Minute
)

// Options of the handler.
type Options struct {
	Version string
	Console fs.FS  // the built console; nil leaves it out
	Secure  bool   // reached by TLS: cookies are marked so
	Zone    string // of the one-time names that the service answers; empty where it answers none
	// whom to tell of a weakness, a URI; empty says nothing
	SecurityContact string

	Forwarding Forwarding
	// Told how each request was answered; may be nil.
	Measure func(method, route string, status int, took time.Duration)
}

// handlers holds what the handlers share.
type handlers struct {
	huma huma.API
	svc  *service.Service
	log  *slog.Logger
	opts Options
	// what may be sent to paths that take more than others, in bytes
	uploads map[string]int64
	nouns   map[string]service.Noun
}

// New makes the handler of the whole service.
func New(svc *service.Service, log *slog.Logger, opts Options) http.Handler {
	r := chi.NewRouter()
	a := &handlers{svc: svc, log: log, opts: opts, uploads: map[string]int64{}}
	r.Use(
		identified,
		a.logged,
		a.recovered,
		opts.Forwarding.called(opts.Secure),
		headers,
		a.sized,
		middleware.Timeout(requestTime),
	)
	// refuses changes that another site's page sends with our cookie
	origins := http.NewCrossOriginProtection()
	origins.SetDenyHandler(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		writeProblem(
			w,
			r,
			problem(
				http.StatusForbidden,
				"cross-origin",
				"the request comes from another site's page",
			),
		)
	}))
	// Old browsers of phones call a page without referrers "null". Who has link and passcode needs
	// no other site's page.
	origins.AddInsecureBypassPattern("POST " + service.LinkPath + "{token}")
	r.Use(origins.Handler, typed, a.once)
	a.describe(r)
	a.provisioning(r)
	r.Get(
		"/health",
		func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("alive\n")) },
	)
	r.Get("/ready", func(w http.ResponseWriter, r *http.Request) {
		if err := svc.Ready(r.Context()); err != nil {
			http.Error(w, "not ready: "+unready(err), http.StatusServiceUnavailable)
			return
		}
		_, _ = w.Write([]byte("ready\n"))
	})
	if opts.SecurityContact != "" {
		r.Get("/.well-known/security.txt", a.securityText)
	}
	r.Get(service.ChallengePath+"{token}", a.challengeAnswer)
	r.Get("/lists/{name}", a.revocationList)
	r.Get(service.SignInBack, a.signInBack)
	a.enrolling(r)
	r.Route(service.LinkPath+"{token}", a.recipient)
	r.With(a.forRecipients).Get("/whereami", a.whereami)
	r.Get("/seen/{probe}", a.seen)
	r.Get(service.FetchPath, a.deliver)
	r.Get(service.FeedPath+"{feed}", a.feed)
	notFound := func(w http.ResponseWriter, r *http.Request) {
		writeProblem(
			w,
			r,
			problem(http.StatusNotFound, "not-found", "there is nothing at "+r.URL.Path),
		)
	}
	r.Route("/api", func(api chi.Router) {
		api.NotFound(func(w http.ResponseWriter, req *http.Request) {
			if allowed := methodsAt(r, req.URL.Path); len(allowed) > 0 {
				w.Header().Set("Allow", strings.Join(allowed, ", "))
				writeProblem(w, req, problem(http.StatusMethodNotAllowed, "method",
					req.Method+" is not answered at "+req.URL.Path+", expected "+
						strings.Join(allowed, ", ")))
				return
			}
			notFound(w, req)
		})
	})
	if opts.Console != nil {
		// Only the console is compressed: the length of an answer must not tell of secrets in it.
		r.NotFound(middleware.Compress(5)(consoleHandler(opts.Console)).ServeHTTP)
	} else {
		r.NotFound(notFound)
	}
	return r
}

// methodsAt are the methods that a path answers to.
func methodsAt(r chi.Router, path string) []string {
	var list []string
	for _, method := range []string{
		http.MethodGet, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete,
	} {
		if r.Match(chi.NewRouteContext(), method, path) {
			list = append(list, method)
		}
	}
	return list
}

// unready says why the service cannot work, without names of folders: everybody may ask.
func unready(err error) string {
	var fault *store.FaultError
	if !errors.As(err, &fault) {
		return "the database does not respond"
	}
	return map[vpn.Kind]string{
		vpn.KindDiskFull: "the disk of the data folder is full",
		vpn.KindLocked:   "another process has locked the database",
		vpn.KindDisk:     "the disk of the data folder has errors",
	}[fault.Why]
}

// Describe returns the API without a service behind it, for its OpenAPI document.
func Describe(version string) *huma.OpenAPI {
	a := &handlers{
		svc:  service.New(nil, slog.New(slog.DiscardHandler), time.Now),
		opts: Options{Version: version},

		uploads: map[string]int64{},
	}
	a.describe(chi.NewRouter())
	return a.huma.OpenAPI()
}

func (a *handlers) describe(r chi.Router) {
	huma.DefaultArrayNullable = false
	humachi.MultipartMaxMemory = maxUpload // what is dropped for a check never touches the disk
	huma.NewError = func(status int, message string, errs ...error) huma.StatusError {
		return frameworkProblem(context.Background(), status, message, errs...)
	}
	huma.NewErrorWithContext = func(ctx huma.Context, status int, message string,
		errs ...error) huma.StatusError {
		return frameworkProblem(ctx.Context(), status, message, errs...)
	}
	config := huma.DefaultConfig("Wardicon", a.opts.Version)
	config.Info.Description = "Builds and distributes VPN client connection profiles. Errors are " +
		"problem documents (RFC 9457); the fields at fault are named by JSON pointers."
	config.OpenAPIPath, config.DocsPath, config.SchemasPath, config.CreateHooks =
		"", "", "", nil
	config.Components.Schemas = huma.NewMapRegistry("#/components/schemas/", schemaName)
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token": {
			Type:        "http",
			Scheme:      "bearer",
			Description: "Token of the command line, from POST /api/v1/session",
		},
		"cookie": {
			Type:        "apiKey",
			In:          "cookie",
			Name:        cookieName,
			Description: "Session of the console",
		},
	}
	a.huma = humachi.New(r, config)
	a.huma.UseMiddleware(a.signedIn)
	a.sessions()
	a.passkeys()
	a.singleSignOn()
	a.records()
	a.profiles()
	a.patterns()
	a.findings()
	a.imports()
	a.inventory()
	a.directory()
	a.deliveries()
	a.orders()
	a.authorities()
	a.certificates()
	a.enrolments()
	a.signer()
	a.mail()
	a.operators()
	a.handovers()
	a.offboardings()
	a.selections()
	a.jobs()
	a.live()
	a.listViews()
	a.webhooks()
	a.approvals()
	a.switchovers()
	a.probes()
	a.rehearsals()
	a.explain()
	a.facts()
	described(a.huma.OpenAPI().Components.Schemas)
	answered(a.huma.OpenAPI())
	r.Get("/api/v1/openapi.json", a.document())
}

// document answers with the description of the API, which is written once: that takes longer than
// most of what is asked for.
func (a *handlers) document() http.HandlerFunc {
	written := sync.OnceValues(func() ([]byte, error) { return json.Marshal(a.huma.OpenAPI()) })
	return func(w http.ResponseWriter, r *http.Request) {
		text, err := written()
		if err != nil {
			panic(err)
		}
		w.Header().Set("Content-Type", "application/openapi+json")
		_, _ = w.Write(text)
	}
}

// schemaName keeps types of the same name apart: a record and its row in a list, a
// problem and the problem of one field.
func schemaName(t reflect.Type, hint string) string {
	name := huma.DefaultSchemaNamer(t, hint)
	switch {
	case t == reflect.TypeFor[vpn.Problem]():
		return "FieldProblem"
	case t.PkgPath() == reflect.TypeFor[api.Gateway]().PkgPath() &&
		(t == reflect.TypeFor[api.Certificate]() || isRow(t)):
		return name + "Row"
	}
	return name
}

// isRow tells whether a type is a record of a noun as lists show it: it is named like the record.
func isRow(t reflect.Type) bool {
	return slices.ContainsFunc(
		api.Nouns,
		func(n api.Noun) bool { return n.Record.Name() == t.Name() },
	)
}

// Server is an HTTP server with the time-outs that a public service needs.
func Server(handler http.Handler, log *slog.Logger) *http.Server {
	return &http.Server{
		Handler:           handler,
		ReadHeaderTimeout: readTime,
		ReadTimeout:       requestTime,
		WriteTimeout:      requestTime + readTime,
		IdleTimeout:       idleTime,
		MaxHeaderBytes:    maxHeader,
		ErrorLog:          slog.NewLogLogger(log.Handler(), slog.LevelWarn),
	}
}

// operation fills in what all operations share.
func operation(method, path, id, summary, tag string) huma.Operation {
	role := service.RoleIssuer
	if method == http.MethodGet {
		role = service.RoleAuditor
	}
	return huma.Operation{
		Metadata:     map[string]any{roleNeeded: role},
		Method:       method,
		Path:         "/api/v1" + path,
		OperationID:  id,
		Summary:      summary,
		Tags:         []string{tag},
		Security:     []map[string][]string{{"token": {}}, {"cookie": {}}},
		MaxBodyBytes: 1 << 20,
	}
}

// by says which role an operation wants, where it is not the usual one: an auditor's for what is
// read, an issuer's for what is changed.
func by(role string, op huma.Operation) huma.Operation {
	op.Metadata = map[string]any{roleNeeded: role}
	return op
}

// handle registers an operation whose answer is nothing but its body.
func handle[In, T any](a *handlers, op huma.Operation, do func(context.Context, *In) (T, error)) {
	register(a, op, func(ctx context.Context, in *In) (*body[T], error) {
		out, err := do(ctx, in)
		return &body[T]{out}, err
	})
}

// quiet registers an operation that answers with nothing.
func quiet[In any](a *handlers, op huma.Operation, do func(context.Context, *In) error) {
	op.DefaultStatus = http.StatusNoContent
	register(a, op, func(ctx context.Context, in *In) (*none, error) {
		return nil, do(ctx, in)
	})
}

// items makes a list the body of an answer.
func items[T any](list []T, err error) (api.Items[T], error) {
	return api.Items[T]{Items: list}, err
}

// register registers an operation whose handler speaks the service's errors.
func register[In, Out any](
	a *handlers,
	op huma.Operation,
	do func(context.Context, *In) (*Out, error),
) {
	if op.MaxBodyBytes > maxBody {
		a.uploads[op.Path] = op.MaxBodyBytes
	}
	huma.Register(a.huma, op, func(ctx context.Context, in *In) (*Out, error) {
		out, err := do(ctx, in)
		if err != nil {
			return nil, a.answer(ctx, err)
		}
		return out, nil
	})
}

// body is an answer that is nothing but its body.
type body[T any] struct{ Body T }

// created is an answer that says where the new record is.
type created[T any] struct {
	Location string `header:"Location"`
	Body     T
}

// none is a request without anything in it.
type none struct{}
