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
		// Do not test whether it answers.
		Untested bool `json:"untested" required:"false"`
	}
}

type webhookChange struct {
	ID   string `path:"id" maxLength:"64" doc:"Identifier of the record"`
	Body struct {
		// What it is told of.
		Events []string `json:"events" minItems:"1"`
		// It is told nothing for now.
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
		"List where others are told what happens (owners only)"),
		func(ctx context.Context, _ *none) (api.Items[api.Webhook], error) {
			return items(a.svc.Webhooks(ctx))
		})
	add := confirming(owner(http.MethodPost, "/webhooks", "add-webhook",
		"Add a webhook once it has taken a test; its key is shown once (owners only)"))
	add.DefaultStatus = http.StatusCreated
	handle(a, add, func(ctx context.Context, in *webhookInput) (api.NewWebhook, error) {
		return a.svc.AddWebhook(ctx, in.Body.Webhook, in.Body.Untested)
	})
	handle(a, owner(http.MethodPut, "/webhooks/{id}", "change-webhook",
		"Change what a webhook is told of (owners only)"),
		func(ctx context.Context, in *webhookChange) (api.Webhook, error) {
			return a.svc.ChangeWebhook(ctx, in.ID, in.Body.Events, in.Body.Disabled)
		})
	quiet(a, owner(http.MethodDelete, "/webhooks/{id}", "remove-webhook",
		"Remove a webhook (owners only)"),
		func(ctx context.Context, in *idInput) error { return a.svc.RemoveWebhook(ctx, in.ID) })
	quiet(a, owner(http.MethodPost, "/webhooks/{id}/tries", "try-webhook",
		"Call a webhook with a test (owners only)"),
		func(ctx context.Context, in *idInput) error { return a.svc.TryWebhook(ctx, in.ID) })
	handle(a, owner(http.MethodGet, "/webhooks/{id}/calls", "list-webhook-calls",
		"List the last calls of a webhook, the newest first (owners only)"),
		func(ctx context.Context, in *idInput) (api.Items[api.WebhookCall], error) {
			return items(a.svc.WebhookCalls(ctx, in.ID))
		})
}
