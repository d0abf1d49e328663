package client

import (
	"context"
	"net/http"
	"net/url"

	"wardicon/api"
)

func orderPath(gatewayID string) string {
	return "/gateways/" + url.PathEscape(gatewayID) + "/certificate-order"
}

// PlaceOrder has the ACME CA issue a gateway's certificate, and renew it.
func (c *Client) PlaceOrder(
	ctx context.Context,
	gatewayID string,
	o api.NewOrder,
) (api.Order, error) {
	return ask[api.Order](ctx, c, http.MethodPut, orderPath(gatewayID), nil, nil, o)
}

// Order shows how that of a gateway stands.
func (c *Client) Order(ctx context.Context, gatewayID string) (api.Order, error) {
	return get[api.Order](ctx, c, orderPath(gatewayID), nil)
}

// Orders lists all.
func (c *Client) Orders(ctx context.Context) (api.OrderList, error) {
	return get[api.OrderList](ctx, c, "/certificate-orders", nil)
}

// EndOrder ends renewing.
func (c *Client) EndOrder(ctx context.Context, gatewayID string) error {
	return c.call(ctx, http.MethodDelete, orderPath(gatewayID), nil, nil, nil, nil)
}
