package httpapi

import (
	"context"
	"net/http"

	"wardicon/core/view"
)

type probeInput struct {
	ID   string `path:"id" maxLength:"64"`
	Body struct {
		Port int `json:"port,omitempty" doc:"Port that answers IKE; left out means 500"`
	}
}

// probes are the operations that ask gateways on the network.
func (a *api) probes() {
	handle(a, operation(http.MethodPost, "/gateways/{id}/probe", "probe-gateway", "Ask a gateway what it takes by IKEv2, and say where that differs from its record", "gateways"), func(ctx context.Context, in *probeInput) (*body[view.Probe], error) {
		p, err := a.svc.Probe(ctx, in.ID, in.Body.Port)
		return &body[view.Probe]{p}, err
	})
}
