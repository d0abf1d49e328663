package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"wardicon/api"
)

// Inventory reads all records of some nouns, by their plurals, for files; all where none is named.
func (c *Client) Inventory(ctx context.Context, nouns ...string) (api.Inventory, error) {
	query := url.Values{}
	for _, noun := range nouns {
		query.Add("nouns", noun)
	}
	return get[api.Inventory](ctx, c, "/inventory", query)
}

// InventorySchema reads the JSON Schema of files with records.
func (c *Client) InventorySchema(ctx context.Context) (map[string]any, error) {
	return get[map[string]any](ctx, c, "/inventory/schema", nil)
}

// Load says how an inventory is loaded.
type Load struct {
	DryRun bool // only tell how the records differ
	Remove bool // remove records that it does not have, of its nouns
	AtMost int  // so many of them
}

// LoadInventory makes the records what an inventory says.
func (c *Client) LoadInventory(
	ctx context.Context,
	inv api.Inventory,
	how Load,
) (api.InventoryOutcome, error) {
	query := url.Values{
		"dry_run":        {strconv.FormatBool(how.DryRun)},
		"remove_missing": {strconv.FormatBool(how.Remove)},
		"at_most":        {strconv.Itoa(how.AtMost)},
	}
	return ask[api.InventoryOutcome](ctx, c, http.MethodPost, "/inventory/changes", query, nil, inv)
}

// ChangeRecords adds, changes and removes up to 1000 records in one call, each by itself. Sent
// again with the same key, it is answered as before and not done twice; an empty key is none.
func (c *Client) ChangeRecords(
	ctx context.Context,
	key string,
	list []api.RecordOperation,
) (api.Items[api.OperationResult], error) {
	header := http.Header{}
	if key != "" {
		header.Set("Idempotency-Key", key)
	}
	return ask[api.Items[api.OperationResult]](
		ctx,
		c,
		http.MethodPost,
		"/record-changes",
		nil,
		header,
		map[string]any{"operations": list},
	)
}
