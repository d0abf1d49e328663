package client

import (
	"context"
	"net/http"
	"net/url"

	"wardicon/api"
	"wardicon/core/pki"
	"wardicon/core/secret"
)

// material is a file of certificates as it is sent: the passphrase is in it.
func material(m api.Material) map[string]any {
	body := map[string]any{"file": m.File}
	if len(m.Key) > 0 {
		body["key"] = m.Key
	}
	if !m.Passphrase.IsZero() {
		body["passphrase"] = m.Passphrase.Reveal()
	}
	return body
}

// MakeAuthority makes an authority with its key: one, or a root and the one that issues.
func (c *Client) MakeAuthority(ctx context.Context, n api.NewAuthority) (list api.Items[api.Authority], err error) {
	err = c.call(ctx, http.MethodPost, "/make-authority", nil, nil, n, &list)
	return list, err
}

// TakeAuthority brings an authority in from a file.
func (c *Client) TakeAuthority(ctx context.Context, name string, m api.Material) (row api.Authority, err error) {
	body := material(m)
	body["authority"] = name
	err = c.call(ctx, http.MethodPost, "/take-authority", nil, nil, body, &row)
	return row, err
}

// ExportAuthority packs an authority with its key under a passphrase.
func (c *Client) ExportAuthority(ctx context.Context, id string, passphrase, again secret.Text) (f api.Handed, err error) {
	err = c.call(ctx, http.MethodPost, "/authorities/"+url.PathEscape(id)+"/export", nil, nil, map[string]any{"passphrase": passphrase.Reveal(), "again": again.Reveal()}, &f)
	return f, err
}

// Rollover shows how far the way from an authority to its successor has come.
func (c *Client) Rollover(ctx context.Context, id string) (at api.Rollover, err error) {
	err = c.call(ctx, http.MethodGet, "/authorities/"+url.PathEscape(id)+"/rollover", nil, nil, nil, &at)
	return at, err
}

// RollOver goes a step: begin, finish or undo.
func (c *Client) RollOver(ctx context.Context, id, step, successorID string, anyway bool) (at api.Rollover, err error) {
	err = c.call(ctx, http.MethodPost, "/authorities/"+url.PathEscape(id)+"/rollover", nil, nil, map[string]any{"step": step, "successor_id": successorID, "anyway": anyway}, &at)
	return at, err
}

// Renew begins to renew the certificates of devices that end soon.
func (c *Client) Renew(ctx context.Context, id string, days int) (j api.Job, err error) {
	err = c.call(ctx, http.MethodPost, "/authorities/"+url.PathEscape(id)+"/renew", nil, nil, map[string]any{"days": days}, &j)
	return j, err
}

// Requests lists signing requests that wait for their certificate.
func (c *Client) Requests(ctx context.Context, q Query) (page api.Page[api.Request], err error) {
	err = c.call(ctx, http.MethodGet, "/requests", q.values(), nil, nil, &page)
	return page, err
}

// RequestForDevice makes a key and a signing request for a device.
func (c *Client) RequestForDevice(ctx context.Context, deviceID, authorityID string, names []string) (r api.Request, err error) {
	err = c.call(ctx, http.MethodPost, "/requests", nil, nil, map[string]any{"device_id": deviceID, "authority_id": authorityID, "names": append([]string{}, names...)}, &r)
	return r, err
}

// RequestForAuthority makes a key and a signing request for a new authority.
func (c *Client) RequestForAuthority(ctx context.Context, name string, kind pki.KeyChoice) (r api.Request, err error) {
	err = c.call(ctx, http.MethodPost, "/requests", nil, nil, map[string]any{"name": name, "kind": kind}, &r)
	return r, err
}

// ForgetRequest drops a signing request with its key.
func (c *Client) ForgetRequest(ctx context.Context, id string) error {
	return c.call(ctx, http.MethodDelete, "/requests/"+url.PathEscape(id), nil, nil, nil, nil)
}

// Answer takes in a certificate that was signed elsewhere.
func (c *Client) Answer(ctx context.Context, m api.Material) (out api.Answered, err error) {
	err = c.call(ctx, http.MethodPost, "/answer-request", nil, nil, material(m), &out)
	return out, err
}

// Signer shows what signs parcels.
func (c *Client) Signer(ctx context.Context) (s api.Signer, err error) {
	err = c.call(ctx, http.MethodGet, "/signer", nil, nil, nil, &s)
	return s, err
}

// MakeSigner has an authority issue the certificate that signs parcels.
func (c *Client) MakeSigner(ctx context.Context, authorityID, name string, days, version int) (s api.Signer, err error) {
	err = c.call(ctx, http.MethodPost, "/signer", nil, seen(version), map[string]any{"authority_id": authorityID, "name": name, "days": days}, &s)
	return s, err
}

// TakeSigner brings a signing certificate with its key in.
func (c *Client) TakeSigner(ctx context.Context, m api.Material, version int) (s api.Signer, err error) {
	err = c.call(ctx, http.MethodPost, "/take-signer", nil, seen(version), material(m), &s)
	return s, err
}

// RemoveSigner ends the signing of parcels.
func (c *Client) RemoveSigner(ctx context.Context, version int) error {
	return c.call(ctx, http.MethodDelete, "/signer", nil, seen(version), nil, nil)
}
