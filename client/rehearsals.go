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

// RehearseSample begins rehearsals of a sample of the profiles of a gateway or a pattern.
func (c *Client) RehearseSample(
	ctx context.Context,
	noun, id string,
) (api.RehearsalSample, error) {
	return post[api.RehearsalSample](ctx, c, "/"+noun+"s/"+url.PathEscape(id)+"/rehearsals", nil)
}

// RehearseOffers begins rehearsals of a profile by offers of its gateway; all where none is named.
func (c *Client) RehearseOffers(
	ctx context.Context,
	profileID string,
	in api.OfferRehearsals,
) (api.RehearsalSample, error) {
	return post[api.RehearsalSample](ctx, c,
		"/profiles/"+url.PathEscape(profileID)+"/offer-rehearsals", in)
}

// RehearsalMatrix is the last rehearsal of each gateway of a page, by protocol and platform.
func (c *Client) RehearsalMatrix(ctx context.Context, q Query) (api.RehearsalMatrix, error) {
	return get[api.RehearsalMatrix](ctx, c, "/rehearsal-matrix", q.values())
}

// ReportRehearsal has the service keep a rehearsal that was made elsewhere.
func (c *Client) ReportRehearsal(
	ctx context.Context,
	profileID string,
	in api.ReportedRehearsal,
) (api.Rehearsal, error) {
	return post[api.Rehearsal](ctx, c,
		"/profiles/"+url.PathEscape(profileID)+"/rehearsal-reports", in)
}
