package httpapi

import (
	"context"
	"net/http"

	"wardicon/api"
	"wardicon/service"
)

type makeSignerInput struct {
	SeenInput
	Body struct {
		AuthorityID string `json:"authority_id" required:"true"`
		// Name of the signer that people see; empty uses the organisation's.
		Name string `json:"name" required:"false" maxLength:"64"`
		// Validity in days; 0 uses the authority's setting.
		Days int `json:"days" required:"false"`
	}
}

type takeSignerInput struct {
	SeenInput
	Body api.Material
}

// signer are the operations on what signs parcels.
func (a *handlers) signer() {
	const tag = "signer"
	handle(
		a,
		operation(http.MethodGet, "/signer", "show-signer", "Show the signing certificate", tag),
		func(ctx context.Context, _ *none) (api.Signer, error) {
			return a.svc.Signer(ctx)
		},
	)
	handle(
		a,
		by(
			service.RoleOwner,
			operation(
				http.MethodPost,
				"/signer",
				"make-signer",
				"Create a signing certificate",
				tag,
			),
		),
		func(ctx context.Context, in *makeSignerInput) (zero api.Signer, err error) {
			version, err := in.version("signer", true)
			if err != nil {
				return zero, err
			}
			return a.svc.MakeSigner(ctx, in.Body.AuthorityID, in.Body.Name, in.Body.Days, version)
		},
	)
	handle(
		a,
		by(
			service.RoleOwner,
			operation(
				http.MethodPost,
				"/imported-signer",
				"take-signer",
				"Import a signing certificate and its key",
				tag,
			),
		),
		func(ctx context.Context, in *takeSignerInput) (zero api.Signer, err error) {
			version, err := in.version("signer", true)
			if err != nil {
				return zero, err
			}
			return a.svc.TakeSigner(ctx, in.Body, version)
		},
	)
	remove := by(
		service.RoleOwner,
		operation(http.MethodDelete, "/signer", "remove-signer", "Stop signing parcels", tag),
	)
	quiet(a, remove, func(ctx context.Context, in *SeenInput) error {
		version, err := in.version("signer", true)
		if err != nil {
			return err
		}
		return a.svc.RemoveSigner(ctx, version)
	})
}
