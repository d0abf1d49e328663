package httpapi

import (
	"context"
	"errors"
	"net/http"
	"strings"

	"wardicon/api"
	"wardicon/service"
)

type deliveryInput struct {
	ID   string `path:"id" maxLength:"64" doc:"Identifier of the record"`
	Body struct {
		// Command that reloads the daemons once something has changed.
		Reload string `json:"reload" required:"false" maxLength:"1000"`
		// Address of this service as the gateway reaches it; empty takes that of the request.
		Address string `json:"address" required:"false" maxLength:"300"`
	}
}

// deliveries are the operations on gateways that fetch their configuration.
func (a *handlers) deliveries() {
	const tag = "gateways"
	handle(
		a,
		operation(http.MethodGet, "/gateways/{id}/delivery", "show-delivery",
			"Show when a gateway asked for its configuration, and which version it runs", tag),
		func(ctx context.Context, in *idInput) (api.Delivery, error) {
			return a.svc.Delivery(ctx, in.ID)
		},
	)
	make := confirming(by(service.RoleOwner, operation(http.MethodPut, "/gateways/{id}/delivery",
		"make-delivery", "Make a token and a script by which a gateway fetches its configuration "+
			"(owners only)", tag)))
	handle(a, make, func(ctx context.Context, in *deliveryInput) (api.NewDelivery, error) {
		at := in.Body.Address
		if at == "" {
			at = callerOf(ctx).origin
		}
		return a.svc.NewDelivery(ctx, in.ID, in.Body.Reload, strings.TrimRight(at, "/"))
	})
	quiet(
		a,
		by(
			service.RoleOwner,
			operation(http.MethodDelete, "/gateways/{id}/delivery", "end-delivery",
				"Take the token of a gateway away (owners only)", tag),
		),
		func(ctx context.Context, in *idInput) error { return a.svc.EndDelivery(ctx, in.ID) },
	)
}

// deliver gives a gateway its configuration, if it runs another one (RFC 9110 §13.1.2).
func (a *handlers) deliver(w http.ResponseWriter, r *http.Request) {
	runs := strings.Trim(strings.TrimPrefix(r.Header.Get("If-None-Match"), "W/"), `"`)
	archive, version, err := a.svc.Deliver(
		r.Context(),
		bearer(r.Header.Get("Authorization"), ""),
		runs,
	)
	w.Header().Set("Cache-Control", "no-store")
	switch {
	case errors.Is(err, service.ErrNoDelivery):
		w.Header().Set("WWW-Authenticate", "Bearer")
		writeProblem(w, r, problem(http.StatusUnauthorized, "sign-in",
			"the token is none of a gateway, or was taken away; make another"))
		return
	case err != nil:
		p, _ := a.answer(r.Context(), err).(*api.Problem)
		writeProblem(w, r, p)
		return
	}
	w.Header().Set("ETag", `"`+version+`"`)
	if archive == nil {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	w.Header().Set("Content-Type", "application/gzip")
	_, _ = w.Write(archive)
}
