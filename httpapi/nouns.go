package httpapi

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"reflect"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	jsonpatch "github.com/evanphx/json-patch/v5"

	"wardicon/api"
	"wardicon/core/shape"
	"wardicon/core/vpn"
	"wardicon/service"
	"wardicon/store"
)

// listInput is what every list takes.
type listInput struct {
	Search string   `query:"search" doc:"Text to search for" maxLength:"200"`
	Sort   string   `query:"sort" doc:"Field to sort by; -field sorts descending"`
	Limit  int      `query:"limit" default:"50" minimum:"1" maximum:"500" doc:"Rows at most"`
	Offset int      `query:"offset" default:"0" minimum:"0" doc:"Rows to skip"`
	After  string   `query:"after" maxLength:"64" doc:"ID of a row: the page starts after it"`
	Filter []string `query:"filter,explode" doc:"Conditions such as platform:windows" maxItems:"10"`
}

func (in listInput) query() store.Query {
	q := store.Query{
		Search: in.Search,
		Sort:   in.Sort,
		Limit:  in.Limit,
		Offset: in.Offset,
		After:  in.After,
	}
	q.Filter(in.Filter)
	return q
}

// idInput names one record.
type idInput struct {
	ID string `path:"id" maxLength:"64" doc:"Identifier of the record"`
}

// writeInput is a record, or a part of it, to be stored.
type writeInput struct {
	SeenInput
	ID      string `path:"id" maxLength:"64" doc:"Identifier of the record"`
	RawBody []byte `contentType:"application/merge-patch+json"`
}

type addInput struct {
	RawBody []byte `contentType:"application/json"`
}

// changeNoun does what one of many operations in one call does.
func (a *handlers) changeNoun(
	ctx context.Context,
	op api.RecordOperation,
) (id string, version int, err error) {
	noun := a.nouns[op.Noun]
	fields, err := json.Marshal(op.Fields)
	if err != nil {
		return "", 0, err
	}
	switch op.Operation {
	case "add":
		r, err := a.merged(op.Noun, noun.Blank(), fields)
		if err != nil {
			return "", 0, err
		}
		id, _, err = noun.Create(ctx, r)
		return id, 1, err
	case "change":
		_, version, err = noun.Edit(ctx, op.ID, op.Version, func(old any) (any, error) {
			return a.merged(op.Noun, old, fields)
		}, func(field string) bool { return !mentions(fields, field) })
		return op.ID, version, err
	}
	return op.ID, 0, noun.Remove(ctx, op.ID)
}

// records registers the operations that every noun has.
func (a *handlers) records() {
	a.nouns = map[string]service.Noun{}
	for _, u := range a.svc.Nouns.All() {
		a.nouns[u.Noun()] = u
		a.noun(u)
	}
}

func (a *handlers) noun(u service.Noun) {
	noun := u.Noun()
	tag := api.NounOf(noun).Plural
	path, role := "/"+tag, u.Role()
	registry := a.huma.OpenAPI().Components.Schemas
	record, row, page := u.Types()
	registry.Schema(record, false, noun)
	input := inputSchema(registry, record)

	list := operation(http.MethodGet, path, "list-"+tag, "List "+tag, tag)
	answers(&list, registry, http.StatusOK, page)
	handle(a, list, func(ctx context.Context, in *listInput) (any, error) {
		return u.Page(ctx, in.query())
	})

	show := operation(http.MethodGet, path+"/{id}", "show-"+noun, "Show one "+noun, tag)
	answers(&show, registry, http.StatusOK, row)
	handle(a, show, func(ctx context.Context, in *idInput) (any, error) {
		return u.Show(ctx, in.ID)
	})

	add := by(role, operation(http.MethodPost, path, "add-"+noun, "Add a "+noun, tag))
	takes(&add, "application/json", input)
	answers(&add, registry, http.StatusCreated, row)
	register(a, add, func(ctx context.Context, in *addInput) (*created[any], error) {
		r, err := a.merged(noun, u.Blank(), in.RawBody)
		if err != nil {
			return nil, err
		}
		id, row, err := u.Create(ctx, r)
		return &created[any]{"/api/v1" + path + "/" + id, row}, err
	})
	takes(&add, "application/json", input) // the framework saw only bytes

	change := by(role, operation(http.MethodPatch, path+"/{id}", "change-"+noun,
		"Change a "+noun+" (JSON merge patch, RFC 7396)", tag))
	takes(&change, "application/merge-patch+json", input)
	answers(&change, registry, http.StatusOK, row)
	handle(a, change, func(ctx context.Context, in *writeInput) (any, error) {
		version, err := in.version(noun, false)
		if err != nil {
			return nil, err
		}
		row, _, err := u.Edit(ctx, in.ID, version, func(old any) (any, error) {
			r, err := a.merged(noun, old, in.RawBody)
			if err == nil {
				// A request that is wrong anyway hears of that first.
				_, err = in.version(noun, replaces(in.RawBody))
			}
			return r, err
		}, func(field string) bool { return !mentions(in.RawBody, field) })
		return row, err
	})
	takes(&change, "application/merge-patch+json", input)

	remove := by(
		role,
		operation(http.MethodDelete, path+"/{id}", "remove-"+noun, "Remove a "+noun, tag),
	)
	quiet(a, remove, func(ctx context.Context, in *idInput) error { return u.Remove(ctx, in.ID) })
}

// takes says what the body of a request is; the handler checks it.
func takes(op *huma.Operation, media string, schema *huma.Schema) {
	if op.RequestBody == nil {
		op.RequestBody = &huma.RequestBody{
			Required: true,
			Content:  map[string]*huma.MediaType{media: {}},
		}
	}
	op.RequestBody.Content[media].Schema, op.SkipValidateBody = schema, true
}

// answers says what the body of an answer is, where the handler's own type does not.
func answers(op *huma.Operation, registry huma.Registry, status int, body reflect.Type) {
	op.DefaultStatus = status
	op.Responses = map[string]*huma.Response{strconv.Itoa(status): {
		Description: http.StatusText(status),
		Content: map[string]*huma.MediaType{
			"application/json": {Schema: registry.Schema(body, true, "")},
		},
	}}
}

// inputSchema is the schema of a record as it is sent: without what the service sets,
// and with only those fields required that have no sensible default.
func inputSchema(registry huma.Registry, t reflect.Type) *huma.Schema {
	name := t.Name() + "Input"
	registry.Schema(t, false, t.Name())
	whole := *registry.Map()[t.Name()]
	kept := map[string]*huma.Schema{}
	for key, s := range whole.Properties {
		if !s.ReadOnly {
			kept[key] = s
		}
	}
	whole.Properties, whole.Required = kept, nil
	for _, f := range shape.Fields(t) {
		if f.Tag.Get("required") == "true" {
			whole.Required = append(whole.Required, f.JSON)
		}
	}
	registry.Map()[name] = &whole
	return &huma.Schema{Ref: "#/components/schemas/" + name}
}

// merged applies a merge patch to a record and reads the result strictly.
func (a *handlers) merged(noun string, base any, patch []byte) (any, error) {
	registry := a.huma.OpenAPI().Components.Schemas
	record, _, _ := a.nouns[noun].Types()
	schema := registry.Schema(record, false, noun)
	malformed := func(found string) error {
		return problem(http.StatusBadRequest, "malformed", "the body is not a JSON object: "+found)
	}
	if first := bytes.TrimSpace(patch); len(first) == 0 || first[0] != '{' {
		return nil, malformed("it does not begin with {")
	}
	before, err := json.Marshal(base)
	if err != nil {
		return nil, err
	}
	after, err := jsonpatch.MergePatch(before, patch)
	if err != nil {
		return nil, malformed("it cannot be applied")
	}
	var value any
	if err := json.Unmarshal(after, &value); err != nil {
		return nil, malformed("it cannot be parsed")
	}
	result := &huma.ValidateResult{}
	huma.Validate(
		registry,
		schema,
		huma.NewPathBuffer(nil, 0),
		huma.ModeWriteToServer,
		value,
		result,
	)
	if len(result.Errors) > 0 {
		problems := &vpn.Problems{Object: noun}
		for _, e := range result.Errors {
			if d, ok := e.(*huma.ErrorDetail); ok {
				problems.List = append(problems.List, fieldProblem(d))
			}
		}
		return nil, problems
	}
	r := reflect.New(record).Interface()
	if err := json.Unmarshal(after, r); err != nil {
		return nil, &vpn.Problems{
			Object: noun,
			List: []vpn.Problem{
				{
					Found:    "a value that cannot be read",
					Expected: "values as the API's description has them",
					Fix:      err.Error(),
				},
			},
		}
	}
	return r, nil
}

// mentions tells whether a merge patch says anything of a field such as
// offers/l2tp/psk, a null included.
func mentions(patch []byte, field string) bool {
	var at any
	if json.Unmarshal(patch, &at) != nil {
		return false
	}
	for key := range strings.SplitSeq(field, "/") {
		object, ok := at.(map[string]any)
		if !ok {
			return true // the part that holds the field is replaced as a whole
		}
		if at, ok = object[key]; !ok {
			return false
		}
	}
	return true
}
