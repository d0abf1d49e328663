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
		Name        string `json:"name" required:"false" doc:"Name of the signer that people see; empty uses the organisation's" maxLength:"64"`
		Days        int    `json:"days" required:"false" doc:"Validity in days; 0 uses the authority's setting"`
	}
}

type takeSignerInput struct {
	SeenInput
	Body api.Material
}

// signer are the operations on what signs parcels.
func (a *handlers) signer() {
	const tag = "signer"
	handle(a, operation(http.MethodGet, "/signer", "show-signer", "Show the signing certificate", tag), func(ctx context.Context, _ *none) (*body[api.Signer], error) {
		s, err := a.svc.Signer(ctx)
		return &body[api.Signer]{s}, err
	})
	handle(a, by(service.RoleOwner, operation(http.MethodPost, "/signer", "make-signer", "Create a signing certificate", tag)), func(ctx context.Context, in *makeSignerInput) (*body[api.Signer], error) {
		version, err := in.version("signer", true)
		if err != nil {
			return nil, err
		}
		s, err := a.svc.MakeSigner(ctx, in.Body.AuthorityID, in.Body.Name, in.Body.Days, version)
		return &body[api.Signer]{s}, err
	})
	handle(a, by(service.RoleOwner, operation(http.MethodPost, "/take-signer", "take-signer", "Import a signing certificate and its key", tag)), func(ctx context.Context, in *takeSignerInput) (*body[api.Signer], error) {
		version, err := in.version("signer", true)
		if err != nil {
			return nil, err
		}
		s, err := a.svc.TakeSigner(ctx, in.Body, version)
		return &body[api.Signer]{s}, err
	})
	remove := by(service.RoleOwner, operation(http.MethodDelete, "/signer", "remove-signer", "Stop signing parcels", tag))
	remove.DefaultStatus = http.StatusNoContent
	handle(a, remove, func(ctx context.Context, in *SeenInput) (*none, error) {
		version, err := in.version("signer", true)
		if err != nil {
			return nil, err
		}
		return nil, a.svc.RemoveSigner(ctx, version)
	})
}
