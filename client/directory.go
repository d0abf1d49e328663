package client

import (
	"context"
	"encoding/json"
	"net/http"

	"wardicon/api"
	"wardicon/core/vpn"
)

// Directory shows how people are read from a directory.
func (c *Client) Directory(ctx context.Context) (vpn.Directory, error) {
	return get[vpn.Directory](ctx, c, "/directory", nil)
}

// SetDirectory changes that. Without a password the stored one stays, unless it is to be removed.
func (c *Client) SetDirectory(
	ctx context.Context,
	d vpn.Directory,
	remove bool,
) (out vpn.Directory, err error) {
	password := d.Password
	d.Password = nil
	data, err := json.Marshal(d)
	if err != nil {
		return out, err
	}
	body := map[string]any{}
	if err := json.Unmarshal(data, &body); err != nil {
		return out, err
	}
	for _, own := range []string{"version", "password_set", "damaged"} {
		delete(body, own)
	}
	body["remove_password"] = remove
	if password != nil {
		body["password"] = password.Reveal()
	}
	return ask[vpn.Directory](ctx, c, http.MethodPut, "/directory", nil, seen(d.Version), body)
}

// DirectoryState shows what came of the last reading.
func (c *Client) DirectoryState(ctx context.Context) (api.DirectoryState, error) {
	return get[api.DirectoryState](ctx, c, "/directory/state", nil)
}

// ReadDirectory reads the directory and begins to import what differs; a dry run only shows it.
func (c *Client) ReadDirectory(ctx context.Context, dry bool) (api.DirectoryReading, error) {
	return post[api.DirectoryReading](
		ctx,
		c,
		"/directory/readings",
		map[string]bool{"dry_run": dry},
	)
}
