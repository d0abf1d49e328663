package client

import (
	"bytes"
	"context"
	"mime/multipart"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"wardicon/core/batch"
	"wardicon/core/check"
	"wardicon/core/view"
	"wardicon/core/vpn"
)

// Findings lists findings over the whole fleet.
func (c *Client) Findings(ctx context.Context, q Query) (page view.Page[view.FleetFinding], err error) {
	err = c.call(ctx, http.MethodGet, "/findings", q.values(), nil, nil, &page)
	return page, err
}

// FindingSums counts them by rule, gateway or person.
func (c *Client) FindingSums(ctx context.Context, by string, days int) (list view.Items[view.FindingSum], err error) {
	err = c.call(ctx, http.MethodGet, "/finding-sums", url.Values{"by": {by}, "days": {strconv.Itoa(days)}}, nil, nil, &list)
	return list, err
}

// Rules lists the rules of the checks.
func (c *Client) Rules(ctx context.Context) (list view.Items[view.Rule], err error) {
	err = c.call(ctx, http.MethodGet, "/rules", nil, nil, nil, &list)
	return list, err
}

// SetSeverity sets the severity of a rule; the empty one takes its own back.
func (c *Client) SetSeverity(ctx context.Context, rule string, severity vpn.Severity) (r view.Rule, err error) {
	err = c.call(ctx, http.MethodPut, "/rules/"+url.PathEscape(rule)+"/severity", nil, nil, map[string]any{"severity": severity}, &r)
	return r, err
}

// Mends shows the changes that would mend a rule's findings.
func (c *Client) Mends(ctx context.Context, rule string) (page view.Page[view.Mend], err error) {
	err = c.call(ctx, http.MethodGet, "/rules/"+url.PathEscape(rule)+"/mends", url.Values{"limit": {"200"}}, nil, nil, &page)
	return page, err
}

// MendAll mends them, as a job.
func (c *Client) MendAll(ctx context.Context, rule string) (j view.Job, err error) {
	err = c.call(ctx, http.MethodPost, "/rules/"+url.PathEscape(rule)+"/mend", nil, nil, nil, &j)
	return j, err
}

// Override lets a blocker pass on one profile.
func (c *Client) Override(ctx context.Context, profileID, rule, reason string, until time.Time) (o check.Override, err error) {
	err = c.call(ctx, http.MethodPut, "/profiles/"+url.PathEscape(profileID)+"/overrides/"+url.PathEscape(rule), nil, nil, map[string]any{"reason": reason, "until": until}, &o)
	return o, err
}

// EndOverride takes it back.
func (c *Client) EndOverride(ctx context.Context, profileID, rule string) error {
	return c.call(ctx, http.MethodDelete, "/profiles/"+url.PathEscape(profileID)+"/overrides/"+url.PathEscape(rule), nil, nil, nil, nil)
}

// Take shows what files say that the records lack, and adds it with keep.
func (c *Client) Take(ctx context.Context, files []batch.File, personID string, keep bool) (t view.Taken, err error) {
	err = c.upload(ctx, "/take", url.Values{"person": {personID}, "keep": {strconv.FormatBool(keep)}}, files, &t)
	return t, err
}

func (c *Client) upload(ctx context.Context, path string, query url.Values, files []batch.File, out any) error {
	var b bytes.Buffer
	form := multipart.NewWriter(&b)
	for _, f := range files {
		part, err := form.CreateFormFile("file", f.Name)
		if err == nil {
			_, err = part.Write(f.Data)
		}
		if err != nil {
			return err
		}
	}
	if err := form.Close(); err != nil {
		return err
	}
	return c.call(ctx, http.MethodPost, path, query, http.Header{"Content-Type": {form.FormDataContentType()}}, &b, out)
}
