package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"wardicon/api"
	"wardicon/core/pki"
)

// Certificates lists what was issued.
func (c *Client) Certificates(ctx context.Context, q Query) (api.Page[api.Certificate], error) {
	return get[api.Page[api.Certificate]](ctx, c, "/certificates", q.values())
}

// Certificate shows one.
func (c *Client) Certificate(ctx context.Context, id string) (api.Certificate, error) {
	return get[api.Certificate](ctx, c, "/certificates/"+url.PathEscape(id), nil)
}

// IssueToDevice makes a key and a certificate for a device.
func (c *Client) IssueToDevice(
	ctx context.Context,
	deviceID, authorityID string,
	names []string,
	days int,
) (api.Certificate, error) {
	return post[api.Certificate](
		ctx,
		c,
		"/certificates",
		map[string]any{
			"device_id":    deviceID,
			"authority_id": authorityID,
			"names":        append([]string{}, names...),
			"days":         days,
		},
	)
}

// IssueToGateway signs what a gateway asks for.
func (c *Client) IssueToGateway(
	ctx context.Context,
	gatewayID, authorityID, request string,
	days int,
) (api.Issued, error) {
	return post[api.Issued](
		ctx,
		c,
		"/gateways/"+url.PathEscape(gatewayID)+"/certificate",
		map[string]any{"authority_id": authorityID, "request": request, "days": days},
	)
}

// Expiries lists what ends within some days.
func (c *Client) Expiries(ctx context.Context, days int) (api.Items[api.Expiry], error) {
	return get[api.Items[api.Expiry]](ctx, c, "/expiries", url.Values{"days": {strconv.Itoa(days)}})
}

// Revoke takes a certificate back for good.
func (c *Client) Revoke(ctx context.Context, id string, reason pki.Reason) (api.Revocation, error) {
	return post[api.Revocation](
		ctx,
		c,
		"/certificates/"+url.PathEscape(id)+"/revocation",
		map[string]any{"reason": reason},
	)
}

// RevokeDevice takes back all certificates of a device.
func (c *Client) RevokeDevice(
	ctx context.Context,
	deviceID string,
	reason pki.Reason,
) (api.Revocation, error) {
	return post[api.Revocation](
		ctx,
		c,
		"/devices/"+url.PathEscape(deviceID)+"/revocation",
		map[string]any{"reason": reason},
	)
}

// GatewayUsers returns the files in which the daemons of a gateway look up its users.
func (c *Client) GatewayUsers(ctx context.Context, gatewayID string) (api.GatewayUsers, error) {
	return post[api.GatewayUsers](ctx, c, "/gateways/"+url.PathEscape(gatewayID)+"/user-lists", nil)
}

// GatewayConfiguration returns a working configuration of a gateway's daemons.
func (c *Client) GatewayConfiguration(
	ctx context.Context,
	gatewayID string,
) (api.GatewayConfiguration, error) {
	return post[api.GatewayConfiguration](ctx, c,
		"/gateways/"+url.PathEscape(gatewayID)+"/configurations", nil)
}

// Delivery shows when a gateway asked for its configuration, and which version it runs.
func (c *Client) Delivery(ctx context.Context, gatewayID string) (api.Delivery, error) {
	return get[api.Delivery](ctx, c, "/gateways/"+url.PathEscape(gatewayID)+"/delivery", nil)
}

// NewDelivery makes a token and a script by which a gateway fetches its configuration.
func (c *Client) NewDelivery(
	ctx context.Context,
	gatewayID, reload, address string,
) (api.NewDelivery, error) {
	return ask[api.NewDelivery](ctx, c, http.MethodPut,
		"/gateways/"+url.PathEscape(gatewayID)+"/delivery", nil, nil,
		map[string]string{"reload": reload, "address": address})
}

// EndDelivery takes the token of a gateway away.
func (c *Client) EndDelivery(ctx context.Context, gatewayID string) error {
	return c.call(
		ctx,
		http.MethodDelete,
		"/gateways/"+url.PathEscape(gatewayID)+"/delivery",
		nil,
		nil,
		nil,
		nil,
	)
}

// IssueGatewayBundle makes a key and a certificate for a gateway and hands its files out.
func (c *Client) IssueGatewayBundle(
	ctx context.Context,
	gatewayID, authorityID string,
	kind pki.KeyChoice,
	days int,
) (api.GatewayBundle, error) {
	return post[api.GatewayBundle](
		ctx,
		c,
		"/gateways/"+url.PathEscape(gatewayID)+"/certificate-bundle",
		map[string]any{"authority_id": authorityID, "kind": kind, "days": days},
	)
}

// TakeGatewayCertificate notes the certificate that a gateway shows, out of a file.
func (c *Client) TakeGatewayCertificate(
	ctx context.Context,
	gatewayID string,
	m api.Material,
) (api.Gateway, error) {
	return post[api.Gateway](
		ctx,
		c,
		"/gateways/"+url.PathEscape(gatewayID)+"/presented-certificate",
		material(m),
	)
}

// DropDeviceCertificate takes a certificate with its key out of a device's record.
func (c *Client) DropDeviceCertificate(
	ctx context.Context,
	deviceID, serial string,
) (d api.Device, err error) {
	err = c.call(ctx, http.MethodDelete, "/devices/"+url.PathEscape(deviceID)+"/certificates/"+
		url.PathEscape(serial), nil, nil, nil, &d)
	return d, err
}

// TakeDeviceCertificate gives a device a certificate with its key out of a file.
func (c *Client) TakeDeviceCertificate(
	ctx context.Context,
	deviceID string,
	m api.Material,
) (api.Device, error) {
	return post[api.Device](
		ctx,
		c,
		"/devices/"+url.PathEscape(deviceID)+"/certificate",
		material(m),
	)
}

// Chain shows the chain of a record's certificate.
func (c *Client) Chain(ctx context.Context, noun, id string) (api.Chain, error) {
	return get[api.Chain](ctx, c, "/chains/"+url.PathEscape(noun)+"/"+url.PathEscape(id), nil)
}
