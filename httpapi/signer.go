package httpapi

import (
	"context"
	"net/http"

	"wardicon/core/view"
	"wardicon/service"
)

type makeSignerInput struct {
	Body struct {
		AuthorityID string `json:"authority_id" required:"true"`
		Name        string `json:"name" required:"false" doc:"Name that people see as the signer; empty makes one of the organisation's" maxLength:"64"`
		Days        int    `json:"days" required:"false" doc:"Days that it is valid; 0 goes by the authority"`
	}
}

// signer are the operations on what signs parcels.
func (a *api) signer() {
	const tag = "signer"
	handle(a, operation(http.MethodGet, "/signer", "show-signer", "Show what signs parcels", tag), func(ctx context.Context, _ *none) (*body[view.Signer], error) {
		s, err := a.svc.Signer(ctx)
		return &body[view.Signer]{s}, err
	})
	handle(a, by(service.RoleOwner, operation(http.MethodPost, "/signer", "make-signer", "Have an authority issue the certificate that signs parcels", tag)), func(ctx context.Context, in *makeSignerInput) (*body[view.Signer], error) {
		s, err := a.svc.MakeSigner(ctx, in.Body.AuthorityID, in.Body.Name, in.Body.Days)
		return &body[view.Signer]{s}, err
	})
	handle(a, by(service.RoleOwner, operation(http.MethodPost, "/take-signer", "take-signer", "Bring a signing certificate with its key in", tag)), func(ctx context.Context, in *materialInput) (*body[view.Signer], error) {
		s, err := a.svc.TakeSigner(ctx, in.Body)
		return &body[view.Signer]{s}, err
	})
	remove := by(service.RoleOwner, operation(http.MethodDelete, "/signer", "remove-signer", "Sign parcels no more", tag))
	remove.DefaultStatus = http.StatusNoContent
	handle(a, remove, func(ctx context.Context, _ *none) (*none, error) { return nil, a.svc.RemoveSigner(ctx) })
}
