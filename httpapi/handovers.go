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
		Group string `json:"group" required:"true" doc:"Group whose devices' parcels are handed over"`
		api.HandoverRequest
	}
}

type reissueInput struct {
	ID   string `path:"id"`
	Body struct {
		Link check.Way `json:"link,omitempty" enum:"shown,mail" doc:"How the new link is sent; left out means shown"`
	}
}

type slipsInput struct {
	ID   string `path:"id"`
	Half string `path:"half" enum:"link,passcode"`
}

type archiveInput struct {
	Body struct {
		ProfileID string `json:"profile_id,omitempty" doc:"Either this"`
		Group     string `json:"group,omitempty" doc:"or this: the parcels of a group's people"`
	}
}

// handovers are the operations on parcels on their way.
func (a *handlers) handovers() {
	const tag = "handovers"
	handle(a, operation(http.MethodGet, "/handovers", "list-handovers", "List handovers, newest first", tag), func(ctx context.Context, in *listInput) (*body[api.Page[api.Handover]], error) {
		page, err := a.svc.Handovers(ctx, in.query())
		return &body[api.Page[api.Handover]]{page}, err
	})
	handle(a, operation(http.MethodGet, "/handovers/sums", "sum-handovers", "Count handovers by state", tag), func(ctx context.Context, _ *none) (*body[api.Items[api.HandoverSum]], error) {
		list, err := a.svc.SumHandovers(ctx)
		return &body[api.Items[api.HandoverSum]]{api.Items[api.HandoverSum]{Items: list}}, err
	})
	add := operation(http.MethodPost, "/handovers", "make-handover", "Create a link to the newest parcel of a profile; link and passcode are shown once", tag)
	add.DefaultStatus = http.StatusCreated
	handle(a, add, func(ctx context.Context, in *handoverInput) (*body[api.NewHandover], error) {
		made, err := a.svc.MakeHandover(ctx, in.Body.ProfileID, in.Body.HandoverRequest)
		return &body[api.NewHandover]{linked(ctx, made)}, err
	})
	group := operation(http.MethodPost, "/handovers/batches", "hand-over-group", "Hand over to a group: build outdated parcels, create links, email them or keep them for a day", tag)
	group.DefaultStatus = http.StatusAccepted
	handle(a, group, func(ctx context.Context, in *batchInput) (*body[api.Job], error) {
		j, err := a.svc.HandOverGroup(ctx, in.Body.Group, in.Body.HandoverRequest)
		return &body[api.Job]{j}, err
	})
	handle(a, operation(http.MethodPost, "/handovers/batches/{id}/{half}", "read-slips", "Read the links or passcodes of a batch; recorded in the audit log", tag), func(ctx context.Context, in *slipsInput) (*body[api.Items[api.Slip]], error) {
		list, err := a.svc.Slips(ctx, in.ID, in.Half)
		return &body[api.Items[api.Slip]]{api.Items[api.Slip]{Items: list}}, err
	})
	handle(a, operation(http.MethodPost, "/handovers/{id}/recall", "recall-handover", "Close a link immediately", tag), func(ctx context.Context, in *idInput) (*body[api.Handover], error) {
		h, err := a.svc.RecallHandover(ctx, in.ID)
		return &body[api.Handover]{h}, err
	})
	again := operation(http.MethodPost, "/handovers/{id}/reissue", "reissue-handover", "Replace a link by a new one to the same profile", tag)
	again.DefaultStatus = http.StatusCreated
	handle(a, again, func(ctx context.Context, in *reissueInput) (*body[api.NewHandover], error) {
		made, err := a.svc.Reissue(ctx, in.ID, in.Body.Link)
		return &body[api.NewHandover]{linked(ctx, made)}, err
	})
	handle(a, confirming(operation(http.MethodPost, "/archives", "make-archive", "Create an encrypted archive of parcels; its passphrase is shown once", tag)), func(ctx context.Context, in *archiveInput) (*body[api.Archive], error) {
		archive, err := a.svc.Archive(ctx, in.Body.ProfileID, in.Body.Group)
		return &body[api.Archive]{archive}, err
	})
	where := operation(http.MethodGet, "/whereami", "whereami", "Show the public address of the caller, and the gateway in between", "handovers")
	where.Security = nil
	handle(a, where, func(ctx context.Context, _ *none) (*body[api.Whereabouts], error) {
		w, err := a.svc.Whereabouts(ctx, callerOf(ctx).address)
		return &body[api.Whereabouts]{w}, err
	})
	handle(a, operation(http.MethodGet, "/profiles/{id}/seen_connections", "list-seen_connections", "List the connections of a profile's device that were seen", "profiles"), func(ctx context.Context, in *idInput) (*body[api.Items[api.SeenConnection]], error) {
		list, err := a.svc.SeenConnections(ctx, in.ID)
		return &body[api.Items[api.SeenConnection]]{api.Items[api.SeenConnection]{Items: list}}, err
	})
}

// linked completes a link: where no address is set under which people reach the service, it is the one that was
// just used. It is drawn as a code to be scanned.
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
