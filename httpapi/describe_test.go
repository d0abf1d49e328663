package httpapi

import (
	"testing"

	"github.com/danielgtaylor/huma/v2"
)

// TestDescribed holds that every operation and every parameter of the API says what it is.
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
	if operations < 150 {
		t.Errorf("%d operations", operations)
	}
}
