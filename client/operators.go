package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"wardicon/api"
	"wardicon/core/secret"
)

// Operators lists who can sign in.
func (c *Client) Operators(ctx context.Context, q Query) (page api.Page[api.Operator], err error) {
	err = c.call(ctx, http.MethodGet, "/operators", q.values(), nil, nil, &page)
	return page, err
}

// AddOperator adds an operator with a password for the first sign-in.
func (c *Client) AddOperator(ctx context.Context, name, role string) (made api.NewOperator, err error) {
	err = c.call(ctx, http.MethodPost, "/operators", nil, nil, map[string]any{"name": name, "role": role}, &made)
	return made, err
}

// ChangeOperator changes role or state of an operator.
func (c *Client) ChangeOperator(ctx context.Context, id, role string, disabled bool) (o api.Operator, err error) {
	err = c.call(ctx, http.MethodPut, "/operators/"+url.PathEscape(id), nil, nil, map[string]any{"role": role, "disabled": disabled}, &o)
	return o, err
}

// ResetOperator gives an operator a new first password.
func (c *Client) ResetOperator(ctx context.Context, id string) (made api.NewOperator, err error) {
	err = c.call(ctx, http.MethodPost, "/operators/"+url.PathEscape(id)+"/reset", nil, nil, nil, &made)
	return made, err
}

// RemoveOperator removes an operator.
func (c *Client) RemoveOperator(ctx context.Context, id string) error {
	return c.call(ctx, http.MethodDelete, "/operators/"+url.PathEscape(id), nil, nil, nil, nil)
}

// ChangePassword changes one's own password.
func (c *Client) ChangePassword(ctx context.Context, old, fresh secret.Text) error {
	return c.call(ctx, http.MethodPut, "/password", nil, nil, map[string]any{"old": old.Reveal(), "password": fresh.Reveal()}, nil)
}

// OfferFactor makes a second factor.
func (c *Client) OfferFactor(ctx context.Context) (f api.Factor, err error) {
	err = c.call(ctx, http.MethodPost, "/second-factor", nil, nil, nil, &f)
	return f, err
}

// ConfirmFactor has the second factor that was offered count.
func (c *Client) ConfirmFactor(ctx context.Context, code string) error {
	return c.call(ctx, http.MethodPut, "/second-factor", nil, nil, map[string]any{"code": code}, nil)
}

// DropFactor takes the second factor away.
func (c *Client) DropFactor(ctx context.Context, password secret.Text) error {
	return c.call(ctx, http.MethodPost, "/second-factor/drop", nil, nil, map[string]any{"password": password.Reveal()}, nil)
}

// Sessions lists open sessions and tokens.
func (c *Client) Sessions(ctx context.Context, all bool) (list api.Items[api.Session], err error) {
	err = c.call(ctx, http.MethodGet, "/sessions", url.Values{"all": {strconv.FormatBool(all)}}, nil, nil, &list)
	return list, err
}

// EndSession ends a session or token.
func (c *Client) EndSession(ctx context.Context, id string) error {
	return c.call(ctx, http.MethodDelete, "/sessions/"+url.PathEscape(id), nil, nil, nil, nil)
}

// AddToken makes a token for a program.
func (c *Client) AddToken(ctx context.Context, name, role string, days int, networks ...string) (made api.NewToken, err error) {
	err = c.call(ctx, http.MethodPost, "/tokens", nil, nil, map[string]any{"name": name, "role": role, "days": days, "addresses": append([]string{}, networks...)}, &made)
	return made, err
}

// VerifyAudit holds that the audit log is as it was written.
func (c *Client) VerifyAudit(ctx context.Context, head string) (p api.AuditProof, err error) {
	err = c.call(ctx, http.MethodGet, "/audit-proof", url.Values{"head": {head}}, nil, nil, &p)
	return p, err
}
