package client

import (
	"context"

	"wardicon/api"
)

// Act begins an action on many records.
func (c *Client) Act(ctx context.Context, in api.Selection) (api.Job, error) {
	return post[api.Job](ctx, c, "/selections", in)
}
