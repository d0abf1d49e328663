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
func (c *Client) Findings(ctx context.Context, q Query) (api.Page[api.FleetFinding], error) {
	return get[api.Page[api.FleetFinding]](ctx, c, "/findings", q.values())
}

// FindingSums counts them by rule, gateway or person.
func (c *Client) FindingSums(
	ctx context.Context,
	by string,
	days int,
) (api.Items[api.FindingSum], error) {
	return get[api.Items[api.FindingSum]](
		ctx,
		c,
		"/finding-sums",
		url.Values{"by": {by}, "days": {strconv.Itoa(days)}},
	)
}

// Rules lists the rules of the checks.
func (c *Client) Rules(ctx context.Context) (api.Items[api.Rule], error) {
	return get[api.Items[api.Rule]](ctx, c, "/rules", nil)
}

// SetSeverity sets the severity of a rule; the empty one takes its own back.
func (c *Client) SetSeverity(
	ctx context.Context,
	rule string,
	severity vpn.Severity,
) (api.Rule, error) {
	return ask[api.Rule](
		ctx,
		c,
		http.MethodPut,
		"/rules/"+url.PathEscape(rule)+"/severity",
		nil,
		nil,
		map[string]any{"severity": severity},
	)
}

// Fixes shows the changes that would fix a rule's findings.
func (c *Client) Fixes(ctx context.Context, rule string) (api.Page[api.Fix], error) {
	return get[api.Page[api.Fix]](
		ctx,
		c,
		"/rules/"+url.PathEscape(rule)+"/fixes",
		url.Values{"limit": {"200"}},
	)
}

// FixAll fixes them, as a job.
func (c *Client) FixAll(ctx context.Context, rule string) (api.Job, error) {
	return post[api.Job](ctx, c, "/rules/"+url.PathEscape(rule)+"/fixes", nil)
}

// Override lets an error pass on one profile.
func (c *Client) Override(
	ctx context.Context,
	profileID, rule, reason string,
	until time.Time,
) (check.Override, error) {
	return ask[check.Override](
		ctx,
		c,
		http.MethodPut,
		"/profiles/"+url.PathEscape(profileID)+"/overrides/"+url.PathEscape(rule),
		nil,
		nil,
		map[string]any{"reason": reason, "until": until},
	)
}

// EndOverride takes it back.
func (c *Client) EndOverride(ctx context.Context, profileID, rule string) error {
	return c.call(
		ctx,
		http.MethodDelete,
		"/profiles/"+url.PathEscape(profileID)+"/overrides/"+url.PathEscape(rule),
		nil,
		nil,
		nil,
		nil,
	)
}

// Compare holds a secret to the record of a gateway; neither is shown.
func (c *Client) Compare(
	ctx context.Context,
	gatewayID string,
	in api.Comparison,
) (check.Compared, error) {
	return post[check.Compared](
		ctx,
		c,
		"/gateways/"+url.PathEscape(gatewayID)+"/secret-comparisons",
		Patch{
			"field":    in.Field,
			"protocol": in.Protocol,
			"login":    in.Login,
			"value":    in.Value.Reveal(),
		},
	)
}

// Import shows what files say that the records lack, and adds it with keep.
func (c *Client) Import(
	ctx context.Context,
	files []filecheck.File,
	to api.ImportFor,
) (t api.Imported, err error) {
	err = c.upload(
		ctx,
		"/imports",
		url.Values{
			"person": {to.PersonID}, "device": {to.Device}, "for": {to.Release},
			"keep": {strconv.FormatBool(to.Keep)},
		},
		files,
		&t,
	)
	return t, err
}

func (c *Client) upload(
	ctx context.Context,
	path string,
	query url.Values,
	files []filecheck.File,
	out any,
) error {
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
	return c.call(
		ctx,
		http.MethodPost,
		path,
		query,
		http.Header{"Content-Type": {form.FormDataContentType()}},
		&b,
		out,
	)
}
