package httpapi

import (
	"context"
	"net/http"

	"wardicon/api"
)

type selectionInput struct {
	Body api.Selection
}

// selections are the actions on many records at once.
func (a *handlers) selections() {
	act := operation(http.MethodPost, "/selections", "act-on-selection",
		"Build, hand over, rehearse, move or offboard many records as a job", "jobs")
	act.DefaultStatus = http.StatusAccepted
	handle(a, act, func(ctx context.Context, in *selectionInput) (api.Job, error) {
		return a.svc.Act(ctx, in.Body)
	})
}
