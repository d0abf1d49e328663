package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"mime/multipart"
	"net/http"

	"wardicon/api"
	"wardicon/core/rows"
	"wardicon/core/vpn"
	"wardicon/service"
)

type tableInput struct {
	Noun    rows.Noun `query:"noun" enum:"people,gateways" default:"people" doc:"What the rows are"`
	Key     string    `query:"key" maxLength:"20" doc:"Field that matches rows to records"`
	Mapping string    `query:"mapping" maxLength:"20000" doc:"Columns and fields, a JSON object"`
	RawBody multipart.Form
}

type importStateInput struct {
	ID   string `path:"id" maxLength:"64" doc:"Identifier of the record"`
	Body struct {
		State api.ImportState `json:"state" enum:"imported,undone" doc:"What it is to become"`
	}
}

// ListInput has a name that can be set where it is embedded.
type ListInput = listInput

type importRowsInput struct {
	ListInput
	ID string `path:"id" maxLength:"64" doc:"Identifier of the record"`
}

// imports are the operations on tables of records.
func (a *handlers) imports() {
	const tag = "imports"
	handle(
		a,
		operation(
			http.MethodGet,
			"/import-fields",
			"list-import-fields",
			"List the fields that columns of a table can be mapped to",
			tag,
		),
		func(context.Context, *none) (api.Items[api.FieldsToImport], error) {
			return items(a.svc.FieldsToImport(), nil)
		},
	)
	show := operation(
		http.MethodPost,
		"/record-imports",
		"add-record-import",
		"Preview a table of people, accounts and devices, or of gateways: CSV, JSON, YAML or LDIF",
		tag,
	)
	show.MaxBodyBytes = rows.MaxBytes + 1<<20
	show.DefaultStatus = http.StatusCreated
	register(
		a,
		show,
		func(ctx context.Context, in *tableInput) (*created[api.RecordImport], error) {
			how := service.Table{Noun: in.Noun, Key: in.Key}
			if in.Mapping != "" {
				if err := json.Unmarshal([]byte(in.Mapping), &how.Mapping); err != nil {
					return nil, &vpn.Problems{Object: "import", List: []vpn.Problem{{
						Pointer: "/mapping", Found: "no JSON object of texts",
						Expected: `columns and their fields, such as {"E-Mail": "mail"}`,
					}}}
				}
			}
			name, data, err := tableIn(in.RawBody)
			if err != nil {
				return nil, err
			}
			made, err := a.svc.ShowImport(ctx, name, data, how)
			return &created[api.RecordImport]{"/api/v1/record-imports/" + made.ID, made}, err
		},
	)
	handle(
		a,
		operation(
			http.MethodGet,
			"/record-imports",
			"list-record-imports",
			"List imports of tables",
			tag,
		),
		func(ctx context.Context, in *listInput) (api.Page[api.RecordImport], error) {
			return a.svc.RecordImports(ctx, in.query())
		},
	)
	handle(
		a,
		operation(http.MethodGet, "/record-imports/{id}", "get-record-import",
			"Read how far an import is", tag),
		func(ctx context.Context, in *idInput) (api.RecordImport, error) {
			return a.svc.RecordImport(ctx, in.ID)
		},
	)
	handle(
		a,
		operation(http.MethodGet, "/record-imports/{id}/rows", "list-import-rows",
			"List the rows of an import with what becomes of each", tag),
		func(ctx context.Context, in *importRowsInput) (api.Page[api.ImportRow], error) {
			return a.svc.ImportRows(ctx, in.ID, in.query())
		},
	)
	handle(
		a,
		operation(http.MethodPut, "/record-imports/{id}/state", "set-record-import-state",
			"Import what was previewed, or undo that; both are jobs", tag),
		func(ctx context.Context, in *importStateInput) (api.Job, error) {
			if in.Body.State == api.ImportUndone {
				return a.svc.UndoImport(ctx, in.ID)
			}
			return a.svc.MakeImport(ctx, in.ID)
		},
	)
}

// tableIn reads the one file of a form.
func tableIn(form multipart.Form) (name string, data []byte, err error) {
	for _, list := range form.File {
		for _, h := range list {
			if name != "" {
				return "", nil, errOneTable
			}
			f, err := h.Open()
			if err != nil {
				return "", nil, err
			}
			name = h.Filename
			data, err = io.ReadAll(io.LimitReader(f, rows.MaxBytes+1))
			if err = errors.Join(err, f.Close()); err != nil {
				return "", nil, err
			}
		}
	}
	if name == "" {
		return "", nil, errOneTable
	}
	return name, data, nil
}

var errOneTable = &vpn.Problems{Object: "import", List: []vpn.Problem{{
	Pointer: "/file", Found: "none or several files", Expected: "one file as a part of " +
		"multipart/form-data",
}}}
