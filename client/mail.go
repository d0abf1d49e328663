package client

import (
	"context"
	"net/http"

	"wardicon/api"
	"wardicon/core/vpn"
)

// Mail shows how letters are sent.
func (c *Client) Mail(ctx context.Context) (m vpn.Mail, err error) {
	err = c.call(ctx, http.MethodGet, "/mail", nil, nil, nil, &m)
	return m, err
}

// SetMail changes how letters are sent. Without a password the stored one stays, unless it is to be removed.
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

// TryMail sends a letter at once.
func (c *Client) TryMail(ctx context.Context, to string) error {
	return c.call(ctx, http.MethodPost, "/mail/try", nil, nil, map[string]any{"to": to}, nil)
}

// SendLetters has every letter that waits tried now.
func (c *Client) SendLetters(ctx context.Context) (s api.Sending, err error) {
	err = c.call(ctx, http.MethodPost, "/letters/delivery", nil, nil, nil, &s)
	return s, err
}

// Letters lists letters that were sent or are to be.
func (c *Client) Letters(ctx context.Context, q Query) (page api.Page[api.Letter], err error) {
	err = c.call(ctx, http.MethodGet, "/letters", q.values(), nil, nil, &page)
	return page, err
}
