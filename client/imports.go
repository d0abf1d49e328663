package client

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"

	"wardicon/api"
	"wardicon/core/filecheck"
	"wardicon/core/rows"
)

// ShowImport previews a table of records. A nil mapping is guessed, or taken from the last such
// table.
func (c *Client) ShowImport(
	ctx context.Context,
	name string,
	data []byte,
	noun rows.Noun,
	mapping rows.Mapping,
	key string,
) (i api.RecordImport, err error) {
	q := url.Values{"noun": {string(noun)}}
	if key != "" {
		q.Set("key", key)
	}
	if mapping != nil {
		text, err := json.Marshal(mapping)
		if err != nil {
			return i, err
		}
		q.Set("mapping", string(text))
	}
	err = c.upload(ctx, "/record-imports", q, []filecheck.File{{Name: name, Data: data}}, &i)
	return i, err
}

// RecordImports lists imports of tables, newest first.
func (c *Client) RecordImports(ctx context.Context, q Query) (api.Page[api.RecordImport], error) {
	return get[api.Page[api.RecordImport]](ctx, c, "/record-imports", q.values())
}

// RecordImport reads one.
func (c *Client) RecordImport(ctx context.Context, id string) (api.RecordImport, error) {
	return get[api.RecordImport](ctx, c, "/record-imports/"+url.PathEscape(id), nil)
}

// ImportRows lists its rows.
func (c *Client) ImportRows(
	ctx context.Context,
	id string,
	q Query,
) (api.Page[api.ImportRow], error) {
	return get[api.Page[api.ImportRow]](ctx, c, "/record-imports/"+url.PathEscape(id)+"/rows",
		q.values())
}

// SetImport begins to import what was previewed, or to undo that.
func (c *Client) SetImport(
	ctx context.Context,
	id string,
	state api.ImportState,
) (j api.Job, err error) {
	err = c.call(ctx, http.MethodPut, "/record-imports/"+url.PathEscape(id)+"/state", nil, nil,
		map[string]api.ImportState{"state": state}, &j)
	return j, err
}
