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
func (c *Client) Certificates(ctx context.Context, q Query) (page api.Page[api.Certificate], err error) {
	err = c.call(ctx, http.MethodGet, "/certificates", q.values(), nil, nil, &page)
	return page, err
}

// Certificate shows one.
func (c *Client) Certificate(ctx context.Context, id string) (row api.Certificate, err error) {
	err = c.call(ctx, http.MethodGet, "/certificates/"+url.PathEscape(id), nil, nil, nil, &row)
	return row, err
}

// IssueToDevice makes a key and a certificate for a device.
func (c *Client) IssueToDevice(ctx context.Context, deviceID, authorityID string, names []string, days int) (row api.Certificate, err error) {
	err = c.call(ctx, http.MethodPost, "/certificates", nil, nil, map[string]any{"device_id": deviceID, "authority_id": authorityID, "names": append([]string{}, names...), "days": days}, &row)
	return row, err
}

// IssueToGateway signs what a gateway asks for.
func (c *Client) IssueToGateway(ctx context.Context, gatewayID, authorityID, request string, days int) (out api.Issued, err error) {
	err = c.call(ctx, http.MethodPost, "/gateways/"+url.PathEscape(gatewayID)+"/certificate", nil, nil, map[string]any{"authority_id": authorityID, "request": request, "days": days}, &out)
	return out, err
}

// Expiries lists what ends within some days.
func (c *Client) Expiries(ctx context.Context, days int) (list api.Items[api.Expiry], err error) {
	err = c.call(ctx, http.MethodGet, "/expiries", url.Values{"days": {strconv.Itoa(days)}}, nil, nil, &list)
	return list, err
}

// Revoke takes a certificate back for good.
func (c *Client) Revoke(ctx context.Context, id string, reason pki.Reason) (w api.Revocation, err error) {
	err = c.call(ctx, http.MethodPost, "/certificates/"+url.PathEscape(id)+"/revoke", nil, nil, map[string]any{"reason": reason}, &w)
	return w, err
}

// RevokeDevice takes back all certificates of a device.
func (c *Client) RevokeDevice(ctx context.Context, deviceID string, reason pki.Reason) (w api.Revocation, err error) {
	err = c.call(ctx, http.MethodPost, "/devices/"+url.PathEscape(deviceID)+"/revoke", nil, nil, map[string]any{"reason": reason}, &w)
	return w, err
}

// IssueGatewayBundle makes a key and a certificate for a gateway and hands its files out.
func (c *Client) IssueGatewayBundle(ctx context.Context, gatewayID, authorityID string, kind pki.KeyChoice, days int) (out api.GatewayBundle, err error) {
	err = c.call(ctx, http.MethodPost, "/gateways/"+url.PathEscape(gatewayID)+"/certificate-bundle", nil, nil, map[string]any{"authority_id": authorityID, "kind": kind, "days": days}, &out)
	return out, err
}

// TakeGatewayCertificate notes the certificate that a gateway shows, out of a file.
func (c *Client) TakeGatewayCertificate(ctx context.Context, gatewayID string, m api.Material) (row api.Gateway, err error) {
	err = c.call(ctx, http.MethodPost, "/gateways/"+url.PathEscape(gatewayID)+"/take-certificate", nil, nil, material(m), &row)
	return row, err
}

// TakeDeviceCertificate gives a device a certificate with its key out of a file.
func (c *Client) TakeDeviceCertificate(ctx context.Context, deviceID string, m api.Material) (row api.Device, err error) {
	err = c.call(ctx, http.MethodPost, "/devices/"+url.PathEscape(deviceID)+"/take-certificate", nil, nil, material(m), &row)
	return row, err
}

// Chain shows the chain of a record's certificate.
func (c *Client) Chain(ctx context.Context, noun, id string) (drawn api.Chain, err error) {
	err = c.call(ctx, http.MethodGet, "/chains/"+url.PathEscape(noun)+"/"+url.PathEscape(id), nil, nil, nil, &drawn)
	return drawn, err
}
