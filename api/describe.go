package api

import (
	"cmp"
	"embed"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"reflect"
	"strings"
	"sync"

	"wardicon/core/check"
	"wardicon/core/drift"
	"wardicon/core/explain"
	"wardicon/core/filecheck"
	"wardicon/core/inventory"
	"wardicon/core/pki"
	"wardicon/core/plan"
	"wardicon/core/rehearsal"
	"wardicon/core/shape"
	"wardicon/core/signature"
	"wardicon/core/vpn"
)

//go:embed *.go
var source embed.FS

// A field is described once, by the comment on its declaration. The API's document, the flags of
// the command line and the console's forms take their words from there; so the sources with
// declarations are at hand.
var sources = []embed.FS{
	source,
	vpn.Declarations,
	plan.Declarations,
	check.Declarations,
	drift.Declarations,
	pki.Declarations,
	signature.Declarations,
	filecheck.Declarations,
	inventory.Declarations,
	explain.Declarations,
	rehearsal.Declarations,
}

// comments are the words on types, as "package.Type", and on their fields, as "package.Type.Field".
var comments = sync.OnceValue(func() map[string]string {
	return Comments(sources...)
})

// Comments reads the words on types and fields out of the sources of packages.
func Comments(sources ...embed.FS) map[string]string {
	said := map[string]string{}
	for _, files := range sources {
		names, _ := fs.Glob(files, "*.go")
		for _, name := range names {
			text, err := files.ReadFile(name)
			if err != nil {
				continue // an embedded file that was just listed
			}
			declared(said, name, text)
		}
	}
	return said
}

func declared(said map[string]string, name string, text []byte) {
	file, err := parser.ParseFile(
		token.NewFileSet(),
		name,
		text,
		parser.ParseComments|parser.SkipObjectResolution,
	)
	if err != nil {
		return // it was compiled
	}
	for _, d := range file.Decls {
		group, ok := d.(*ast.GenDecl)
		if !ok {
			continue
		}
		for _, s := range group.Specs {
			spec, ok := s.(*ast.TypeSpec)
			if !ok {
				continue
			}
			key := file.Name.Name + "." + spec.Name.Name
			said[key] = oneLine(group.Doc)
			fields(said, key, spec.Type)
		}
	}
}

// fields reads the words on the fields of a struct, and on those of structs without a name in it.
func fields(said map[string]string, key string, t ast.Expr) {
	record, ok := t.(*ast.StructType)
	if !ok {
		return
	}
	for _, f := range record.Fields.List {
		for _, n := range f.Names {
			at := key + "." + n.Name
			said[at] = cmp.Or(oneLine(f.Doc), oneLine(f.Comment))
			fields(said, at, f.Type)
		}
	}
}

func oneLine(c *ast.CommentGroup) string { return strings.Join(strings.Fields(c.Text()), " ") }

// Describe says what the field of a record is for that stands in its JSON under a path, parts
// joined by dots. It is empty where there is no such field, or where its name says all.
func Describe(t reflect.Type, path string) string {
	owner, field, ok := fieldAt(t, path)
	if !ok {
		return ""
	}
	generic, _, _ := strings.Cut(owner.String(), "[")
	return comments()[generic+"."+field.Name]
}

// TypeAt is the type of a field that stands in a record's JSON under a path; nil where there is
// none.
func TypeAt(t reflect.Type, path string) reflect.Type {
	_, field, ok := fieldAt(t, path)
	if !ok {
		return nil
	}
	return field.Type
}

// fieldAt finds a field and the type that declares it, which may be embedded in the record's.
func fieldAt(t reflect.Type, path string) (owner reflect.Type, field reflect.StructField, ok bool) {
	name, rest, deeper := strings.Cut(path, ".")
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice || t.Kind() == reflect.Map {
		t = t.Elem()
	}
	if t.Kind() != reflect.Struct {
		return t, field, false
	}
	for _, f := range shape.Fields(t) {
		switch {
		case f.JSON != name:
			continue
		case deeper:
			return fieldAt(f.Type, rest)
		}
		owner = t
		for _, at := range f.Index[:len(f.Index)-1] {
			if owner = owner.Field(at).Type; owner.Kind() == reflect.Pointer {
				owner = owner.Elem()
			}
		}
		return owner, f.StructField, true
	}
	return t, field, false
}
