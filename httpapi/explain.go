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
		Text      string           `json:"text,omitempty" maxLength:"1000000" doc:"A code such as 809, or lines of a log"`
		Reading   *explain.Reading `json:"reading,omitempty" doc:"A log that was parsed elsewhere, instead of text"`
		ProfileID string           `json:"profile_id,omitempty" maxLength:"64" doc:"Profile concerned: causes are ranked by what is on record"`
		DeviceID  string           `json:"device_id,omitempty" maxLength:"64" doc:"Device concerned, if it has one profile"`
	}
}

// explain is the operation that tells what lies behind a failure.
func (a *handlers) explain() {
	handle(a, by(service.RoleAuditor, operation(http.MethodPost, "/explain", "explain-failure", "Explain an error code or a log; nothing is stored", "findings")), func(ctx context.Context, in *explainInput) (*body[explain.Explanation], error) {
		x, err := a.svc.Explain(ctx, service.Question{Text: in.Body.Text, Reading: in.Body.Reading, ProfileID: in.Body.ProfileID, DeviceID: in.Body.DeviceID})
		return &body[explain.Explanation]{x}, err
	})
	handle(a, operation(http.MethodGet, "/reports", "list-reports", "List problem reports, newest first", "findings"), func(ctx context.Context, in *listInput) (*body[api.Page[api.Report]], error) {
		page, err := a.svc.Reports(ctx, in.query())
		return &body[api.Page[api.Report]]{page}, err
	})
	done := operation(http.MethodPost, "/reports/{id}/close", "close-report", "Close a problem report", "findings")
	done.DefaultStatus = http.StatusNoContent
	handle(a, done, func(ctx context.Context, in *idInput) (*none, error) { return nil, a.svc.CloseReport(ctx, in.ID) })
}
