package client

import (
	"context"
	"net/url"

	"wardicon/api"
)

// Rehearse begins a rehearsal of a profile's newest parcel.
func (c *Client) Rehearse(
	ctx context.Context,
	profileID string,
	in api.NewRehearsal,
) (api.Rehearsal, error) {
	body := Patch{"again": in.Again}
	if !in.Password.IsZero() {
		body["password"] = in.Password.Reveal()
	}
	return post[api.Rehearsal](ctx, c, "/profiles/"+url.PathEscape(profileID)+"/rehearsals", body)
}

// Rehearsals lists rehearsals.
func (c *Client) Rehearsals(ctx context.Context, q Query) (api.Page[api.Rehearsal], error) {
	return get[api.Page[api.Rehearsal]](ctx, c, "/rehearsals", q.values())
}

// Rehearsal reads one.
func (c *Client) Rehearsal(ctx context.Context, id string) (api.Rehearsal, error) {
	return get[api.Rehearsal](ctx, c, "/rehearsals/"+url.PathEscape(id), nil)
}
