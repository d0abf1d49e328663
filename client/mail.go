package client

import (
	"context"
	"net/http"

	"wardicon/api"
	"wardicon/core/vpn"
)

// Mail shows how emails are sent.
func (c *Client) Mail(ctx context.Context) (vpn.Mail, error) {
	return get[vpn.Mail](ctx, c, "/mail", nil)
}

// SetMail changes how emails are sent. Without a password the stored one stays, unless it is to be
// removed.
func (c *Client) SetMail(ctx context.Context, m vpn.Mail, remove bool) (vpn.Mail, error) {
	body := map[string]any{
		"server":          m.Server,
		"port":            m.Port,
		"security":        m.Security,
		"login":           m.Login,
		"from":            m.From,
		"authority":       m.Authority,
		"reminders":       append([]string{}, m.Reminders...),
		"remove_password": remove,
	}
	if m.Password != nil {
		body["password"] = m.Password.Reveal()
	}
	return ask[vpn.Mail](ctx, c, http.MethodPut, "/mail", nil, seen(m.Version), body)
}

// TryMail sends an email at once.
func (c *Client) TryMail(ctx context.Context, to string) error {
	return c.call(ctx, http.MethodPost, "/mail/tests", nil, nil, map[string]any{"to": to}, nil)
}

// SendEmails has every email that waits tried now.
func (c *Client) SendEmails(ctx context.Context) (api.Sending, error) {
	return post[api.Sending](ctx, c, "/mail/deliveries", nil)
}

// Emails lists emails that were sent or are to be.
func (c *Client) Emails(ctx context.Context, q Query) (api.Page[api.Email], error) {
	return get[api.Page[api.Email]](ctx, c, "/mail/queue", q.values())
}
