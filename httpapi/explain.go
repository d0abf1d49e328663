package httpapi

import (
	"context"
	"net/http"

	"wardicon/api"
	"wardicon/core/explain"
	"wardicon/service"
)

type explainInput struct {
	Body struct {
		// A code such as 809, or lines of a log.
		Text string `json:"text,omitempty" maxLength:"1000000"`
		// A log that was parsed elsewhere, instead of text.
		Reading *explain.Reading `json:"reading,omitempty"`
		// Profile concerned: causes are ranked by what is on record.
		ProfileID string `json:"profile_id,omitempty" maxLength:"64"`
		// Device concerned, if it has one profile.
		DeviceID string `json:"device_id,omitempty" maxLength:"64"`
	}
}

// explain is the operation that tells what lies behind a failure.
func (a *handlers) explain() {
	handle(
		a,
		by(
			service.RoleAuditor,
			operation(
				http.MethodPost,
				"/explanations",
				"explain-failure",
				"Explain an error code or a log; nothing is stored",
				"findings",
			),
		),
		func(ctx context.Context, in *explainInput) (explain.Explanation, error) {
			return a.svc.Explain(
				ctx,
				service.Question{
					Text:      in.Body.Text,
					Reading:   in.Body.Reading,
					ProfileID: in.Body.ProfileID,
					DeviceID:  in.Body.DeviceID,
				},
			)
		},
	)
	handle(
		a,
		operation(
			http.MethodGet,
			"/reports",
			"list-reports",
			"List problem reports, newest first",
			"findings",
		),
		func(ctx context.Context, in *listInput) (api.Page[api.Report], error) {
			return a.svc.Reports(ctx, in.query())
		},
	)
	quiet(a, operation(
		http.MethodPost,
		"/reports/{id}/closure",
		"close-report",
		"Close a problem report",
		"findings",
	), func(ctx context.Context, in *idInput) error {
		return a.svc.CloseReport(ctx, in.ID)
	})
}
