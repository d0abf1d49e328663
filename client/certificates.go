package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"wardicon/core/pki"
	"wardicon/core/view"
)

// MakeAuthority makes an authority with its key: one, or a root and the one that issues.
func (c *Client) MakeAuthority(ctx context.Context, n view.NewAuthority) (list view.Items[view.Authority], err error) {
	err = c.call(ctx, http.MethodPost, "/make-authority", nil, nil, n, &list)
	return list, err
}

// Certificates lists what was issued.
func (c *Client) Certificates(ctx context.Context, q Query) (page view.Page[view.Certificate], err error) {
	err = c.call(ctx, http.MethodGet, "/certificates", q.values(), nil, nil, &page)
	return page, err
}

// Certificate shows one.
func (c *Client) Certificate(ctx context.Context, id string) (row view.Certificate, err error) {
	err = c.call(ctx, http.MethodGet, "/certificates/"+url.PathEscape(id), nil, nil, nil, &row)
	return row, err
}

// IssueToDevice makes a key and a certificate for a device.
func (c *Client) IssueToDevice(ctx context.Context, deviceID, authorityID string, names []string, days int) (row view.Certificate, err error) {
	err = c.call(ctx, http.MethodPost, "/certificates", nil, nil, map[string]any{"device_id": deviceID, "authority_id": authorityID, "names": append([]string{}, names...), "days": days}, &row)
	return row, err
}

// IssueToGateway signs what a gateway asks for.
func (c *Client) IssueToGateway(ctx context.Context, gatewayID, authorityID, request string, days int) (out view.Issued, err error) {
	err = c.call(ctx, http.MethodPost, "/gateways/"+url.PathEscape(gatewayID)+"/certificate", nil, nil, map[string]any{"authority_id": authorityID, "request": request, "days": days}, &out)
	return out, err
}

// Endings lists what ends within some days.
func (c *Client) Endings(ctx context.Context, days int) (list view.Items[view.Ending], err error) {
	err = c.call(ctx, http.MethodGet, "/endings", url.Values{"days": {strconv.Itoa(days)}}, nil, nil, &list)
	return list, err
}

// Revoke takes a certificate back for good.
func (c *Client) Revoke(ctx context.Context, id string, reason pki.Reason) (w view.Withdrawn, err error) {
	err = c.call(ctx, http.MethodPost, "/certificates/"+url.PathEscape(id)+"/revoke", nil, nil, map[string]any{"reason": reason}, &w)
	return w, err
}

// RevokeDevice takes back all certificates of a device.
func (c *Client) RevokeDevice(ctx context.Context, deviceID string, reason pki.Reason) (w view.Withdrawn, err error) {
	err = c.call(ctx, http.MethodPost, "/devices/"+url.PathEscape(deviceID)+"/revoke", nil, nil, map[string]any{"reason": reason}, &w)
	return w, err
}
