package client

import (
	"context"
	"net/url"
	"strconv"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/vpn"
)

// Handovers lists parcels on their way.
func (c *Client) Handovers(ctx context.Context, q Query) (api.Page[api.Handover], error) {
	return get[api.Page[api.Handover]](ctx, c, "/handovers", q.values())
}

// handing is what is sent to hand over to a profile's person or to a group.
type handing struct {
	ProfileID string `json:"profile_id,omitempty"`
	Group     string `json:"group,omitempty"`
	api.HandoverRequest
}

// MakeHandover makes a link to the newest parcel of a profile.
func (c *Client) MakeHandover(
	ctx context.Context,
	profileID string,
	preference api.HandoverRequest,
) (api.NewHandover, error) {
	return post[api.NewHandover](ctx, c, "/handovers", handing{profileID, "", preference})
}

// HandOverGroup begins to hand over to a group.
func (c *Client) HandOverGroup(
	ctx context.Context,
	group string,
	preference api.HandoverRequest,
) (api.Job, error) {
	return post[api.Job](ctx, c, "/handovers/batches", handing{"", group, preference})
}

// Slips reads the links or the passcodes of a batch.
func (c *Client) Slips(ctx context.Context, jobID, half string) (api.Items[api.Slip], error) {
	return post[api.Items[api.Slip]](
		ctx,
		c,
		"/handovers/batches/"+url.PathEscape(jobID)+"/"+url.PathEscape(half),
		nil,
	)
}

// RecallHandover closes a link at once.
func (c *Client) RecallHandover(ctx context.Context, id string) (api.Handover, error) {
	return post[api.Handover](ctx, c, "/handovers/"+url.PathEscape(id)+"/recall", nil)
}

// Reissue closes a link and makes another one to the same profile.
func (c *Client) Reissue(ctx context.Context, id string, link check.Way) (api.NewHandover, error) {
	return post[api.NewHandover](
		ctx,
		c,
		"/handovers/"+url.PathEscape(id)+"/reissue",
		map[string]any{"link": link},
	)
}

// Archive has parcels put into an archive that is encrypted: those of one profile, or of a group's
// people.
func (c *Client) Archive(ctx context.Context, profileID, group string) (api.Archive, error) {
	return post[api.Archive](
		ctx,
		c,
		"/archives",
		map[string]any{"profile_id": profileID, "group": group},
	)
}

// SeenConnections lists the gateways that a profile's device was seen through.
func (c *Client) SeenConnections(
	ctx context.Context,
	profileID string,
) (api.Items[api.SeenConnection], error) {
	return get[api.Items[api.SeenConnection]](
		ctx,
		c,
		"/profiles/"+url.PathEscape(profileID)+"/seen-connections",
		nil,
	)
}

// Whereami tells which address the service sees, and through which gateway.
func (c *Client) Whereami(ctx context.Context) (api.Whereabouts, error) {
	return get[api.Whereabouts](ctx, c, "/caller", nil)
}

// places are the paths of the nouns that can be offboarded.
var places = map[string]string{"person": "/people/", "device": "/devices/"}

// Holdings tells what a person or a device holds.
func (c *Client) Holdings(
	ctx context.Context,
	noun, id string,
	why vpn.OffboardReason,
) (api.Holdings, error) {
	return get[api.Holdings](
		ctx,
		c,
		places[noun]+url.PathEscape(id)+"/holdings",
		url.Values{"why": {string(why)}},
	)
}

// Offboard closes links, takes certificates back and lists what people have to do.
func (c *Client) Offboard(
	ctx context.Context,
	noun, id string,
	why vpn.OffboardReason,
) (api.Offboarding, error) {
	return post[api.Offboarding](
		ctx,
		c,
		places[noun]+url.PathEscape(id)+"/offboarding",
		map[string]any{"why": why},
	)
}

// Offboardings lists who left and what was lost.
func (c *Client) Offboardings(ctx context.Context, q Query) (api.Page[api.Offboarding], error) {
	return get[api.Page[api.Offboarding]](ctx, c, "/offboardings", q.values())
}

// TickItem says that an item of an offboarding is done, or is not after all. Items are counted from
// 0.
func (c *Client) TickItem(
	ctx context.Context,
	id string,
	item int,
	done bool,
) (api.Offboarding, error) {
	return post[api.Offboarding](
		ctx,
		c,
		"/offboardings/"+url.PathEscape(id)+"/items/"+strconv.Itoa(item),
		map[string]any{"done": done},
	)
}

// SumHandovers counts parcels on their way by state.
func (c *Client) SumHandovers(ctx context.Context) (api.Items[api.HandoverSum], error) {
	return get[api.Items[api.HandoverSum]](ctx, c, "/handovers/sums", nil)
}
