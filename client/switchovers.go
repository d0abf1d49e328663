package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"wardicon/api"
)

func switchoverPath(id string) string { return "/switchovers/" + url.PathEscape(id) }

// PreviewSwitchover begins to compute what a draft means for every device.
func (c *Client) PreviewSwitchover(ctx context.Context, id string) (api.Job, error) {
	return post[api.Job](ctx, c, switchoverPath(id)+"/previews", nil)
}

// Phase is what a switchover is told to do; see the API's description of it.
type Phase struct {
	Phase   string `json:"phase"`
	Holders int    `json:"holders,omitempty"`
	Anyway  bool   `json:"anyway,omitempty"`
}

// Switch brings a switchover into another phase.
func (c *Client) Switch(ctx context.Context, id string, p Phase) (api.Switchover, error) {
	return post[api.Switchover](ctx, c, switchoverPath(id)+"/phases", p)
}

// SwitchoverBoard tells where a switchover stands.
func (c *Client) SwitchoverBoard(ctx context.Context, id string) (api.SwitchoverBoard, error) {
	return get[api.SwitchoverBoard](ctx, c, switchoverPath(id)+"/board", nil)
}

// SwitchoverDevices lists what a switchover means for devices.
func (c *Client) SwitchoverDevices(
	ctx context.Context,
	id string,
	q Query,
) (api.Page[api.SwitchoverStep], error) {
	return get[api.Page[api.SwitchoverStep]](ctx, c, switchoverPath(id)+"/devices", q.values())
}

// ConfirmSwitched notes that a device is known to have the new value.
func (c *Client) ConfirmSwitched(
	ctx context.Context,
	id, profileID string,
) (api.SwitchoverStep, error) {
	return post[api.SwitchoverStep](ctx, c,
		switchoverPath(id)+"/devices/"+url.PathEscape(profileID)+"/confirmation", nil)
}

// Calendar lists what expires or changes within some days.
func (c *Client) Calendar(ctx context.Context, days int) (api.Items[api.CalendarEntry], error) {
	return get[api.Items[api.CalendarEntry]](ctx, c, "/calendar",
		url.Values{"days": {strconv.Itoa(days)}})
}

// NewFeed makes the address of a calendar to subscribe to.
func (c *Client) NewFeed(ctx context.Context) (api.NewFeed, error) {
	return post[api.NewFeed](ctx, c, "/calendar/feed", nil)
}

// EndFeed takes that address away.
func (c *Client) EndFeed(ctx context.Context) error {
	return c.call(ctx, http.MethodDelete, "/calendar/feed", nil, nil, nil, nil)
}
