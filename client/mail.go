package client

import (
	"context"
	"net/http"

	"wardicon/api"
	"wardicon/core/vpn"
)

// Mail shows how emails are sent.
func (c *Client) Mail(ctx context.Context) (m vpn.Mail, err error) {
	err = c.call(ctx, http.MethodGet, "/mail", nil, nil, nil, &m)
	return m, err
}

// SetMail changes how emails are sent. Without a password the stored one stays, unless it is to be removed.
func (c *Client) SetMail(ctx context.Context, m vpn.Mail, remove bool) (out vpn.Mail, err error) {
	body := map[string]any{
		"server": m.Server, "port": m.Port, "security": m.Security, "login": m.Login, "from": m.From, "authority": m.Authority, "reminders": append([]string{}, m.Reminders...), "remove_password": remove,
	}
	if m.Password != nil {
		body["password"] = m.Password.Reveal()
	}
	err = c.call(ctx, http.MethodPut, "/mail", nil, seen(m.Version), body, &out)
	return out, err
}

// TryMail sends an email at once.
func (c *Client) TryMail(ctx context.Context, to string) error {
	return c.call(ctx, http.MethodPost, "/mail/try", nil, nil, map[string]any{"to": to}, nil)
}

// SendEmails has every email that waits tried now.
func (c *Client) SendEmails(ctx context.Context) (s api.Sending, err error) {
	err = c.call(ctx, http.MethodPost, "/mail/deliveries", nil, nil, nil, &s)
	return s, err
}

// Emails lists emails that were sent or are to be.
func (c *Client) Emails(ctx context.Context, q Query) (page api.Page[api.Email], err error) {
	err = c.call(ctx, http.MethodGet, "/mail/queue", q.values(), nil, nil, &page)
	return page, err
}
