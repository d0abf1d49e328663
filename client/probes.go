package client

import (
	"context"
	"net/http"
	"net/url"

	"wardicon/core/view"
)

// Probe asks a gateway on record what it takes by IKEv2; port 0 is the usual one.
func (c *Client) Probe(ctx context.Context, gatewayID string, port int) (p view.Probe, err error) {
	err = c.call(ctx, http.MethodPost, "/gateways/"+url.PathEscape(gatewayID)+"/probe", nil, nil, map[string]any{"port": port}, &p)
	return p, err
}
