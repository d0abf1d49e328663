package client

import (
	"context"
	"net/http"
	"net/url"

	"wardicon/api"
)

func webhook(id string) string { return "/webhooks/" + url.PathEscape(id) }

// Webhooks lists where others are told what happens.
func (c *Client) Webhooks(ctx context.Context) (api.Items[api.Webhook], error) {
	return get[api.Items[api.Webhook]](ctx, c, "/webhooks", nil)
}

// AddWebhook adds one once it has taken a test, unless untested; its key is shown once.
func (c *Client) AddWebhook(ctx context.Context, h api.Webhook, untested bool) (
	api.NewWebhook, error,
) {
	return post[api.NewWebhook](ctx, c, "/webhooks", map[string]any{
		"name": h.Name, "url": h.URL, "events": h.Events, "untested": untested,
	})
}

// ChangeWebhook changes what one is told of, and whether it is.
func (c *Client) ChangeWebhook(ctx context.Context, id string, events []string, disabled bool) (
	api.Webhook, error,
) {
	return ask[api.Webhook](ctx, c, http.MethodPut, webhook(id), nil, nil,
		map[string]any{"events": events, "disabled": disabled})
}

// RemoveWebhook removes one.
func (c *Client) RemoveWebhook(ctx context.Context, id string) error {
	return c.call(ctx, http.MethodDelete, webhook(id), nil, nil, nil, nil)
}

// TryWebhook calls one with a test.
func (c *Client) TryWebhook(ctx context.Context, id string) error {
	return c.call(ctx, http.MethodPost, webhook(id)+"/tries", nil, nil, nil, nil)
}

// WebhookCalls lists its last calls, the newest first.
func (c *Client) WebhookCalls(ctx context.Context, id string) (api.Items[api.WebhookCall], error) {
	return get[api.Items[api.WebhookCall]](ctx, c, webhook(id)+"/deliveries", nil)
}
