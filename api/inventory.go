package api

import (
	"reflect"
	"strings"

	"wardicon/core/inventory"
	"wardicon/core/shape"
)

// Inventory are records by the plural of their noun, with names in the place of identifiers and
// {"keep": true} in the place of secrets.
type Inventory map[string][]map[string]any

// InventoryState is what becomes of a record.
type InventoryState string

// The states.
const (
	InventoryAdd    InventoryState = "add"
	InventoryChange InventoryState = "change"
	InventoryRemove InventoryState = "remove"
)

// RecordChange is what becomes of one record.
type RecordChange struct {
	State InventoryState `json:"state" enum:"add,change,remove"`
	// Kind of the record, such as gateway.
	Noun string `json:"noun"`
	Name string `json:"name"`
	// The fields that differ; none for a record that is removed.
	Fields []inventory.FieldChange `json:"fields"`
}

// InventoryOutcome is how an inventory differs from what is on record.
type InventoryOutcome struct {
	Changes []RecordChange `json:"changes"`
	// Records that are as the inventory has them.
	Same int `json:"same"`
	// Records that the inventory does not have; they are removed only on demand.
	Missing int `json:"missing"`
	// The changes were made.
	Kept bool `json:"kept"`
}

// Count is how many records are in a state.
func (o InventoryOutcome) Count(state InventoryState) (n int) {
	for _, c := range o.Changes {
		if c.State == state {
			n++
		}
	}
	return n
}

// Settable leaves of a record in JSON what a person sets and has set. t is the type of the record.
func Settable(t reflect.Type, fields map[string]any) {
	kept := map[string]reflect.Type{}
	for _, f := range shape.Fields(t) {
		if f.Tag.Get("readOnly") == "" && f.Tag.Get("writeOnly") == "" {
			kept[f.JSON] = f.Type
		}
	}
	for key, value := range fields {
		inner, ok := kept[key]
		if !ok || value == nil {
			delete(fields, key)
			continue
		}
		optional := inner.Kind() == reflect.Pointer // what is there has a meaning, be it zero
		if optional {
			inner = inner.Elem()
		}
		switch value := value.(type) {
		case map[string]any:
			if inner.Kind() == reflect.Struct {
				Settable(inner, value)
			}
			// An offer may have nothing set.
			ok = len(value) > 0 || strings.HasPrefix(inner.Name(), "PPTP")
		case []any:
			ok = len(value) > 0
		default:
			ok = optional || !reflect.ValueOf(value).IsZero()
		}
		if !ok {
			delete(fields, key)
		}
	}
}

// RecordOperation is one change of a record among several in one call.
type RecordOperation struct {
	// add, change or remove.
	Operation string `json:"operation" enum:"add,change,remove"`
	// Kind of the record.
	Noun string `json:"noun"`
	// Identifier of a record to change or remove.
	ID string `json:"id,omitempty" maxLength:"64"`
	// Version that was seen; 0 or nothing changes any version.
	Version int `json:"version,omitempty" minimum:"0"`
	// Fields of a record to add, or a merge patch (RFC 7396) of one to change.
	Fields map[string]any `json:"fields,omitempty"`
}

// OperationResult is what came of one of them.
type OperationResult struct {
	// HTTP status that the operation alone would have had.
	Status int `json:"status"`
	// Identifier of the record.
	ID string `json:"id,omitempty"`
	// Version that the record has now.
	Version int `json:"version,omitempty"`
	// What is wrong, where it was refused.
	Problem *Problem `json:"problem,omitempty"`
}
