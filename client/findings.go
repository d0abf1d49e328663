package client

import (
	"bytes"
	"context"
	"mime/multipart"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/filecheck"
	"wardicon/core/vpn"
)

// Findings lists findings over the whole fleet.
func (c *Client) Findings(ctx context.Context, q Query) (page api.Page[api.FleetFinding], err error) {
	err = c.call(ctx, http.MethodGet, "/findings", q.values(), nil, nil, &page)
	return page, err
}

// FindingSums counts them by rule, gateway or person.
func (c *Client) FindingSums(ctx context.Context, by string, days int) (list api.Items[api.FindingSum], err error) {
	err = c.call(ctx, http.MethodGet, "/finding-sums", url.Values{"by": {by}, "days": {strconv.Itoa(days)}}, nil, nil, &list)
	return list, err
}

// Rules lists the rules of the checks.
func (c *Client) Rules(ctx context.Context) (list api.Items[api.Rule], err error) {
	err = c.call(ctx, http.MethodGet, "/rules", nil, nil, nil, &list)
	return list, err
}

// SetSeverity sets the severity of a rule; the empty one takes its own back.
func (c *Client) SetSeverity(ctx context.Context, rule string, severity vpn.Severity) (r api.Rule, err error) {
	err = c.call(ctx, http.MethodPut, "/rules/"+url.PathEscape(rule)+"/severity", nil, nil, map[string]any{"severity": severity}, &r)
	return r, err
}

// Fixes shows the changes that would fix a rule's findings.
func (c *Client) Fixes(ctx context.Context, rule string) (page api.Page[api.Fix], err error) {
	err = c.call(ctx, http.MethodGet, "/rules/"+url.PathEscape(rule)+"/fixes", url.Values{"limit": {"200"}}, nil, nil, &page)
	return page, err
}

// FixAll fixes them, as a job.
func (c *Client) FixAll(ctx context.Context, rule string) (j api.Job, err error) {
	err = c.call(ctx, http.MethodPost, "/rules/"+url.PathEscape(rule)+"/fix", nil, nil, nil, &j)
	return j, err
}

// Override lets an error pass on one profile.
func (c *Client) Override(ctx context.Context, profileID, rule, reason string, until time.Time) (o check.Override, err error) {
	err = c.call(ctx, http.MethodPut, "/profiles/"+url.PathEscape(profileID)+"/overrides/"+url.PathEscape(rule), nil, nil, map[string]any{"reason": reason, "until": until}, &o)
	return o, err
}

// EndOverride takes it back.
func (c *Client) EndOverride(ctx context.Context, profileID, rule string) error {
	return c.call(ctx, http.MethodDelete, "/profiles/"+url.PathEscape(profileID)+"/overrides/"+url.PathEscape(rule), nil, nil, nil, nil)
}

// Import shows what files say that the records lack, and adds it with keep.
func (c *Client) Import(ctx context.Context, files []filecheck.File, personID string, keep bool) (t api.Taken, err error) {
	err = c.upload(ctx, "/take", url.Values{"person": {personID}, "keep": {strconv.FormatBool(keep)}}, files, &t)
	return t, err
}

func (c *Client) upload(ctx context.Context, path string, query url.Values, files []filecheck.File, out any) error {
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
