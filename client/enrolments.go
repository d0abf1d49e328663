package client

import (
	"context"
	"net/http"
	"net/url"

	"wardicon/api"
)

// MakeEnrolment creates a one-time secret with which a device gets a certificate for a key of its
// own; hours 0 means 72.
func (c *Client) MakeEnrolment(ctx context.Context, deviceID, authorityID string, hours int) (
	api.NewEnrolment, error,
) {
	return post[api.NewEnrolment](ctx, c, "/devices/"+url.PathEscape(deviceID)+"/enrolments",
		map[string]any{"authority_id": authorityID, "hours": hours})
}

// Enrolments lists a device's enrolment secrets, without their values.
func (c *Client) Enrolments(
	ctx context.Context, deviceID string,
) (api.Items[api.Enrolment], error) {
	return get[api.Items[api.Enrolment]](ctx, c,
		"/devices/"+url.PathEscape(deviceID)+"/enrolments", nil)
}

// EndEnrolment revokes an enrolment secret that was not used.
func (c *Client) EndEnrolment(ctx context.Context, id string) error {
	return c.call(ctx, http.MethodDelete, "/enrolments/"+url.PathEscape(id), nil, nil, nil, nil)
}
