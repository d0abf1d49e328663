package httpapi

import (
	"context"
	"mime"
	"net/http"

	"wardicon/api"
	"wardicon/core/vpn"
	"wardicon/service"
)

type tryInput struct {
	Body struct {
		DeviceID    string          `json:"device_id" maxLength:"64"`
		GatewayID   string          `json:"gateway_id" maxLength:"64"`
		Preferences vpn.Preferences `json:"preferences,omitempty"`
	}
}

type previewInput struct {
	ID     string `path:"id" maxLength:"64" doc:"Identifier of the record"`
	ByHand bool   `query:"by_hand" doc:"Only the card, with the steps for manual setup"`
}

type buildInput struct {
	ID   string `path:"id" maxLength:"64" doc:"Identifier of the record"`
	Body struct {
		// Only the card, with the steps for manual setup.
		ByHand bool `json:"by_hand,omitempty"`
	}
}

type fileInput struct {
	ID   string `path:"id" maxLength:"64" doc:"Identifier of the record"`
	Name string `path:"name" maxLength:"200" doc:"Name of the file"`
}

type fileOutput struct {
	ContentType string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Policy      string `header:"Content-Security-Policy"`
	Body        []byte
}

func (a *handlers) profiles() {
	register(
		a,
		operation(
			http.MethodGet,
			"/profiles/{id}/plan",
			"plan-profile",
			"Plan and check a profile, with reasons and findings",
			"profiles",
		),
		func(ctx context.Context, in *idInput) (*body[api.Planned], error) {
			p, err := a.svc.Plan(ctx, in.ID)
			return &body[api.Planned]{p}, err
		},
	)
	register(
		a,
		by(
			service.RoleAuditor,
			operation(
				http.MethodPost,
				"/plan",
				"try-plan",
				"Plan and check without storing anything",
				"profiles",
			),
		),
		func(ctx context.Context, in *tryInput) (*body[api.Planned], error) {
			p, err := a.svc.Try(
				ctx,
				vpn.Profile{
					DeviceID:    in.Body.DeviceID,
					GatewayID:   in.Body.GatewayID,
					Preferences: in.Body.Preferences,
				},
			)
			return &body[api.Planned]{p}, err
		},
	)
	register(
		a,
		operation(
			http.MethodGet,
			"/profiles/{id}/preview",
			"preview-profile",
			"Show the files that would be built, with secrets hidden",
			"profiles",
		),
		func(ctx context.Context, in *previewInput) (*body[api.Items[api.ShownFile]], error) {
			shown, err := a.svc.Preview(ctx, in.ID, in.ByHand, false)
			return &body[api.Items[api.ShownFile]]{api.Items[api.ShownFile]{Items: shown}}, err
		},
	)
	register(
		a,
		operation(
			http.MethodPost,
			"/profiles/{id}/secret-preview",
			"reveal-profile",
			"Show the files with their secrets; recorded in the audit log",
			"profiles",
		),
		func(ctx context.Context, in *previewInput) (*body[api.Items[api.ShownFile]], error) {
			if err := a.svc.Sparing(here(ctx)); err != nil {
				return nil, err
			}
			shown, err := a.svc.Preview(ctx, in.ID, in.ByHand, true)
			return &body[api.Items[api.ShownFile]]{api.Items[api.ShownFile]{Items: shown}}, err
		},
	)
	register(
		a,
		operation(
			http.MethodGet,
			"/profiles/{id}/parcels",
			"list-parcels",
			"List the parcels of a profile",
			"parcels",
		),
		func(ctx context.Context, in *idInput) (*body[api.Items[api.Parcel]], error) {
			list, err := a.svc.Parcels(ctx, in.ID)
			return &body[api.Items[api.Parcel]]{api.Items[api.Parcel]{Items: list}}, err
		},
	)
	build := operation(
		http.MethodPost,
		"/profiles/{id}/parcels",
		"build-parcel",
		"Build a parcel; errors prevent the build",
		"parcels",
	)
	build.DefaultStatus = http.StatusCreated
	handle(a, build, func(ctx context.Context, in *buildInput) (api.Parcel, error) {
		return a.svc.Build(ctx, in.ID, in.Body.ByHand)
	})
	register(
		a,
		by(
			service.RoleIssuer,
			operation(
				http.MethodGet,
				"/parcels/{id}/files/{name}",
				"fetch-file",
				"Fetch a file of a parcel, secrets included; recorded in the audit log",
				"parcels",
			),
		),
		func(ctx context.Context, in *fileInput) (*fileOutput, error) {
			f, err := a.svc.ParcelFile(
				ctx,
				in.ID,
				in.Name,
				func() error { return a.svc.Sparing(here(ctx)) },
			)
			if err != nil {
				return nil, err
			}
			return &fileOutput{
				ContentType: f.MediaType,
				Disposition: mime.FormatMediaType(
					"attachment",
					map[string]string{"filename": f.Name},
				),
				Policy: "sandbox; default-src 'none'; style-src 'unsafe-inline'",
				Body:   f.Content,
			}, nil
		},
	)
}
