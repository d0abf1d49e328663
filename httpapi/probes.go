package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"wardicon/api"
	"wardicon/core/drift"
)

type addressInput struct {
	Body struct {
		Address   string `json:"address" required:"true" maxLength:"253" doc:"Host name or IP address"`
		OffRecord bool   `json:"off_record,omitempty" doc:"Ask it although it is on no record (owners only)"`
	}
}

type probeInput struct {
	ID    string `path:"id" maxLength:"64"`
	Probe string `path:"probe" maxLength:"64" doc:"Identifier, or latest"`
}

type takeInput struct {
	ID    string `path:"id" maxLength:"64"`
	Probe string `path:"probe" maxLength:"64"`
	Body  struct {
		Which []int `json:"which" required:"true" minItems:"1" maxItems:"100" doc:"Numbers of differences, from 0"`
	}
}

type answerTimeInput struct {
	ID   string `path:"id" maxLength:"64"`
	Body api.MeasuredTime
}

// probes are the operations that ask gateways on the network.
func (a *handlers) probes() {
	const tag = "gateways"
	begun := func(path, id, summary string) huma.Operation {
		o := operation(http.MethodPost, path, id, summary, tag)
		o.DefaultStatus = http.StatusAccepted
		return o
	}
	handle(a, begun("/gateways/{id}/probe", "probe-gateway", "Start a job that probes a gateway on each protocol that it offers; its newest probe lists the differences from its record"), func(ctx context.Context, in *idInput) (*body[api.Job], error) {
		j, err := a.svc.ProbeGateways(ctx, in.ID)
		return &body[api.Job]{j}, err
	})
	handle(a, begun("/gateways/probe", "probe-gateways", "Begin a job that asks every gateway on record"), func(ctx context.Context, _ *none) (*body[api.Job], error) {
		j, err := a.svc.ProbeGateways(ctx, "")
		return &body[api.Job]{j}, err
	})
	handle(a, operation(http.MethodPost, "/probes", "probe-address", "Ask an address that is on no record, where an owner says so; what it answers is not kept", tag), func(ctx context.Context, in *addressInput) (*body[drift.Probe], error) {
		p, err := a.svc.ProbeAddress(ctx, in.Body.Address, in.Body.OffRecord)
		return &body[drift.Probe]{p}, err
	})
	handle(a, operation(http.MethodGet, "/probes", "list-probes", "List what gateways answered, newest first; latest=yes is the last of each", tag), func(ctx context.Context, in *listInput) (*body[api.Page[drift.ProbeRow]], error) {
		page, err := a.svc.Probes(ctx, in.query())
		return &body[api.Page[drift.ProbeRow]]{page}, err
	})
	handle(a, operation(http.MethodGet, "/gateways/{id}/probes/{probe}", "show-probe", "Show what a gateway answered once", tag), func(ctx context.Context, in *probeInput) (*body[drift.Probe], error) {
		p, err := a.svc.ProbeOf(ctx, in.ID, in.Probe)
		return &body[drift.Probe]{p}, err
	})
	handle(a, operation(http.MethodPost, "/gateways/{id}/probes/{probe}/take", "take-over-probe", "Accept probe results into a gateway's record", tag), func(ctx context.Context, in *takeInput) (*body[api.Gateway], error) {
		g, err := a.svc.TakeOver(ctx, in.ID, in.Probe, in.Body.Which)
		return &body[api.Gateway]{g}, err
	})
	handle(a, operation(http.MethodGet, "/gateways/{id}/answer-times", "list-answer-times", "Sum up how fast a gateway answered in the last 30 days, by place", tag), func(ctx context.Context, in *idInput) (*body[[]api.MeasuredTimes], error) {
		list, err := a.svc.AnswerTimesOf(ctx, in.ID)
		return &body[[]api.MeasuredTimes]{list}, err
	})
	handle(a, operation(http.MethodPost, "/gateways/{id}/answer-times", "add-answer-time", "Note how fast a gateway answered from a place; patterns that choose the fastest gateway go by it", tag), func(ctx context.Context, in *answerTimeInput) (*none, error) {
		in.Body.GatewayID = in.ID
		return nil, a.svc.AddAnswerTime(ctx, in.Body)
	})
}
