package httpapi

import (
	"context"
	"net/http"

	"wardicon/api"
	"wardicon/service"
)

type decisionInput struct {
	ID   string `path:"id" maxLength:"64" doc:"Identifier of the record"`
	Body struct {
		// Yes or no.
		Granted bool `json:"granted"`
	}
}

// approvals are the operations on what takes two operators.
func (a *handlers) approvals() {
	const tag = "operators"
	handle(a, operation(http.MethodGet, "/approvals", "list-approvals",
		"List what operators want to do that takes two, the newest first", tag),
		func(ctx context.Context, _ *none) (api.Items[api.Approval], error) {
			return items(a.svc.Approvals(ctx))
		})
	handle(a, confirming(by(service.RoleIssuer, operation(http.MethodPut, "/approvals/{id}/decision",
		"decide-approval", "Say yes or no to what another operator wants to do", tag))),
		func(ctx context.Context, in *decisionInput) (api.Approval, error) {
			return a.svc.Decide(ctx, in.ID, in.Body.Granted)
		})
}
