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
)

func problem(status int, kind, detail string) *api.Problem {
	return &api.Problem{
		Type:   "urn:wardicon:problem:" + kind,
		Title:  http.StatusText(status),
		Status: status,
		Detail: detail,
	}
}

// statuses are what errors of each kind answer with; all others are failures of the service.
var statuses = map[vpn.Kind]int{
	vpn.KindInvalid:    http.StatusUnprocessableEntity,
	vpn.KindNotFound:   http.StatusNotFound,
	vpn.KindChanged:    http.StatusPreconditionFailed,
	vpn.KindQuery:      http.StatusBadRequest,
	vpn.KindInUse:      http.StatusConflict,
	vpn.KindBlocked:    http.StatusConflict,
	vpn.KindNoRecord:   http.StatusForbidden,
	vpn.KindOnRecord:   http.StatusConflict,
	vpn.KindDamaged:    http.StatusInternalServerError,
	vpn.KindDiskFull:   http.StatusInsufficientStorage,
	vpn.KindLocked:     http.StatusServiceUnavailable,
	vpn.KindDisk:       http.StatusServiceUnavailable,
	vpn.KindToken:      http.StatusServiceUnavailable,
	vpn.KindTries:      http.StatusTooManyRequests,
	vpn.KindSignIn:     http.StatusUnauthorized,
	vpn.KindCode:       http.StatusUnauthorized,
	vpn.KindPasskey:    http.StatusUnauthorized,
	vpn.KindRole:       http.StatusForbidden,
	vpn.KindConfirm:    http.StatusForbidden,
	vpn.KindApproval:   http.StatusForbidden,
	vpn.KindMustChange: http.StatusForbidden,
	vpn.KindSetUpDone:  http.StatusConflict,
	vpn.KindExpired:    http.StatusNotFound,
}

// answer turns an error of the service into a problem. What is not known is logged and
// told as little as possible.
func (a *handlers) answer(ctx context.Context, err error) error {
	var known *api.Problem
	var kinded interface {
		error
		Kind() vpn.Kind
	}
	switch {
	case err == nil:
		return nil
	case errors.As(err, &known):
		return identify(ctx, known)
	case errors.As(err, &kinded):
		p := problem(statuses[kinded.Kind()], string(kinded.Kind()), kinded.Error())
		switch e := kinded.(type) {
		case *vpn.Problems:
			p.Detail, p.Errors = "the "+e.Object+" has invalid values; nothing was stored", e.List
		case *service.BlockedError:
			p.Findings = e.Findings
		}
		if p.Status >= http.StatusInternalServerError {
			a.log.ErrorContext(
				ctx,
				"stored data cannot be used",
				"request",
				middleware.GetReqID(ctx),
				slog.Any("error", err),
			)
		}
		return identify(ctx, p)
	case errors.Is(err, context.DeadlineExceeded):
		return identify(
			ctx,
			problem(
				http.StatusServiceUnavailable,
				"too-slow",
				"the request took too long; request less, or try again later",
			),
		)
	case errors.Is(err, context.Canceled):
		return identify(ctx, problem(499, "canceled", "the caller went away"))
	}
	a.log.ErrorContext(
		ctx,
		"request failed",
		"request",
		middleware.GetReqID(ctx),
		slog.Any("error", err),
	)
	return identify(
		ctx,
		problem(
			http.StatusInternalServerError,
			"internal",
			"the service failed; see its log for this request",
		),
	)
}

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
	kind := map[int]string{
		400: "malformed",
		413: "too-large",
		415: "media-type",
		422: "invalid",
	}[status]
	if kind == "" {
		kind = strings.ReplaceAll(strings.ToLower(http.StatusText(status)), " ", "-")
	}
	p := problem(status, kind, message)
	for _, err := range errs {
		var detail huma.ErrorDetailer
		if errors.As(err, &detail) {
			p.Errors = append(p.Errors, fieldProblem(detail.ErrorDetail()))
		} else if err != nil {
			p.Errors = append(
				p.Errors,
				vpn.Problem{
					Found:    "something that cannot be read",
					Expected: "a well-formed request",
				},
			)
		}
	}
	return identify(ctx, p)
}

// secretField tells the fields whose value must not come back in an error: secrets, and
// what stands in the place of a part that holds one.
var secretField = regexp.MustCompile(
	`(psk|password|old|passphrase|again|code|secret|key|file)$|^/offers`,
)

func fieldProblem(d *huma.ErrorDetail) vpn.Problem {
	pointer := pointerOf(d.Location)
	p := vpn.Problem{
		Pointer:  pointer,
		Found:    kindOf(d.Value),
		Expected: strings.TrimPrefix(d.Message, "expected "),
	}
	switch v := d.Value.(type) {
	case string, float64, bool:
		if text := fmt.Sprintf("%#v", v); !secretField.MatchString(pointer) && len(text) < 80 {
			p.Found = text
		}
	}
	switch {
	case d.Message == "unexpected property":
		p.Found, p.Expected, p.Fix =
			"a field that is not known", "only fields of the record", "check the spelling or "+
				"leave it out"
	case strings.HasPrefix(d.Message, "expected required property"):
		name := strings.TrimSuffix(
			strings.TrimPrefix(d.Message, "expected required property "),
			" to be present",
		)
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
