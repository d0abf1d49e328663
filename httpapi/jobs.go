package httpapi

import (
	"context"
	"net/http"

	"wardicon/api"
)

// jobs are work that takes long.
func (a *handlers) jobs() {
	handle(
		a,
		operation(http.MethodGet, "/jobs", "list-jobs", "List jobs, newest first", "jobs"),
		func(ctx context.Context, in *listInput) (api.Page[api.Job], error) {
			return a.svc.Jobs(ctx, in.query())
		},
	)
	handle(
		a,
		operation(http.MethodGet, "/jobs/{id}", "show-job", "Show the progress of a job", "jobs"),
		func(ctx context.Context, in *idInput) (api.Job, error) {
			return a.svc.Job(ctx, in.ID)
		},
	)
	handle(
		a,
		operation(
			http.MethodPost,
			"/jobs/{id}/cancellation",
			"cancel-job",
			"Cancel a running job; what it has done is kept",
			"jobs",
		),
		func(ctx context.Context, in *idInput) (api.Job, error) {
			return a.svc.Cancel(ctx, in.ID)
		},
	)
	undo := operation(http.MethodPost, "/jobs/{id}/undo", "undo-job",
		"Move the profiles that a job has moved back, as a job", "jobs")
	undo.DefaultStatus = http.StatusAccepted
	handle(a, undo, func(ctx context.Context, in *idInput) (api.Job, error) {
		return a.svc.Undo(ctx, in.ID)
	})
}
