package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"wardicon/api"
	"wardicon/core/vpn"
	"wardicon/service"
)

type prospectsInput struct {
	Pattern string `query:"pattern" maxLength:"64" doc:"ID of a stored pattern; empty for none"`
	Limit   int    `query:"limit" default:"50" minimum:"1" maximum:"200" doc:"Rows at most"`
	Offset  int    `query:"offset" default:"0" minimum:"0" doc:"Rows to skip"`
	RawBody []byte `contentType:"application/merge-patch+json"`
}

func (a *handlers) patterns() {
	input := &huma.Schema{Ref: "#/components/schemas/PatternInput"} // as for adding one
	const media = "application/merge-patch+json"

	look := by(
		service.RoleAuditor,
		operation(
			http.MethodPost,
			"/prospects",
			"show-prospects",
			"Show the effect of a pattern on its devices, without changing anything",
			"patterns",
		),
	)
	takes(&look, media, input)
	handle(
		a,
		look,
		func(ctx context.Context, in *prospectsInput) (zero api.Page[api.Prospect], err error) {
			var base vpn.Pattern
			if in.Pattern != "" {
				kept, err := a.svc.Patterns.Get(ctx, in.Pattern)
				if err != nil {
					return zero, err
				}
				base = kept.Pattern
			} else {
				base.Name = "new pattern"
			}
			base.Normalise()
			read, err := a.merged("pattern", &base, in.RawBody)
			if err != nil {
				return zero, err
			}
			p := read.(*vpn.Pattern)
			p.Meta = base.Meta
			return a.svc.Prospects(ctx, *p, in.Limit, in.Offset)
		},
	)
	takes(&look, media, input) // the framework saw only bytes

	roll := operation(
		http.MethodPost,
		"/patterns/{id}/roll-outs",
		"roll-out-pattern",
		"Create or change the profiles of all devices of a pattern, as a job",
		"patterns",
	)
	roll.DefaultStatus = http.StatusAccepted
	handle(a, roll, func(ctx context.Context, in *idInput) (api.Job, error) {
		return a.svc.RollOut(ctx, in.ID)
	})
}
