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
		// Host name or IP address.
		Address string `json:"address" required:"true" maxLength:"253"`
		// Probe it although it is not on record (owners only).
		OffRecord bool `json:"off_record,omitempty"`
	}
}

type probeInput struct {
	ID    string `path:"id" maxLength:"64" doc:"Identifier of the record"`
	Probe string `path:"probe" maxLength:"64" doc:"Identifier, or latest"`
}

type takeInput struct {
	ID    string `path:"id" maxLength:"64" doc:"Identifier of the record"`
	Probe string `path:"probe" maxLength:"64" doc:"Identifier of the probe"`
	Body  struct {
		// Numbers of differences, from 0.
		Which []int `json:"which" required:"true" minItems:"1" maxItems:"100"`
	}
}

type answerTimeInput struct {
	ID   string `path:"id" maxLength:"64" doc:"Identifier of the record"`
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
	handle(
		a,
		begun(
			"/gateways/{id}/probes",
			"probe-gateway",
			"Start a job that probes a gateway on each protocol that it offers; its newest probe "+
				"lists the differences from its record",
		),
		func(ctx context.Context, in *idInput) (api.Job, error) {
			return a.svc.ProbeGateways(ctx, in.ID)
		},
	)
	handle(
		a,
		begun("/gateway-probes", "probe-gateways", "Start a job that probes all gateways"),
		func(ctx context.Context, _ *none) (api.Job, error) {
			return a.svc.ProbeGateways(ctx, "")
		},
	)
	handle(
		a,
		operation(
			http.MethodPost,
			"/probes",
			"probe-address",
			"Probe an address that is not on record (owners only); the results are not stored",
			tag,
		),
		func(ctx context.Context, in *addressInput) (drift.Probe, error) {
			return a.svc.ProbeAddress(ctx, in.Body.Address, in.Body.OffRecord)
		},
	)
	handle(
		a,
		operation(
			http.MethodGet,
			"/probes",
			"list-probes",
			"List probe results, newest first; latest=true is the last of each gateway",
			tag,
		),
		func(ctx context.Context, in *listInput) (api.Page[drift.ProbeRow], error) {
			return a.svc.Probes(ctx, in.query())
		},
	)
	handle(
		a,
		operation(
			http.MethodGet,
			"/gateways/{id}/probes/{probe}",
			"show-probe",
			"Show the results of a probe",
			tag,
		),
		func(ctx context.Context, in *probeInput) (drift.Probe, error) {
			return a.svc.ProbeOf(ctx, in.ID, in.Probe)
		},
	)
	handle(
		a,
		operation(
			http.MethodPost,
			"/gateways/{id}/probes/{probe}/adoption",
			"take-over-probe",
			"Accept probe results into a gateway's record",
			tag,
		),
		func(ctx context.Context, in *takeInput) (api.Gateway, error) {
			return a.svc.TakeOver(ctx, in.ID, in.Probe, in.Body.Which)
		},
	)
	handle(
		a,
		operation(
			http.MethodGet,
			"/gateways/{id}/answer-times",
			"list-answer-times",
			"Summarise a gateway's response times of the last 30 days by city",
			tag,
		),
		func(ctx context.Context, in *idInput) ([]api.MeasuredTimes, error) {
			return a.svc.AnswerTimesOf(ctx, in.ID)
		},
	)
	register(
		a,
		operation(
			http.MethodPost,
			"/gateways/{id}/answer-times",
			"add-answer-time",
			"Record a response time of a gateway; patterns that choose the fastest gateway use it",
			tag,
		),
		func(ctx context.Context, in *answerTimeInput) (*none, error) {
			in.Body.GatewayID = in.ID
			return nil, a.svc.AddAnswerTime(ctx, in.Body)
		},
	)
}
