package client

import (
	"context"
	"encoding/json"
	"net/http"

	"wardicon/core/vpn"
)

// SingleSignOn shows how operators sign in by a provider.
func (c *Client) SingleSignOn(ctx context.Context) (vpn.SingleSignOn, error) {
	return get[vpn.SingleSignOn](ctx, c, "/single-sign-on", nil)
}

// SetSingleSignOn changes that. Without a client secret the stored one stays, unless it is to be
// removed.
func (c *Client) SetSingleSignOn(ctx context.Context, s vpn.SingleSignOn, remove bool) (
	out vpn.SingleSignOn, err error,
) {
	given := s.Secret
	s.Secret = nil
	data, err := json.Marshal(s)
	if err != nil {
		return out, err
	}
	body := map[string]any{"remove_secret": remove}
	if err := json.Unmarshal(data, &body); err != nil {
		return out, err
	}
	for _, own := range []string{"version", "secret_set", "damaged"} {
		delete(body, own)
	}
	if given != nil {
		body["secret"] = given.Reveal()
	}
	return ask[vpn.SingleSignOn](ctx, c, http.MethodPut, "/single-sign-on", nil, seen(s.Version),
		body)
}
