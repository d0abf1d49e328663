package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/vpn"
)

// Handovers lists parcels on their way.
func (c *Client) Handovers(ctx context.Context, q Query) (page api.Page[api.Handover], err error) {
	err = c.call(ctx, http.MethodGet, "/handovers", q.values(), nil, nil, &page)
	return page, err
}

// handing is what is sent to hand over to a profile's person or to a group.
type handing struct {
	ProfileID string `json:"profile_id,omitempty"`
	Group     string `json:"group,omitempty"`
	api.HandoverRequest
}

// MakeHandover makes a link to the newest parcel of a profile.
func (c *Client) MakeHandover(ctx context.Context, profileID string, preference api.HandoverRequest) (made api.NewHandover, err error) {
	err = c.call(ctx, http.MethodPost, "/handovers", nil, nil, handing{profileID, "", preference}, &made)
	return made, err
}

// HandOverGroup begins to hand over to a group.
func (c *Client) HandOverGroup(ctx context.Context, group string, preference api.HandoverRequest) (j api.Job, err error) {
	err = c.call(ctx, http.MethodPost, "/handovers/batches", nil, nil, handing{"", group, preference}, &j)
	return j, err
}

// Slips reads the links or the passcodes of a batch.
func (c *Client) Slips(ctx context.Context, jobID, half string) (list api.Items[api.Slip], err error) {
	err = c.call(ctx, http.MethodPost, "/handovers/batches/"+url.PathEscape(jobID)+"/"+url.PathEscape(half), nil, nil, nil, &list)
	return list, err
}

// RecallHandover closes a link at once.
func (c *Client) RecallHandover(ctx context.Context, id string) (h api.Handover, err error) {
	err = c.call(ctx, http.MethodPost, "/handovers/"+url.PathEscape(id)+"/recall", nil, nil, nil, &h)
	return h, err
}

// Reissue closes a link and makes another one to the same profile.
func (c *Client) Reissue(ctx context.Context, id string, link check.Way) (made api.NewHandover, err error) {
	err = c.call(ctx, http.MethodPost, "/handovers/"+url.PathEscape(id)+"/reissue", nil, nil, map[string]any{"link": link}, &made)
	return made, err
}

// Archive has parcels put into an archive that is encrypted: those of one profile, or of a group's people.
func (c *Client) Archive(ctx context.Context, profileID, group string) (archive api.Archive, err error) {
	err = c.call(ctx, http.MethodPost, "/archives", nil, nil, map[string]any{"profile_id": profileID, "group": group}, &archive)
	return archive, err
}

// SeenConnections lists the gateways that a profile's device was seen through.
func (c *Client) SeenConnections(ctx context.Context, profileID string) (list api.Items[api.SeenConnection], err error) {
	err = c.call(ctx, http.MethodGet, "/profiles/"+url.PathEscape(profileID)+"/seen_connections", nil, nil, nil, &list)
	return list, err
}

// Whereami tells which address the service sees, and through which gateway.
func (c *Client) Whereami(ctx context.Context) (w api.Whereabouts, err error) {
	err = c.call(ctx, http.MethodGet, "/whereami", nil, nil, nil, &w)
	return w, err
}

// places are the paths of the nouns that can be offboarded.
var places = map[string]string{"person": "/people/", "device": "/devices/"}

// Holdings tells what a person or a device holds.
func (c *Client) Holdings(ctx context.Context, noun, id string, why vpn.OffboardReason) (h api.Holdings, err error) {
	err = c.call(ctx, http.MethodGet, places[noun]+url.PathEscape(id)+"/holdings", url.Values{"why": {string(why)}}, nil, nil, &h)
	return h, err
}

// Offboard closes links, takes certificates back and lists what people have to do.
func (c *Client) Offboard(ctx context.Context, noun, id string, why vpn.OffboardReason) (w api.Offboarding, err error) {
	err = c.call(ctx, http.MethodPost, places[noun]+url.PathEscape(id)+"/offboarding", nil, nil, map[string]any{"why": why}, &w)
	return w, err
}

// Offboardings lists who left and what was lost.
func (c *Client) Offboardings(ctx context.Context, q Query) (page api.Page[api.Offboarding], err error) {
	err = c.call(ctx, http.MethodGet, "/offboardings", q.values(), nil, nil, &page)
	return page, err
}

// TickItem says that an item of an offboarding is done, or is not after all. Items are counted from 0.
func (c *Client) TickItem(ctx context.Context, id string, item int, done bool) (w api.Offboarding, err error) {
	err = c.call(ctx, http.MethodPost, "/offboardings/"+url.PathEscape(id)+"/items/"+strconv.Itoa(item), nil, nil, map[string]any{"done": done}, &w)
	return w, err
}

// SumHandovers counts parcels on their way by state.
func (c *Client) SumHandovers(ctx context.Context) (list api.Items[api.HandoverSum], err error) {
	err = c.call(ctx, http.MethodGet, "/handovers/sums", nil, nil, nil, &list)
	return list, err
}
