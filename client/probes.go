package client

import (
	"context"
	"net/http"
	"net/url"

	"wardicon/api"
	"wardicon/core/drift"
)

// Probe begins a job that asks a gateway on record what it answers; without an identifier, every
// gateway.
func (c *Client) Probe(ctx context.Context, gatewayID string) (api.Job, error) {
	path := "/gateway-probes"
	if gatewayID != "" {
		path = "/gateways/" + url.PathEscape(gatewayID) + "/probes"
	}
	return post[api.Job](ctx, c, path, struct{}{})
}

// ProbeAddress asks an address that is on no record, which only owners may.
func (c *Client) ProbeAddress(
	ctx context.Context,
	address string,
	offRecord bool,
) (drift.Probe, error) {
	return post[drift.Probe](
		ctx,
		c,
		"/probes",
		map[string]any{"address": address, "off_record": offRecord},
	)
}

// Probes lists what gateways answered.
func (c *Client) Probes(ctx context.Context, q Query) (api.Page[drift.ProbeRow], error) {
	return get[api.Page[drift.ProbeRow]](ctx, c, "/probes", q.values())
}

// ProbeOf reads one probe of a gateway; latest is the newest.
func (c *Client) ProbeOf(ctx context.Context, gatewayID, id string) (drift.Probe, error) {
	return get[drift.Probe](
		ctx,
		c,
		"/gateways/"+url.PathEscape(gatewayID)+"/probes/"+url.PathEscape(id),
		nil,
	)
}

// TakeOver lets a gateway's record take over what a probe saw in some of its differences.
func (c *Client) TakeOver(
	ctx context.Context,
	gatewayID, id string,
	which []int,
) (api.Gateway, error) {
	return post[api.Gateway](
		ctx,
		c,
		"/gateways/"+url.PathEscape(gatewayID)+"/probes/"+url.PathEscape(id)+"/adoption",
		map[string]any{"which": which},
	)
}

// AnswerTimes sums up how fast a gateway answered, by place.
func (c *Client) AnswerTimes(ctx context.Context, gatewayID string) ([]api.MeasuredTimes, error) {
	return get[[]api.MeasuredTimes](
		ctx,
		c,
		"/gateways/"+url.PathEscape(gatewayID)+"/answer-times",
		nil,
	)
}

// AddAnswerTime notes how fast a gateway answered from a place.
func (c *Client) AddAnswerTime(ctx context.Context, t api.MeasuredTime) error {
	return c.call(
		ctx,
		http.MethodPost,
		"/gateways/"+url.PathEscape(t.GatewayID)+"/answer-times",
		nil,
		nil,
		map[string]any{"source": t.Source, "place": t.Place, "milliseconds": t.Milliseconds},
		nil,
	)
}
