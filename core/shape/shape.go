// Package shape tells what types are made of, as often as somebody asks.
package shape

import (
	"reflect"
	"sync"
)

var known sync.Map // reflect.Type to []reflect.StructField

// Fields are those of a struct, promoted ones included, as reflect.VisibleFields finds them. The slice
// is shared: nobody may change it.
func Fields(t reflect.Type) []reflect.StructField {
	if found, ok := known.Load(t); ok {
		return found.([]reflect.StructField)
	}
	found := reflect.VisibleFields(t)
	known.Store(t, found)
	return found
}
