package httpapi

import (
	"context"
	"net/http"

	"wardicon/api"
	"wardicon/core/card"
	"wardicon/core/check"
)

type handoverInput struct {
	Body struct {
		ProfileID string `json:"profile_id" required:"true"`
		api.HandoverRequest
	}
}

type batchInput struct {
	Body struct {
		// Group whose devices' parcels are handed over.
		Group string `json:"group" required:"true"`
		api.HandoverRequest
	}
}

type reissueInput struct {
	ID   string `path:"id" doc:"Identifier of the record"`
	Body struct {
		// How the new link is sent; left out means shown.
		Link check.Way `json:"link,omitempty" enum:"shown,mail"`
	}
}

type slipsInput struct {
	ID   string `path:"id" doc:"Identifier of the record"`
	Half string `path:"half" enum:"link,passcode" doc:"The links, or the passcodes"`
}

type archiveInput struct {
	Body struct {
		// Either this.
		ProfileID string `json:"profile_id,omitempty"`
		// or this: the parcels of a group's people.
		Group string `json:"group,omitempty"`
	}
}

// handovers are the operations on parcels on their way.
func (a *handlers) handovers() {
	const tag = "handovers"
	handle(
		a,
		operation(
			http.MethodGet,
			"/handovers",
			"list-handovers",
			"List handovers, newest first",
			tag,
		),
		func(ctx context.Context, in *listInput) (api.Page[api.Handover], error) {
			return a.svc.Handovers(ctx, in.query())
		},
	)
	handle(
		a,
		operation(
			http.MethodGet,
			"/handovers/sums",
			"sum-handovers",
			"Count handovers by state",
			tag,
		),
		func(ctx context.Context, _ *none) (api.Items[api.HandoverSum], error) {
			return items(a.svc.SumHandovers(ctx))
		},
	)
	add := operation(
		http.MethodPost,
		"/handovers",
		"make-handover",
		"Create a link to the newest parcel of a profile; link and passcode are shown once",
		tag,
	)
	add.DefaultStatus = http.StatusCreated
	handle(a, add, func(ctx context.Context, in *handoverInput) (api.NewHandover, error) {
		made, err := a.svc.MakeHandover(ctx, in.Body.ProfileID, in.Body.HandoverRequest)
		return linked(ctx, made), err
	})
	group := operation(
		http.MethodPost,
		"/handovers/batches",
		"hand-over-group",
		"Hand over to a group: build outdated parcels, create links, email them or keep them for "+
			"a day",
		tag,
	)
	group.DefaultStatus = http.StatusAccepted
	handle(a, group, func(ctx context.Context, in *batchInput) (api.Job, error) {
		return a.svc.HandOverGroup(ctx, in.Body.Group, in.Body.HandoverRequest)
	})
	handle(
		a,
		operation(
			http.MethodPost,
			"/handovers/batches/{id}/{half}",
			"read-slips",
			"Read the links or passcodes of a batch; recorded in the audit log",
			tag,
		),
		func(ctx context.Context, in *slipsInput) (api.Items[api.Slip], error) {
			return items(a.svc.Slips(ctx, in.ID, in.Half))
		},
	)
	handle(
		a,
		operation(
			http.MethodPost,
			"/handovers/{id}/recall",
			"recall-handover",
			"Close a link immediately",
			tag,
		),
		func(ctx context.Context, in *idInput) (api.Handover, error) {
			return a.svc.RecallHandover(ctx, in.ID)
		},
	)
	again := operation(
		http.MethodPost,
		"/handovers/{id}/reissue",
		"reissue-handover",
		"Replace a link by a new one to the same profile",
		tag,
	)
	again.DefaultStatus = http.StatusCreated
	handle(a, again, func(ctx context.Context, in *reissueInput) (api.NewHandover, error) {
		made, err := a.svc.Reissue(ctx, in.ID, in.Body.Link)
		return linked(ctx, made), err
	})
	handle(
		a,
		confirming(
			operation(
				http.MethodPost,
				"/archives",
				"make-archive",
				"Create an encrypted archive of parcels; its passphrase is shown once",
				tag,
			),
		),
		func(ctx context.Context, in *archiveInput) (api.Archive, error) {
			return a.svc.Archive(ctx, in.Body.ProfileID, in.Body.Group)
		},
	)
	where := operation(
		http.MethodGet,
		"/caller",
		"whereami",
		"Show the public address of the caller, and the gateway in between",
		"handovers",
	)
	where.Security = nil
	handle(a, where, func(ctx context.Context, _ *none) (api.Whereabouts, error) {
		return a.svc.Whereabouts(ctx, callerOf(ctx).address)
	})
	handle(
		a,
		operation(
			http.MethodGet,
			"/profiles/{id}/seen-connections",
			"list-seen_connections",
			"List the connections of a profile's device that were seen",
			"profiles",
		),
		func(ctx context.Context, in *idInput) (api.Items[api.SeenConnection], error) {
			return items(a.svc.SeenConnections(ctx, in.ID))
		},
	)
}

// linked completes a link: where no address is set under which people reach the service, it is the
// one that was just used. It is drawn as a code to be scanned.
func linked(ctx context.Context, made api.NewHandover) api.NewHandover {
	if made.Path == "" {
		return made
	}
	if made.Link == made.Path {
		made.Link = callerOf(ctx).origin + made.Path
	}
	made.QR = string(card.QR(made.Link, "The link as a QR code"))
	return made
}
