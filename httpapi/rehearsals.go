package httpapi

import (
	"context"
	"net/http"

	"wardicon/api"
)

type rehearseInput struct {
	ID   string `path:"id" maxLength:"64"`
	Body api.NewRehearsal
}

// rehearsals are trial connections to gateways.
func (a *handlers) rehearsals() {
	const tag = "rehearsals"
	begin := operation(
		http.MethodPost,
		"/profiles/{id}/rehearsals",
		"rehearse-profile",
		"Sign in to the gateway with the files of the newest parcel; the result follows",
		tag,
	)
	begin.DefaultStatus = http.StatusAccepted
	handle(a, begin, func(ctx context.Context, in *rehearseInput) (api.Rehearsal, error) {
		return a.svc.Rehearse(ctx, in.ID, in.Body)
	})
	handle(
		a,
		operation(http.MethodGet, "/rehearsals", "list-rehearsals",
			"List rehearsals, newest first; latest=true is the last of each profile", tag),
		func(ctx context.Context, in *listInput) (api.Page[api.Rehearsal], error) {
			return a.svc.Rehearsals(ctx, in.query())
		},
	)
	handle(
		a,
		operation(http.MethodGet, "/rehearsals/{id}", "show-rehearsal",
			"Show a rehearsal, with the steps that are over", tag),
		func(ctx context.Context, in *idInput) (api.Rehearsal, error) {
			return a.svc.Rehearsal(ctx, in.ID)
		},
	)
}
