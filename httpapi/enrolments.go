package httpapi

import (
	"context"
	"net/http"

	"wardicon/api"
)

type enrolmentInput struct {
	ID   string `path:"id" maxLength:"64" doc:"Identifier of the device"`
	Body struct {
		// CA that issues the certificate.
		AuthorityID string `json:"authority_id" maxLength:"40"`
		// Hours that the secret is valid for; 0 means 72.
		Hours int `json:"hours,omitempty" minimum:"0" maximum:"2160"`
	}
}

func (a *handlers) enrolments() {
	const tag = "certificates"
	make := operation(http.MethodPost, "/devices/{id}/enrolments", "make-enrolment",
		"Create a one-time secret with which a device gets a certificate for a key of its own", tag)
	make.DefaultStatus = http.StatusCreated
	handle(a, make, func(ctx context.Context, in *enrolmentInput) (api.NewEnrolment, error) {
		return a.svc.MakeEnrolment(ctx, in.ID, in.Body.AuthorityID, in.Body.Hours)
	})
	handle(a, operation(http.MethodGet, "/devices/{id}/enrolments", "list-enrolments",
		"List a device's enrolment secrets, without their values", tag),
		func(ctx context.Context, in *idInput) (api.Items[api.Enrolment], error) {
			return items(a.svc.Enrolments(ctx, in.ID))
		})
	quiet(a, operation(http.MethodDelete, "/enrolments/{id}", "end-enrolment",
		"Revoke an enrolment secret that was not used", tag),
		func(ctx context.Context, in *idInput) error { return a.svc.EndEnrolment(ctx, in.ID) })
}
