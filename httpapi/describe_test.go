package httpapi

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/danielgtaylor/huma/v2"
)

// TestDescribed holds that every operation, parameter and property of the API says what it is.
func TestDescribed(t *testing.T) {
	operations := 0
	for path, item := range Describe("1.0.0").Paths {
		for method, op := range map[string]*huma.Operation{
			"GET": item.Get, "POST": item.Post, "PUT": item.Put, "PATCH": item.Patch,
			"DELETE": item.Delete,
		} {
			if op == nil {
				continue
			}
			operations++
			if op.Summary == "" {
				t.Errorf("%s %s says nothing of itself", method, path)
			}
			for _, p := range op.Parameters {
				if p.Description == "" && (p.Schema == nil || p.Schema.Description == "") {
					t.Errorf("%s %s: nothing is said of %s", method, path, p.Name)
				}
			}
		}
	}
	for name, schema := range Describe("1.0.0").Components.Schemas.Map() {
		for property, s := range schema.Properties {
			if s.Ref == "" && s.Description == "" {
				t.Errorf("%s: nothing is said of %s", name, property)
			}
		}
	}
	used := map[string]bool{}
	for name, schema := range Describe("1.0.0").Components.Schemas.Map() {
		for property := range schema.Properties {
			used[property], used[name+"."+property] = true, true
		}
	}
	for property := range commonWords {
		if !used[property] {
			t.Errorf("%s is described and nowhere in the API", property)
		}
	}
	if operations < 150 {
		t.Errorf("%d operations", operations)
	}
}

// TestExamples holds the examples of the API to its own schemas.
func TestExamples(t *testing.T) {
	doc := Describe("1.0.0")
	for _, schema := range doc.Components.Schemas.Map() {
		schema.PrecomputeMessages()
	}
	there := map[string]bool{}
	for _, item := range doc.Paths {
		for _, op := range []*huma.Operation{item.Post, item.Put, item.Patch} {
			if op == nil || op.RequestBody == nil {
				continue
			}
			there[op.OperationID] = true
			for media, content := range op.RequestBody.Content {
				if content.Example == nil || strings.Contains(media, "patch") {
					continue
				}
				result := &huma.ValidateResult{}
				data, err := json.Marshal(content.Example)
				if err != nil {
					t.Fatal(err)
				}
				var value any
				if err := json.Unmarshal(data, &value); err != nil {
					t.Fatal(err)
				}
				huma.Validate(doc.Components.Schemas, content.Schema, huma.NewPathBuffer(nil, 0),
					huma.ModeWriteToServer, value, result)
				for _, err := range result.Errors {
					t.Errorf("the example of %s: %v", op.OperationID, err)
				}
			}
		}
	}
	for id := range exampleBodies {
		if !there[id] {
			t.Errorf("an example for %s, which is not in the API", id)
		}
	}
}
