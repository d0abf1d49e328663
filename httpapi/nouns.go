package httpapi

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"reflect"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	jsonpatch "github.com/evanphx/json-patch/v5"

	"wardicon/api"
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
		Search:     in.Search,
		Sort:       in.Sort,
		Limit:      in.Limit,
		Offset:     in.Offset,
		After:      in.After,
		Conditions: map[string]string{},
	}
	for _, condition := range in.Filter {
		name, value, _ := strings.Cut(condition, ":")
		if _, there := q.Conditions[name]; there {
			q.Twice = name
		}
		q.Conditions[name] = value
	}
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

// readers make records of JSON, held to their schemas, by noun.
type readers map[string]func(base any, fields []byte) (any, error)

// changers change one record, by noun: what one of many operations in one call does.
type changers map[string]func(context.Context, api.RecordOperation) (string, int, error)

func nouns(a *handlers) {
	records(a, a.svc.Gateways, "/gateways", "gateways")
	records(a, a.svc.People, "/people", "people")
	records(a, a.svc.Accounts, "/accounts", "accounts")
	records(a, a.svc.Devices, "/devices", "devices")
	records(a, a.svc.Profiles, "/profiles", "profiles")
	records(a, a.svc.Patterns, "/patterns", "patterns")
	records(a, a.svc.Authorities, "/authorities", "authorities")
}

// records registers the operations that every noun has.
func records[R, Row any, P service.Record[R]](
	a *handlers,
	u *service.Records[R, Row, P],
	path, tag string,
) {
	noun := u.Noun()
	role := service.RoleIssuer
	if noun == "authority" { // it vouches for everything
		role = service.RoleOwner
	}
	registry := a.huma.OpenAPI().Components.Schemas
	full := registry.Schema(reflect.TypeFor[R](), false, noun)
	input := inputSchema(registry, reflect.TypeFor[R]())
	a.readers[noun] = func(base any, fields []byte) (any, error) {
		return merged[R, P](registry, full, noun, base.(P), fields)
	}
	accept := func(media string) *huma.RequestBody {
		return &huma.RequestBody{
			Required: true,
			Content:  map[string]*huma.MediaType{media: {Schema: input}},
		}
	}

	a.changers[noun] = func(ctx context.Context, op api.RecordOperation) (id string, n int, err error) {
		fields, err := json.Marshal(op.Fields)
		if err != nil {
			return "", 0, err
		}
		switch op.Operation {
		case "add":
			var blank R
			P(&blank).Normalise()
			r, err := merged[R, P](registry, full, noun, &blank, fields)
			if err != nil {
				return "", 0, err
			}
			_, err = u.Add(ctx, r)
			return u.ID(r), 1, err
		case "change":
			var r P
			_, err = u.Change(ctx, op.ID, op.Version, func(old P) (P, error) {
				r, err = merged[R, P](registry, full, noun, old, fields)
				return r, err
			}, func(field string) bool { return !mentions(fields, field) })
			return op.ID, u.Version(r), err
		}
		return op.ID, 0, u.Remove(ctx, op.ID)
	}

	handle(
		a,
		operation(http.MethodGet, path, "list-"+tag, "List "+tag, tag),
		func(ctx context.Context, in *listInput) (api.Page[Row], error) {
			return u.List(ctx, in.query())
		},
	)
	handle(
		a,
		operation(http.MethodGet, path+"/{id}", "show-"+noun, "Show one "+noun, tag),
		func(ctx context.Context, in *idInput) (Row, error) {
			return u.Get(ctx, in.ID)
		},
	)

	add := by(role, operation(http.MethodPost, path, "add-"+noun, "Add a "+noun, tag))
	add.RequestBody, add.DefaultStatus, add.SkipValidateBody = accept(
		"application/json",
	), http.StatusCreated, true
	register(a, add, func(ctx context.Context, in *addInput) (*created[Row], error) {
		var blank R
		P(&blank).Normalise()
		r, err := merged[R, P](registry, full, noun, &blank, in.RawBody)
		if err != nil {
			return nil, err
		}
		row, err := u.Add(ctx, r)
		return &created[Row]{"/api/v1" + path + "/" + u.ID(r), row}, err
	})
	add.RequestBody.Content["application/json"].Schema = input // the framework saw only bytes

	change := by(
		role,
		operation(
			http.MethodPatch,
			path+"/{id}",
			"change-"+noun,
			"Change a "+noun+" (JSON merge patch, RFC 7396)",
			tag,
		),
	)
	change.RequestBody, change.SkipValidateBody = accept("application/merge-patch+json"), true
	handle(a, change, func(ctx context.Context, in *writeInput) (zero Row, err error) {
		version, err := in.version(noun, false)
		if err != nil {
			return zero, err
		}
		row, err := u.Change(ctx, in.ID, version,
			func(old P) (P, error) {
				r, err := merged[R, P](registry, full, noun, old, in.RawBody)
				if err == nil {
					_, err = in.version(
						noun,
						replaces(in.RawBody),
					) // a request that is wrong anyway hears of that first
				}
				return r, err
			},
			func(field string) bool { return !mentions(in.RawBody, field) })
		return row, err
	})
	change.RequestBody.Content["application/merge-patch+json"].Schema = input

	remove := by(
		role,
		operation(http.MethodDelete, path+"/{id}", "remove-"+noun, "Remove a "+noun, tag),
	)
	quiet(a, remove, func(ctx context.Context, in *idInput) error { return u.Remove(ctx, in.ID) })
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
	for _, f := range reflect.VisibleFields(t) {
		if f.Tag.Get("required") == "true" {
			whole.Required = append(whole.Required, f.Tag.Get("json"))
		}
	}
	registry.Map()[name] = &whole
	return &huma.Schema{Ref: "#/components/schemas/" + name}
}

// merged applies a merge patch to a record and reads the result strictly.
func merged[R any, P service.Record[R]](
	registry huma.Registry,
	schema *huma.Schema,
	noun string,
	base P,
	patch []byte,
) (P, error) {
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
	r := P(new(R))
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
