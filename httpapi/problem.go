package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"regexp"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5/middleware"

	"wardicon/api"
	"wardicon/core/vpn"
	"wardicon/service"
	"wardicon/store"
)

func problem(status int, kind, detail string) *api.Problem {
	return &api.Problem{Type: "urn:wardicon:problem:" + kind, Title: http.StatusText(status), Status: status, Detail: detail}
}

// answer turns an error of the service into a problem. What is not known is logged and
// told as little as possible.
func (a *handlers) answer(ctx context.Context, err error) error {
	var (
		problems *vpn.Problems
		known    *api.Problem
		none     *store.NotFoundError
		conflict *store.ConflictError
		query    *store.QueryError
		used     *service.InUseError
		blocked  *service.BlockedError
		busy     *service.BusyError
		stranger *service.StrangerError
		onRecord *service.OnRecordError
		damaged  *store.DamagedError
		fault    *store.FaultError
		p        *api.Problem
	)
	switch {
	case err == nil:
		return nil
	case errors.As(err, &known):
		p = known
	case errors.As(err, &problems):
		p = problem(http.StatusUnprocessableEntity, "invalid", "the "+problems.Object+" has invalid values; nothing was stored")
		p.Errors = problems.List
	case errors.As(err, &none):
		p = problem(http.StatusNotFound, "not-found", none.Error())
	case errors.As(err, &conflict):
		p = problem(http.StatusPreconditionFailed, "changed-meanwhile", conflict.Error())
	case errors.As(err, &query):
		p = problem(http.StatusBadRequest, "query", query.Error())
	case errors.As(err, &used):
		p = problem(http.StatusConflict, "in-use", used.Error())
	case errors.As(err, &blocked):
		p = problem(http.StatusConflict, "blocked", blocked.Error())
		p.Findings = blocked.Findings
	case errors.As(err, &stranger):
		p = problem(http.StatusForbidden, "not-on-record", stranger.Error())
	case errors.As(err, &onRecord):
		p = problem(http.StatusConflict, "on-record", onRecord.Error())
	case errors.As(err, &damaged):
		a.log.ErrorContext(ctx, "stored data is damaged", "request", middleware.GetReqID(ctx), slog.Any("error", err))
		p = problem(http.StatusInternalServerError, "damaged", damaged.Error())
	case errors.As(err, &fault):
		a.log.ErrorContext(ctx, "the database cannot be worked on", "request", middleware.GetReqID(ctx), slog.Any("error", err))
		p = problem(faultStatus[fault.Why], "storage-"+fault.Why, fault.Error())
	case errors.Is(err, context.DeadlineExceeded):
		p = problem(http.StatusServiceUnavailable, "too-slow", "the request took too long; request less, or try again later")
	case errors.As(err, &busy):
		p = problem(http.StatusTooManyRequests, "too-many-tries", busy.Error())
	case errors.Is(err, service.ErrSignIn), errors.Is(err, service.ErrNoSession), errors.Is(err, service.ErrSetUpCode):
		p = problem(http.StatusUnauthorized, "sign-in", err.Error())
	case errors.Is(err, service.ErrRole), errors.Is(err, service.ErrOwn), errors.Is(err, errRole), errors.Is(err, service.ErrElsewhere), errors.Is(err, service.ErrProgram):
		p = problem(http.StatusForbidden, "role", err.Error())
	case errors.Is(err, service.ErrCodeWanted):
		p = problem(http.StatusUnauthorized, "code-wanted", err.Error())
	case errors.Is(err, service.ErrConfirm):
		p = problem(http.StatusForbidden, "confirm", err.Error())
	case errors.Is(err, service.ErrMustChange), errors.Is(err, service.ErrMustEnrol):
		p = problem(http.StatusForbidden, "must-change", err.Error())
	case errors.Is(err, service.ErrSetUpDone):
		p = problem(http.StatusConflict, "set-up-done", err.Error())
	case errors.Is(err, context.Canceled):
		p = problem(499, "canceled", "the caller went away")
	default:
		a.log.ErrorContext(ctx, "request failed", "request", middleware.GetReqID(ctx), slog.Any("error", err))
		p = problem(http.StatusInternalServerError, "internal", "the service failed; see its log for this request")
	}
	return identify(ctx, p)
}

// faultStatus is what a fault of the storage answers with.
var faultStatus = map[string]int{store.FaultFull: http.StatusInsufficientStorage, store.FaultLocked: http.StatusServiceUnavailable, store.FaultDevice: http.StatusServiceUnavailable}

// identify names the request in a problem, as the log does.
func identify(ctx context.Context, p *api.Problem) *api.Problem {
	if id := middleware.GetReqID(ctx); id != "" {
		p.Instance = "urn:wardicon:request:" + id
	}
	return p
}

// frameworkProblem words what the framework itself refuses. It never tells a value
// from the body: that could be a secret.
func frameworkProblem(ctx context.Context, status int, message string, errs ...error) *api.Problem {
	kind := map[int]string{400: "malformed", 413: "too-large", 415: "media-type", 422: "invalid"}[status]
	if kind == "" {
		kind = strings.ReplaceAll(strings.ToLower(http.StatusText(status)), " ", "-")
	}
	p := problem(status, kind, message)
	for _, err := range errs {
		var detail huma.ErrorDetailer
		if errors.As(err, &detail) {
			p.Errors = append(p.Errors, fieldProblem(detail.ErrorDetail()))
		} else if err != nil {
			p.Errors = append(p.Errors, vpn.Problem{Found: "something that cannot be read", Expected: "a well-formed request"})
		}
	}
	return identify(ctx, p)
}

// secretField tells the fields whose value must not come back in an error: secrets, and
// what stands in the place of a part that holds one.
var secretField = regexp.MustCompile(`(psk|password|old|passphrase|again|code|secret|key|file)$|^/offers`)

func fieldProblem(d *huma.ErrorDetail) vpn.Problem {
	pointer := pointerOf(d.Location)
	p := vpn.Problem{Pointer: pointer, Found: kindOf(d.Value), Expected: strings.TrimPrefix(d.Message, "expected ")}
	switch v := d.Value.(type) {
	case string, float64, bool:
		if text := fmt.Sprintf("%#v", v); !secretField.MatchString(pointer) && len(text) < 80 {
			p.Found = text
		}
	}
	switch {
	case d.Message == "unexpected property":
		p.Found, p.Expected, p.Fix = "a field that is not known", "only fields of the record", "check the spelling or leave it out"
	case strings.HasPrefix(d.Message, "expected required property"):
		name := strings.TrimSuffix(strings.TrimPrefix(d.Message, "expected required property "), " to be present")
		p.Pointer, p.Found, p.Expected, p.Fix = pointer+"/"+name, "nothing", "a value", "fill it in"
	}
	return p
}

func kindOf(v any) string {
	switch v.(type) {
	case nil:
		return "nothing"
	case string:
		return "a string"
	case float64, json.Number:
		return "a number"
	case bool:
		return "true or false"
	case []any:
		return "a list"
	}
	return "an object"
}

var index = regexp.MustCompile(`\[(\d+)\]`)

// pointerOf turns body.offers.l2tp.ppp[0] into /offers/l2tp/ppp/0.
func pointerOf(location string) string {
	location = index.ReplaceAllString(location, ".$1")
	parts := strings.FieldsFunc(location, func(r rune) bool { return r == '.' })
	if len(parts) > 0 && slices.Contains([]string{"body", "query", "path", "header"}, parts[0]) {
		parts = parts[1:]
	}
	if len(parts) == 0 {
		return ""
	}
	return "/" + strings.Join(parts, "/")
}
