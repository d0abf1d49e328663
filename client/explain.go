package client

import (
	"context"
	"net/http"
	"net/url"

	"wardicon/api"
	"wardicon/core/explain"
)

// Failure is what is to be explained: a code or lines, or what was read of a log here; and whose
// case it is.
type Failure struct {
	Text      string           `json:"text,omitempty"`
	Reading   *explain.Reading `json:"reading,omitempty"`
	ProfileID string           `json:"profile_id,omitempty"`
	DeviceID  string           `json:"device_id,omitempty"`
}

// Explain tells what lies behind a failure.
func (c *Client) Explain(ctx context.Context, f Failure) (explain.Explanation, error) {
	return post[explain.Explanation](ctx, c, "/explanations", f)
}

// Reports lists what people said does not work.
func (c *Client) Reports(ctx context.Context, q Query) (api.Page[api.Report], error) {
	return get[api.Page[api.Report]](ctx, c, "/reports", q.values())
}

// CloseReport notes that a report was dealt with.
func (c *Client) CloseReport(ctx context.Context, id string) error {
	return c.call(
		ctx,
		http.MethodPost,
		"/reports/"+url.PathEscape(id)+"/closure",
		nil,
		nil,
		struct{}{},
		nil,
	)
}
