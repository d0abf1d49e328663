// Package shape tells what records are made of, as often as somebody asks.
package shape

import (
	"reflect"
	"strings"
	"sync"
)

// Field is a field of a struct, and the name of its tag for JSON; "" where it has none.
type Field struct {
	reflect.StructField
	JSON string
}

var known sync.Map // reflect.Type to []Field

// Fields are those of a struct, with promoted ones in the place of what they are promoted from. The
// slice is shared: nobody may change it.
func Fields(t reflect.Type) []Field {
	if found, ok := known.Load(t); ok {
		return found.([]Field)
	}
	var list []Field
	for _, f := range reflect.VisibleFields(t) {
		if !f.Anonymous {
			name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
			list = append(list, Field{f, name})
		}
	}
	known.Store(t, list)
	return list
}
