package httpapi

import (
	"context"
	"io"
	"net/http"

	"github.com/go-chi/chi/v5"

	"wardicon/api"
)

type orderInput struct {
	ID   string `path:"id" maxLength:"64" doc:"Identifier of the record"`
	Body api.NewOrder
}

// orders are the operations on gateways' certificates that an ACME CA issues.
func (a *handlers) orders() {
	const tag = "certificates"
	handle(
		a,
		operation(http.MethodGet, "/certificate-orders", "list-certificate-orders",
			"List the gateways whose certificates an ACME CA issues", tag),
		func(ctx context.Context, _ *struct{}) (api.OrderList, error) { return a.svc.Orders(ctx) },
	)
	handle(
		a,
		operation(http.MethodGet, "/gateways/{id}/certificate-order", "show-certificate-order",
			"Show how a gateway's certificate at the ACME CA stands", tag),
		func(ctx context.Context, in *idInput) (api.Order, error) { return a.svc.Order(ctx, in.ID) },
	)
	handle(
		a,
		operation(http.MethodPut, "/gateways/{id}/certificate-order", "place-certificate-order",
			"Have the ACME CA issue a gateway's certificate, and renew it", tag),
		func(ctx context.Context, in *orderInput) (api.Order, error) {
			return a.svc.PlaceOrder(ctx, in.ID, in.Body)
		},
	)
	quiet(
		a,
		operation(http.MethodDelete, "/gateways/{id}/certificate-order", "end-certificate-order",
			"Renew a gateway's certificate no longer", tag),
		func(ctx context.Context, in *idInput) error { return a.svc.EndOrder(ctx, in.ID) },
	)
}

// challengeAnswer is for an ACME CA that asks whether a name is under control (RFC 8555 §8.3).
func (a *handlers) challengeAnswer(w http.ResponseWriter, r *http.Request) {
	answer := a.svc.ChallengeAnswer(chi.URLParam(r, "token"))
	if answer == "" {
		http.NotFound(w, r)
		return
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	_, _ = io.WriteString(w, answer)
}
