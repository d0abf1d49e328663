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
func (c *Client) MakeAuthority(
	ctx context.Context,
	n api.NewAuthority,
) (api.Items[api.Authority], error) {
	return post[api.Items[api.Authority]](ctx, c, "/generated-authorities", n)
}

// TakeAuthority brings an authority in from a file.
func (c *Client) TakeAuthority(
	ctx context.Context,
	name string,
	m api.Material,
) (api.Authority, error) {
	body := material(m)
	body["authority"] = name
	return post[api.Authority](ctx, c, "/imported-authorities", body)
}

// ExportAuthority packs an authority with its key under a passphrase.
func (c *Client) ExportAuthority(
	ctx context.Context,
	id string,
	passphrase, again secret.Text,
) (api.Handed, error) {
	return post[api.Handed](
		ctx,
		c,
		"/authorities/"+url.PathEscape(id)+"/exports",
		map[string]any{"passphrase": passphrase.Reveal(), "again": again.Reveal()},
	)
}

// Rollover shows how far the way from an authority to its successor has come.
func (c *Client) Rollover(ctx context.Context, id string) (api.Rollover, error) {
	return get[api.Rollover](ctx, c, "/authorities/"+url.PathEscape(id)+"/rollover", nil)
}

// RollOver goes a step: begin, finish or undo.
func (c *Client) RollOver(
	ctx context.Context,
	id, step, successorID string,
	anyway bool,
) (api.Rollover, error) {
	return post[api.Rollover](
		ctx,
		c,
		"/authorities/"+url.PathEscape(id)+"/rollover",
		map[string]any{"step": step, "successor_id": successorID, "anyway": anyway},
	)
}

// Renew begins to renew the certificates of devices that end soon.
func (c *Client) Renew(ctx context.Context, id string, days int) (api.Job, error) {
	return post[api.Job](
		ctx,
		c,
		"/authorities/"+url.PathEscape(id)+"/renewals",
		map[string]any{"days": days},
	)
}

// Requests lists signing requests that wait for their certificate.
func (c *Client) Requests(ctx context.Context, q Query) (api.Page[api.Request], error) {
	return get[api.Page[api.Request]](ctx, c, "/requests", q.values())
}

// RequestForDevice makes a key and a signing request for a device.
func (c *Client) RequestForDevice(
	ctx context.Context,
	deviceID, authorityID string,
	names []string,
) (api.Request, error) {
	return post[api.Request](
		ctx,
		c,
		"/requests",
		map[string]any{
			"device_id":    deviceID,
			"authority_id": authorityID,
			"names":        append([]string{}, names...),
		},
	)
}

// RequestForAuthority makes a key and a signing request for a new authority.
func (c *Client) RequestForAuthority(
	ctx context.Context,
	name string,
	kind pki.KeyChoice,
) (api.Request, error) {
	return post[api.Request](ctx, c, "/requests", map[string]any{"name": name, "kind": kind})
}

// KeyTokens lists the tokens that keys are in.
func (c *Client) KeyTokens(ctx context.Context) (api.Items[api.KeyToken], error) {
	return get[api.Items[api.KeyToken]](ctx, c, "/key-tokens", nil)
}

// ForgetRequest drops a signing request with its key.
func (c *Client) ForgetRequest(ctx context.Context, id string) error {
	return c.call(ctx, http.MethodDelete, "/requests/"+url.PathEscape(id), nil, nil, nil, nil)
}

// Answer takes in a certificate that was signed elsewhere.
func (c *Client) Answer(ctx context.Context, m api.Material) (api.Answered, error) {
	return post[api.Answered](ctx, c, "/request-answers", material(m))
}

// Signer shows what signs parcels.
func (c *Client) Signer(ctx context.Context) (api.Signer, error) {
	return get[api.Signer](ctx, c, "/signer", nil)
}

// MakeSigner has an authority issue the certificate that signs parcels.
func (c *Client) MakeSigner(
	ctx context.Context,
	authorityID, name string,
	days, version int,
) (api.Signer, error) {
	return ask[api.Signer](
		ctx,
		c,
		http.MethodPost,
		"/signer",
		nil,
		seen(version),
		map[string]any{"authority_id": authorityID, "name": name, "days": days},
	)
}

// TakeSigner brings a signing certificate with its key in.
func (c *Client) TakeSigner(ctx context.Context, m api.Material, version int) (api.Signer, error) {
	return ask[api.Signer](
		ctx,
		c,
		http.MethodPost,
		"/imported-signer",
		nil,
		seen(version),
		material(m),
	)
}

// RemoveSigner ends the signing of parcels.
func (c *Client) RemoveSigner(ctx context.Context, version int) error {
	return c.call(ctx, http.MethodDelete, "/signer", nil, seen(version), nil, nil)
}
