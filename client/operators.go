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
func (c *Client) Operators(ctx context.Context, q Query) (api.Page[api.Operator], error) {
	return get[api.Page[api.Operator]](ctx, c, "/operators", q.values())
}

// AddOperator adds an operator with a password for the first sign-in, confined or not (nil).
func (c *Client) AddOperator(
	ctx context.Context, name, role string, confined *api.Confinement,
) (api.NewOperator, error) {
	body := map[string]any{"name": name, "role": role}
	if confined != nil {
		body["confined"] = whole(confined)
	}
	return post[api.NewOperator](ctx, c, "/operators", body)
}

// whole has a list where there is none.
func whole(c *api.Confinement) api.Confinement {
	return api.Confinement{
		Groups: append([]string{}, c.Groups...), Gateways: append([]string{}, c.Gateways...),
	}
}

// ChangeOperator changes role or state of an operator, and what they are confined to: nil leaves
// that as it is, an empty one ends it.
func (c *Client) ChangeOperator(
	ctx context.Context,
	id, role string,
	disabled bool,
	confined *api.Confinement,
) (api.Operator, error) {
	body := map[string]any{"role": role, "disabled": disabled}
	if confined != nil {
		body["confined"] = whole(confined)
	}
	return ask[api.Operator](
		ctx,
		c,
		http.MethodPut,
		"/operators/"+url.PathEscape(id),
		nil,
		nil,
		body,
	)
}

// ResetOperator gives an operator a new first password.
func (c *Client) ResetOperator(ctx context.Context, id string) (api.NewOperator, error) {
	return post[api.NewOperator](ctx, c, "/operators/"+url.PathEscape(id)+"/reset", nil)
}

// RemoveOperator removes an operator.
func (c *Client) RemoveOperator(ctx context.Context, id string) error {
	return c.call(ctx, http.MethodDelete, "/operators/"+url.PathEscape(id), nil, nil, nil, nil)
}

// ChangePassword changes one's own password.
func (c *Client) ChangePassword(ctx context.Context, old, fresh secret.Text) error {
	return c.call(
		ctx,
		http.MethodPut,
		"/password",
		nil,
		nil,
		map[string]any{"old": old.Reveal(), "password": fresh.Reveal()},
		nil,
	)
}

// OfferFactor makes a second factor.
func (c *Client) OfferFactor(ctx context.Context) (api.Factor, error) {
	return post[api.Factor](ctx, c, "/second-factor", nil)
}

// ConfirmFactor has the second factor that was offered count.
func (c *Client) ConfirmFactor(ctx context.Context, code string) error {
	return c.call(
		ctx,
		http.MethodPut,
		"/second-factor",
		nil,
		nil,
		map[string]any{"code": code},
		nil,
	)
}

// DropFactor takes the second factor away.
func (c *Client) DropFactor(ctx context.Context, password secret.Text) error {
	return c.call(
		ctx,
		http.MethodPost,
		"/second-factor/removal",
		nil,
		nil,
		map[string]any{"password": password.Reveal()},
		nil,
	)
}

// Sessions lists open sessions and tokens.
func (c *Client) Sessions(ctx context.Context, all bool) (api.Items[api.Session], error) {
	return get[api.Items[api.Session]](
		ctx,
		c,
		"/sessions",
		url.Values{"all": {strconv.FormatBool(all)}},
	)
}

// EndSession ends a session or token.
func (c *Client) EndSession(ctx context.Context, id string) error {
	return c.call(ctx, http.MethodDelete, "/sessions/"+url.PathEscape(id), nil, nil, nil, nil)
}

// AddToken makes a token for a program.
func (c *Client) AddToken(
	ctx context.Context,
	name, role string,
	days int,
	networks ...string,
) (api.NewToken, error) {
	return post[api.NewToken](
		ctx,
		c,
		"/tokens",
		map[string]any{
			"name":      name,
			"role":      role,
			"days":      days,
			"addresses": append([]string{}, networks...),
		},
	)
}

// VerifyAudit holds that the audit log is as it was written.
func (c *Client) VerifyAudit(ctx context.Context, head string) (api.AuditProof, error) {
	return get[api.AuditProof](ctx, c, "/audit-proof", url.Values{"head": {head}})
}
