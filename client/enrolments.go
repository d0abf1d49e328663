package client

import (
	"context"
	"net/http"
	"net/url"

	"wardicon/api"
)

// MakeEnrolment makes a word with which a device gets one certificate, for a key that it makes
// itself; hours 0 means 72.
func (c *Client) MakeEnrolment(ctx context.Context, deviceID, authorityID string, hours int) (
	api.NewEnrolment, error,
) {
	return post[api.NewEnrolment](ctx, c, "/devices/"+url.PathEscape(deviceID)+"/enrolments",
		map[string]any{"authority_id": authorityID, "hours": hours})
}

// Enrolments lists a device's words for certificates, without the words.
func (c *Client) Enrolments(ctx context.Context, deviceID string) (api.Items[api.Enrolment], error) {
	return get[api.Items[api.Enrolment]](ctx, c,
		"/devices/"+url.PathEscape(deviceID)+"/enrolments", nil)
}

// EndEnrolment takes back a word that was not used.
func (c *Client) EndEnrolment(ctx context.Context, id string) error {
	return c.call(ctx, http.MethodDelete, "/enrolments/"+url.PathEscape(id), nil, nil, nil, nil)
}
