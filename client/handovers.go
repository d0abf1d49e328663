package client

import (
	"context"
	"net/http"
	"net/url"

	"wardicon/core/view"
)

// Address is the address of the service.
func (c *Client) Address() string { return c.base }

// Handovers lists parcels on their way.
func (c *Client) Handovers(ctx context.Context, q Query) (page view.Page[view.Handover], err error) {
	err = c.call(ctx, http.MethodGet, "/handovers", q.values(), nil, nil, &page)
	return page, err
}

// MakeHandover makes a link to the newest parcel of a profile.
func (c *Client) MakeHandover(ctx context.Context, profileID string, days, openings int) (made view.NewHandover, err error) {
	err = c.call(ctx, http.MethodPost, "/handovers", nil, nil, map[string]any{"profile_id": profileID, "days": days, "openings": openings}, &made)
	return made, err
}

// RecallHandover closes a link at once.
func (c *Client) RecallHandover(ctx context.Context, id string) (h view.Handover, err error) {
	err = c.call(ctx, http.MethodPost, "/handovers/"+url.PathEscape(id)+"/recall", nil, nil, nil, &h)
	return h, err
}
