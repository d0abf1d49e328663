package client

import (
	"context"
	"net/http"
	"net/url"

	"wardicon/api"
)

// Approvals lists what operators want to do that takes two.
func (c *Client) Approvals(ctx context.Context) (api.Items[api.Approval], error) {
	return get[api.Items[api.Approval]](ctx, c, "/approvals", nil)
}

// Decide says yes or no to one.
func (c *Client) Decide(ctx context.Context, id string, granted bool) (api.Approval, error) {
	return ask[api.Approval](ctx, c, http.MethodPut, "/approvals/"+url.PathEscape(id)+"/decision", nil,
		nil, map[string]bool{"granted": granted})
}
