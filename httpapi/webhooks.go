package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"wardicon/api"
	"wardicon/service"
)

type webhookInput struct {
	Body struct {
		api.Webhook
		// Add it without a test.
		Untested bool `json:"untested" required:"false"`
	}
}

type webhookChange struct {
	ID   string `path:"id" maxLength:"64" doc:"Identifier of the record"`
	Body struct {
		// Events that it receives.
		Events []string `json:"events" minItems:"1"`
		// Nothing is sent to it.
		Disabled bool `json:"disabled"`
	}
}

// webhooks are the operations on what others are told of what happens.
func (a *handlers) webhooks() {
	const tag = "webhooks"
	owner := func(method, path, id, summary string) huma.Operation {
		return by(service.RoleOwner, operation(method, path, id, summary, tag))
	}
	handle(a, owner(http.MethodGet, "/webhooks", "list-webhooks",
		"List webhooks (owners only)"),
		func(ctx context.Context, _ *none) (api.Items[api.Webhook], error) {
			return items(a.svc.Webhooks(ctx))
		})
	add := confirming(owner(http.MethodPost, "/webhooks", "add-webhook",
		"Add a webhook once it has accepted a test; its signing key is shown once (owners only)"))
	add.DefaultStatus = http.StatusCreated
	handle(a, add, func(ctx context.Context, in *webhookInput) (api.NewWebhook, error) {
		return a.svc.AddWebhook(ctx, in.Body.Webhook, in.Body.Untested)
	})
	handle(a, owner(http.MethodPut, "/webhooks/{id}", "change-webhook",
		"Change the events of a webhook (owners only)"),
		func(ctx context.Context, in *webhookChange) (api.Webhook, error) {
			return a.svc.ChangeWebhook(ctx, in.ID, in.Body.Events, in.Body.Disabled)
		})
	quiet(a, owner(http.MethodDelete, "/webhooks/{id}", "remove-webhook",
		"Remove a webhook (owners only)"),
		func(ctx context.Context, in *idInput) error { return a.svc.RemoveWebhook(ctx, in.ID) })
	quiet(a, owner(http.MethodPost, "/webhooks/{id}/tries", "try-webhook",
		"Send a webhook a test event (owners only)"),
		func(ctx context.Context, in *idInput) error { return a.svc.TryWebhook(ctx, in.ID) })
	handle(a, owner(http.MethodGet, "/webhooks/{id}/deliveries", "list-webhook-deliveries",
		"List the last deliveries of a webhook, newest first (owners only)"),
		func(ctx context.Context, in *idInput) (api.Items[api.WebhookCall], error) {
			return items(a.svc.WebhookCalls(ctx, in.ID))
		})
}
