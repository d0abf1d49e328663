package apple

import (
	"bytes"
	"encoding/base64"
	"encoding/xml"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"
)

// Apple: plist(5) describes the form in XML.
const listHead = xml.Header + `<!DOCTYPE plist PUBLIC "-//Apple//DTD PLIST 1.0//EN" ` +
	`"http://www.apple.com/DTDs/PropertyList-1.0.dtd">` + "\n"

// encode writes a struct as a property list in XML. Fields have their keys in tags "plist", with
// ",omitempty" where a zero value is left out; embedded structs are part of the one around them.
// Values are structs, slices, strings, bytes and whole numbers.
func encode(v any) ([]byte, error) {
	e := &listEncoder{}
	e.out.WriteString(listHead + "<plist version=\"1.0\">\n")
	if err := e.value(reflect.ValueOf(v), 0); err != nil {
		return nil, err
	}
	e.out.WriteString("</plist>\n")
	return e.out.Bytes(), nil
}

type listEncoder struct{ out bytes.Buffer }

func (e *listEncoder) line(depth int, text string) {
	e.out.WriteString(strings.Repeat("\t", depth) + text + "\n")
}

func (e *listEncoder) text(depth int, name, value string) error {
	e.out.WriteString(strings.Repeat("\t", depth) + "<" + name + ">")
	if err := xml.EscapeText(&e.out, []byte(value)); err != nil {
		return err
	}
	e.out.WriteString("</" + name + ">\n")
	return nil
}

func (e *listEncoder) value(v reflect.Value, depth int) error {
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		return e.value(v.Elem(), depth)
	case reflect.Struct:
		e.line(depth, "<dict>")
		if err := e.fields(v, depth+1); err != nil {
			return err
		}
		e.line(depth, "</dict>")
		return nil
	case reflect.Slice:
		if v.Type().Elem().Kind() == reflect.Uint8 {
			return e.text(depth, "data", base64.StdEncoding.EncodeToString(v.Bytes()))
		}
		if v.Len() == 0 {
			e.line(depth, "<array></array>")
			return nil
		}
		e.line(depth, "<array>")
		for i := range v.Len() {
			if err := e.value(v.Index(i), depth+1); err != nil {
				return err
			}
		}
		e.line(depth, "</array>")
		return nil
	case reflect.String:
		return e.text(depth, "string", v.String())
	case reflect.Int:
		return e.text(depth, "integer", strconv.FormatInt(v.Int(), 10))
	}
	return fmt.Errorf("a property list cannot carry a %s", v.Type())
}

// fields writes the fields of a struct in the order of their keys.
func (e *listEncoder) fields(v reflect.Value, depth int) error {
	kept := map[string]reflect.Value{}
	gather(v, kept)
	for _, key := range slices.Sorted(maps.Keys(kept)) {
		if err := e.text(depth, "key", key); err != nil {
			return err
		}
		if err := e.value(kept[key], depth); err != nil {
			return err
		}
	}
	return nil
}

func gather(v reflect.Value, kept map[string]reflect.Value) {
	for i := range v.NumField() {
		f, one := v.Type().Field(i), v.Field(i)
		if f.Anonymous {
			gather(one, kept)
			continue
		}
		key, rest, _ := strings.Cut(f.Tag.Get("plist"), ",")
		empty := one.IsZero() || one.Kind() == reflect.Slice && one.Len() == 0
		if rest != "omitempty" || !empty {
			kept[key] = one
		}
	}
}
