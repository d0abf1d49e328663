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
		OffRecord bool   `json:"off_record,omitempty" doc:"Probe it although it is not on record (owners only)"`
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
	handle(a, begun("/gateways/probe", "probe-gateways", "Start a job that probes all gateways"), func(ctx context.Context, _ *none) (*body[api.Job], error) {
		j, err := a.svc.ProbeGateways(ctx, "")
		return &body[api.Job]{j}, err
	})
	handle(a, operation(http.MethodPost, "/probes", "probe-address", "Probe an address that is not on record (owners only); the results are not stored", tag), func(ctx context.Context, in *addressInput) (*body[drift.Probe], error) {
		p, err := a.svc.ProbeAddress(ctx, in.Body.Address, in.Body.OffRecord)
		return &body[drift.Probe]{p}, err
	})
	handle(a, operation(http.MethodGet, "/probes", "list-probes", "List probe results, newest first; latest=true is the last of each gateway", tag), func(ctx context.Context, in *listInput) (*body[api.Page[drift.ProbeRow]], error) {
		page, err := a.svc.Probes(ctx, in.query())
		return &body[api.Page[drift.ProbeRow]]{page}, err
	})
	handle(a, operation(http.MethodGet, "/gateways/{id}/probes/{probe}", "show-probe", "Show the results of a probe", tag), func(ctx context.Context, in *probeInput) (*body[drift.Probe], error) {
		p, err := a.svc.ProbeOf(ctx, in.ID, in.Probe)
		return &body[drift.Probe]{p}, err
	})
	handle(a, operation(http.MethodPost, "/gateways/{id}/probes/{probe}/take", "take-over-probe", "Accept probe results into a gateway's record", tag), func(ctx context.Context, in *takeInput) (*body[api.Gateway], error) {
		g, err := a.svc.TakeOver(ctx, in.ID, in.Probe, in.Body.Which)
		return &body[api.Gateway]{g}, err
	})
	handle(a, operation(http.MethodGet, "/gateways/{id}/answer-times", "list-answer-times", "Summarise a gateway's response times of the last 30 days by city", tag), func(ctx context.Context, in *idInput) (*body[[]api.MeasuredTimes], error) {
		list, err := a.svc.AnswerTimesOf(ctx, in.ID)
		return &body[[]api.MeasuredTimes]{list}, err
	})
	handle(a, operation(http.MethodPost, "/gateways/{id}/answer-times", "add-answer-time", "Record a response time of a gateway; patterns that choose the fastest gateway use it", tag), func(ctx context.Context, in *answerTimeInput) (*none, error) {
		in.Body.GatewayID = in.ID
		return nil, a.svc.AddAnswerTime(ctx, in.Body)
	})
}
