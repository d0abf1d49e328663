package httpapi

import (
	"context"
	"net/http"

	"wardicon/api"
	"wardicon/core/rows"
	"wardicon/service"
)

type inventoryInput struct {
	Nouns []string `query:"nouns,explode" doc:"Only these, by their plurals" maxItems:"6"`
}

type loadInput struct {
	DryRun bool `query:"dry_run" doc:"Only tell how the records differ"`
	Remove bool `query:"remove_missing" doc:"Remove records that it does not have, of its nouns"`
	AtMost int  `query:"at_most" default:"10" minimum:"0" doc:"Records to remove at most"`
	Body   api.Inventory
}

// inventory are the operations on all records together.
func (a *handlers) inventory() {
	const tag = "inventory"
	handle(
		a,
		operation(http.MethodGet, "/inventory", "show-inventory",
			"Read all records for files: names for identifiers, no secrets", tag),
		func(ctx context.Context, in *inventoryInput) (api.Inventory, error) {
			return a.svc.Inventory(ctx, in.Nouns)
		},
	)
	handle(
		a,
		operation(http.MethodGet, "/inventory/schema", "show-inventory-schema",
			"Read the JSON Schema of such files, for editors", tag),
		func(context.Context, *none) (map[string]any, error) {
			return inventorySchema(a.huma.OpenAPI().Components.Schemas.Map())
		},
	)
	load := operation(http.MethodPost, "/inventory/changes", "change-inventory",
		"Make the records what an inventory says, in one transaction", tag)
	load.MaxBodyBytes = rows.MaxBytes
	handle(a, load, func(ctx context.Context, in *loadInput) (api.InventoryOutcome, error) {
		return a.svc.LoadInventory(ctx, in.Body, service.Load{
			Dry: in.DryRun, Remove: in.Remove, AtMost: in.AtMost,
			Read: func(noun string, base any, fields []byte) (any, error) {
				return a.readers[noun](base, fields)
			},
		})
	})
}
