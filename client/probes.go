package client

import (
	"context"
	"net/http"
	"net/url"

	"wardicon/api"
	"wardicon/core/drift"
)

// Probe begins a job that asks a gateway on record what it answers; without an identifier, every gateway.
func (c *Client) Probe(ctx context.Context, gatewayID string) (j api.Job, err error) {
	path := "/gateways/probe"
	if gatewayID != "" {
		path = "/gateways/" + url.PathEscape(gatewayID) + "/probe"
	}
	err = c.call(ctx, http.MethodPost, path, nil, nil, struct{}{}, &j)
	return j, err
}

// ProbeAddress asks an address that is on no record, which only owners may.
func (c *Client) ProbeAddress(ctx context.Context, address string, offRecord bool) (p drift.Probe, err error) {
	err = c.call(ctx, http.MethodPost, "/probes", nil, nil, map[string]any{"address": address, "off_record": offRecord}, &p)
	return p, err
}

// Probes lists what gateways answered.
func (c *Client) Probes(ctx context.Context, q Query) (page api.Page[drift.ProbeRow], err error) {
	err = c.call(ctx, http.MethodGet, "/probes", q.values(), nil, nil, &page)
	return page, err
}

// ProbeOf reads one probe of a gateway; latest is the newest.
func (c *Client) ProbeOf(ctx context.Context, gatewayID, id string) (p drift.Probe, err error) {
	err = c.call(ctx, http.MethodGet, "/gateways/"+url.PathEscape(gatewayID)+"/probes/"+url.PathEscape(id), nil, nil, nil, &p)
	return p, err
}

// TakeOver lets a gateway's record take over what a probe saw in some of its differences.
func (c *Client) TakeOver(ctx context.Context, gatewayID, id string, which []int) (g api.Gateway, err error) {
	err = c.call(ctx, http.MethodPost, "/gateways/"+url.PathEscape(gatewayID)+"/probes/"+url.PathEscape(id)+"/take", nil, nil, map[string]any{"which": which}, &g)
	return g, err
}

// AnswerTimes sums up how fast a gateway answered, by place.
func (c *Client) AnswerTimes(ctx context.Context, gatewayID string) (list []api.MeasuredTimes, err error) {
	err = c.call(ctx, http.MethodGet, "/gateways/"+url.PathEscape(gatewayID)+"/answer-times", nil, nil, nil, &list)
	return list, err
}

// AddAnswerTime notes how fast a gateway answered from a place.
func (c *Client) AddAnswerTime(ctx context.Context, t api.MeasuredTime) error {
	return c.call(ctx, http.MethodPost, "/gateways/"+url.PathEscape(t.GatewayID)+"/answer-times", nil, nil, map[string]any{"source": t.Source, "place": t.Place, "milliseconds": t.Milliseconds}, nil)
}
