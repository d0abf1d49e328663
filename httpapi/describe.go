package httpapi

import (
	"cmp"
	"embed"
	"reflect"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"wardicon/api"
	"wardicon/core/shape"
)

//go:embed *.go
var declarations embed.FS

// described gives the schemas the words that stand on the declarations of their types. A body that
// has no type of its own is named after its request: HandoverInputBody is the Body of
// handoverInput.
func described(schemas huma.Registry) {
	own := api.Comments(declarations)
	for name, schema := range schemas.Map() {
		t := schemas.TypeFromRef("#/components/schemas/" + name)
		if t == nil {
			continue
		}
		for property, s := range schema.Properties {
			if s.Description == "" {
				s.Description = api.Describe(t, property)
			}
			if f, ok := fieldOf(t, property); s.Description == "" && t.Name() == "" && ok {
				request := strings.ToLower(name[:1]) + strings.TrimSuffix(name[1:], "Body")
				s.Description = own["httpapi."+request+".Body."+f.Name]
			}
			if s.Description == "" && s.Ref == "" {
				s.Description = cmp.Or(commonWords[name+"."+property], commonWords[property])
			}
		}
	}
}

// fieldOf finds the field of a struct that stands under a name in its JSON.
func fieldOf(t reflect.Type, property string) (reflect.StructField, bool) {
	for _, f := range shape.Fields(t) {
		if f.JSON == property {
			return f.StructField, true
		}
	}
	return reflect.StructField{}, false
}
