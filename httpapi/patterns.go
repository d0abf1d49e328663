package httpapi

import (
	"context"
	"net/http"
	"reflect"

	"github.com/danielgtaylor/huma/v2"

	"wardicon/api"
	"wardicon/core/vpn"
	"wardicon/service"
)

type prospectsInput struct {
	Pattern string `query:"pattern" doc:"Identifier of a stored pattern; without it the body describes a new one" maxLength:"64"`
	Limit   int    `query:"limit" default:"50" minimum:"1" maximum:"200"`
	Offset  int    `query:"offset" default:"0" minimum:"0"`
	RawBody []byte `contentType:"application/merge-patch+json"`
}

type jobsInput struct {
	Limit  int    `query:"limit" default:"50" minimum:"1" maximum:"500"`
	Offset int    `query:"offset" default:"0" minimum:"0"`
	Kind   string `query:"kind" maxLength:"32" doc:"Jobs of one kind, such as roll-out, hand-over or probe"`
}

func (a *handlers) patterns() {
	registry := a.huma.OpenAPI().Components.Schemas
	full := registry.Schema(reflect.TypeFor[vpn.Pattern](), false, "pattern")
	input := &huma.Schema{Ref: "#/components/schemas/PatternInput"} // as for adding one
	const media = "application/merge-patch+json"

	look := by(service.RoleAuditor, operation(http.MethodPost, "/prospects", "show-prospects", "Show the effect of a pattern on its devices, without changing anything", "patterns"))
	look.RequestBody, look.SkipValidateBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{media: {Schema: input}}}, true
	handle(a, look, func(ctx context.Context, in *prospectsInput) (*body[api.Page[api.Prospect]], error) {
		var base vpn.Pattern
		if in.Pattern != "" {
			kept, err := a.svc.Patterns.Get(ctx, in.Pattern)
			if err != nil {
				return nil, err
			}
			base = kept.Pattern
		} else {
			base.Name = "new pattern"
		}
		base.Normalise()
		p, err := merged[vpn.Pattern, *vpn.Pattern](registry, full, "pattern", &base, in.RawBody)
		if err != nil {
			return nil, err
		}
		p.Meta = base.Meta
		page, err := a.svc.Prospects(ctx, *p, in.Limit, in.Offset)
		return &body[api.Page[api.Prospect]]{page}, err
	})
	look.RequestBody.Content[media].Schema = input // the framework saw only bytes

	roll := operation(http.MethodPost, "/patterns/{id}/roll-out", "roll-out-pattern", "Create or change the profiles of all devices of a pattern, as a job", "patterns")
	roll.DefaultStatus = http.StatusAccepted
	handle(a, roll, func(ctx context.Context, in *idInput) (*body[api.Job], error) {
		j, err := a.svc.RollOut(ctx, in.ID)
		return &body[api.Job]{j}, err
	})
	handle(a, operation(http.MethodGet, "/jobs", "list-jobs", "List jobs, newest first", "jobs"), func(ctx context.Context, in *jobsInput) (*body[api.Page[api.Job]], error) {
		page, err := a.svc.Jobs(ctx, in.Kind, in.Limit, in.Offset)
		return &body[api.Page[api.Job]]{page}, err
	})
	handle(a, operation(http.MethodGet, "/jobs/{id}", "show-job", "Show the progress of a job", "jobs"), func(ctx context.Context, in *idInput) (*body[api.Job], error) {
		j, err := a.svc.Job(ctx, in.ID)
		return &body[api.Job]{j}, err
	})
	handle(a, operation(http.MethodPost, "/jobs/{id}/cancel", "cancel-job", "Cancel a running job; what it has done is kept", "jobs"), func(ctx context.Context, in *idInput) (*body[api.Job], error) {
		j, err := a.svc.Cancel(ctx, in.ID)
		return &body[api.Job]{j}, err
	})
}
