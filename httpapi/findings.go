package httpapi

import (
	"context"
	"io"
	"mime/multipart"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/filecheck"
	"wardicon/core/format"
	"wardicon/core/vpn"
	"wardicon/service"
)

type sumsInput struct {
	By   string `query:"by" default:"rule" enum:"rule,gateway,person" doc:"What to count by"`
	Days int    `query:"days" default:"7" minimum:"1" maximum:"90" doc:"Days to look back"`
}

type ruleInput struct {
	Rule  string `path:"rule" maxLength:"64" doc:"Code of the rule"`
	Limit int    `query:"limit" default:"50" minimum:"1" maximum:"200" doc:"Rows at most"`
}

type severityInput struct {
	Rule string `path:"rule" maxLength:"64" doc:"Code of the rule"`
	Body struct {
		// error, warning, note, off, or empty for the rule's default.
		Severity vpn.Severity `json:"severity"`
	}
}

type overrideInput struct {
	ID   string `path:"id" maxLength:"64" doc:"Identifier of the record"`
	Rule string `path:"rule" maxLength:"64" doc:"Code of the rule"`
	Body struct {
		// Reason for the override.
		Reason string `json:"reason"`
		// Last day of the override; within a year.
		Until time.Time `json:"until"`
	}
}

type endInput struct {
	ID   string `path:"id" maxLength:"64" doc:"Identifier of the record"`
	Rule string `path:"rule" maxLength:"64" doc:"Code of the rule"`
}

// filesInput are files that were dropped.
type filesInput struct {
	For     string `query:"for" maxLength:"60" doc:"Platform and release that the files are for"`
	RawBody multipart.Form
}

type importInput struct {
	Person  string `query:"person" maxLength:"64" doc:"Person whose accounts are imported"`
	Device  string `query:"device" maxLength:"200" doc:"Name of the device with the certificate"`
	For     string `query:"for" maxLength:"60" doc:"Platform and release of a new device"`
	Keep    bool   `query:"keep" doc:"Add to the records; otherwise they are only shown"`
	RawBody multipart.Form
}

// maxDropped bounds what can be dropped at once, in bytes and files.
const (
	maxDropped = 32 << 20
	maxParts   = 200
)

func (a *handlers) findings() {
	handle(
		a,
		operation(http.MethodGet, "/findings", "list-findings", "List findings", "findings"),
		func(ctx context.Context, in *listInput) (api.Page[api.FleetFinding], error) {
			return a.svc.Findings(ctx, in.query())
		},
	)
	handle(
		a,
		operation(
			http.MethodGet,
			"/finding-sums",
			"sum-findings",
			"Count findings by rule, gateway or person, with how many are new and resolved",
			"findings",
		),
		func(ctx context.Context, in *sumsInput) (api.Items[api.FindingSum], error) {
			return items(a.svc.FindingSums(ctx, in.By, in.Days))
		},
	)
	handle(
		a,
		operation(http.MethodGet, "/rules", "list-rules", "List the rules of the checks", "facts"),
		func(ctx context.Context, _ *none) (api.Items[api.Rule], error) {
			return items(a.svc.Rules(ctx))
		},
	)
	handle(
		a,
		by(
			service.RoleOwner,
			operation(
				http.MethodPut,
				"/rules/{rule}/severity",
				"set-severity",
				"Set the severity of a rule",
				"facts",
			),
		),
		func(ctx context.Context, in *severityInput) (api.Rule, error) {
			return a.svc.SetSeverity(ctx, in.Rule, in.Body.Severity)
		},
	)
	handle(
		a,
		operation(
			http.MethodGet,
			"/rules/{rule}/fixes",
			"show-fixes",
			"Show the changes that would fix a rule's findings",
			"findings",
		),
		func(ctx context.Context, in *ruleInput) (api.Page[api.Fix], error) {
			return a.svc.Fixes(ctx, in.Rule, in.Limit)
		},
	)
	fix := operation(
		http.MethodPost,
		"/rules/{rule}/fixes",
		"fix-all",
		"Fix the findings of a rule automatically, as a job",
		"findings",
	)
	fix.DefaultStatus = http.StatusAccepted
	handle(a, fix, func(ctx context.Context, in *ruleInput) (api.Job, error) {
		return a.svc.FixAll(ctx, in.Rule)
	})
	handle(
		a,
		operation(
			http.MethodPut,
			"/profiles/{id}/overrides/{rule}",
			"override-error",
			"Override an error on one profile temporarily",
			"profiles",
		),
		func(ctx context.Context, in *overrideInput) (check.Override, error) {
			return a.svc.Override(ctx, in.ID, in.Rule, in.Body.Reason, in.Body.Until)
		},
	)
	register(
		a,
		operation(
			http.MethodDelete,
			"/profiles/{id}/overrides/{rule}",
			"end-override",
			"Remove an override",
			"profiles",
		),
		func(ctx context.Context, in *endInput) (*none, error) {
			return nil, a.svc.EndOverride(ctx, in.ID, in.Rule)
		},
	)

	drop := by(
		service.RoleAuditor,
		operation(
			http.MethodPost,
			"/file-checks",
			"check-files",
			"Check client files; they are not stored",
			"findings",
		),
	)
	drop.MaxBodyBytes = maxDropped
	handle(a, drop, func(ctx context.Context, in *filesInput) (zero api.Checked, err error) {
		files, err := dropped(in.RawBody)
		if err != nil {
			return zero, err
		}
		return a.svc.CheckFiles(ctx, files, in.For)
	})
	handle(
		a,
		operation(
			http.MethodPost,
			"/gateways/{id}/secret-comparisons",
			"compare-secret",
			"Compare a secret with a gateway's record; neither is shown",
			"gateways",
		),
		func(ctx context.Context, in *compareInput) (check.Compared, error) {
			return a.svc.Compare(ctx, in.ID, in.Body)
		},
	)
	bring := operation(
		http.MethodPost,
		"/imports",
		"import-files",
		"Show gateways, accounts and certificates in files that are not on record, and import "+
			"them on request",
		"findings",
	)
	bring.MaxBodyBytes = maxDropped
	handle(a, bring, func(ctx context.Context, in *importInput) (zero api.Imported, err error) {
		files, err := dropped(in.RawBody)
		if err != nil {
			return zero, err
		}
		return a.svc.Import(ctx, files, api.ImportFor{
			PersonID: in.Person, Device: in.Device, Release: in.For, Keep: in.Keep,
		})
	})
}

type compareInput struct {
	ID   string `path:"id" maxLength:"64" doc:"Identifier of the record"`
	Body api.Comparison
}

// dropped reads the files of a form, within bounds.
func dropped(form multipart.Form) ([]filecheck.File, error) {
	var files []filecheck.File
	for _, list := range form.File {
		for _, h := range list {
			if len(files) >= maxParts {
				return nil, &api.Problem{
					Type:   "about:blank",
					Title:  "Too many files",
					Status: http.StatusRequestEntityTooLarge,
					Detail: "found more than 200 files, expected at most 200; put them into an " +
						"archive",
				}
			}
			f, err := h.Open()
			if err != nil {
				return nil, err
			}
			data, err := io.ReadAll(io.LimitReader(f, format.MaxFile+1))
			_ = f.Close()
			if err != nil {
				return nil, err
			}
			files = append(files, filecheck.File{Name: h.Filename, Data: data, Asked: true})
		}
	}
	slices.SortFunc(files, func(a, b filecheck.File) int { return strings.Compare(a.Name, b.Name) })
	if len(files) == 0 {
		return nil, huma.Error422UnprocessableEntity(
			"found no file, expected at least one as a part of multipart/form-data",
		)
	}
	return files, nil
}
