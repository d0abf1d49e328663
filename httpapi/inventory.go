package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"wardicon/api"
	"wardicon/core/rows"
	"wardicon/service"
)

type inventoryInput struct {
	Nouns []plural `query:"nouns,explode" doc:"Only these, by their plurals" maxItems:"20"`
}

// plural is what records that stand in files are called there.
type plural string

// Schema is that of a text which is one of them.
func (plural) Schema(huma.Registry) *huma.Schema {
	return oneOf(&huma.Schema{Type: huma.TypeString}, api.Plurals())
}

// oneOf holds a text to be one of a list.
func oneOf(s *huma.Schema, list []string) *huma.Schema {
	s.Enum = nil
	for _, v := range list {
		s.Enum = append(s.Enum, v)
	}
	s.PrecomputeMessages()
	return s
}

type loadInput struct {
	DryRun bool `query:"dry_run" doc:"Only tell how the records differ"`
	Remove bool `query:"remove_missing" doc:"Remove records that it does not have, of its nouns"`
	AtMost int  `query:"at_most" default:"10" minimum:"0" doc:"Records to remove at most"`
	Body   api.Inventory
}

type operationsInput struct {
	Body struct {
		// Operations, each done by itself, in their order.
		Operations []api.RecordOperation `json:"operations" minItems:"1" maxItems:"1000"`
	}
}

// inventory are the operations on all records together.
func (a *handlers) inventory() {
	const tag = "inventory"
	handle(
		a,
		operation(http.MethodGet, "/inventory", "show-inventory",
			"Read all records for files: names for identifiers, no secrets", tag),
		func(ctx context.Context, in *inventoryInput) (api.Inventory, error) {
			plurals := make([]string, len(in.Nouns))
			for i, v := range in.Nouns {
				plurals[i] = string(v)
			}
			return a.svc.Inventory(ctx, plurals)
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
	many := operation(http.MethodPost, "/record-changes", "change-records",
		"Add, change and remove up to 1000 records in one call, each by itself", tag)
	many.MaxBodyBytes = maxBody
	handle(a, many, func(ctx context.Context, in *operationsInput) (
		api.Items[api.OperationResult], error) {
		list := make([]api.OperationResult, 0, len(in.Body.Operations))
		for _, op := range in.Body.Operations {
			if err := ctx.Err(); err != nil {
				return api.Items[api.OperationResult]{}, err
			}
			list = append(list, a.changeOne(ctx, op))
		}
		return items(list, nil)
	})
	operations := a.huma.OpenAPI().Components.Schemas.Map()["RecordOperation"]
	var names []string
	for _, n := range api.Filed() {
		names = append(names, n.Name)
	}
	oneOf(operations.Properties["noun"], names)
	load := operation(http.MethodPost, "/inventory/changes", "change-inventory",
		"Make the records what an inventory says, in one transaction", tag)
	load.MaxBodyBytes = rows.MaxBytes
	handle(a, load, func(ctx context.Context, in *loadInput) (api.InventoryOutcome, error) {
		return a.svc.LoadInventory(ctx, in.Body, service.Load{
			Dry: in.DryRun, Remove: in.Remove, AtMost: in.AtMost,
			Read: func(noun string, base any, fields []byte) (any, error) {
				return a.merged(noun, base, fields)
			},
		})
	})
}

// changeOne does one of many operations, and says how it would have been answered alone.
func (a *handlers) changeOne(ctx context.Context, op api.RecordOperation) api.OperationResult {
	if (op.ID == "") != (op.Operation == "add") {
		p := problem(
			http.StatusUnprocessableEntity,
			"invalid",
			"an operation adds a record without "+
				"an id, or changes or removes one with its id",
		)
		return api.OperationResult{Status: p.Status, ID: op.ID, Problem: p}
	}
	id, version, err := a.changeNoun(ctx, op)
	if err != nil {
		p, _ := a.answer(ctx, err).(*api.Problem)
		return api.OperationResult{Status: p.Status, ID: op.ID, Problem: p}
	}
	status := map[string]int{
		"add": http.StatusCreated, "change": http.StatusOK, "remove": http.StatusNoContent,
	}[op.Operation]
	return api.OperationResult{Status: status, ID: id, Version: version}
}
