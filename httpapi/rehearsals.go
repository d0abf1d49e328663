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

type offersInput struct {
	ID   string `path:"id" maxLength:"64"`
	Body api.OfferRehearsals
}

type reportInput struct {
	ID   string `path:"id" maxLength:"64"`
	Body api.ReportedRehearsal
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
	report := operation(http.MethodPost, "/profiles/{id}/rehearsal-reports", "report-rehearsal",
		"Keep a rehearsal that was made elsewhere with a file of the newest parcel", tag)
	report.DefaultStatus = http.StatusCreated
	handle(a, report, func(ctx context.Context, in *reportInput) (api.Rehearsal, error) {
		return a.svc.ReportRehearsal(ctx, in.ID, in.Body)
	})
	offers := operation(http.MethodPost, "/profiles/{id}/offer-rehearsals", "rehearse-offers",
		"Rehearse a profile by the offers of its gateway, as if it asked for each", tag)
	offers.DefaultStatus = http.StatusAccepted
	handle(a, offers, func(ctx context.Context, in *offersInput) (api.RehearsalSample, error) {
		return a.svc.RehearseOffers(ctx, in.ID, in.Body)
	})
	for _, noun := range []string{"gateway", "pattern"} {
		sample := operation(http.MethodPost, "/"+noun+"s/{id}/rehearsals", "rehearse-"+noun,
			"Rehearse a sample of its profiles, with the gateways' accounts for rehearsals", tag)
		sample.DefaultStatus = http.StatusAccepted
		handle(a, sample, func(ctx context.Context, in *idInput) (api.RehearsalSample, error) {
			return a.svc.RehearseSample(ctx, noun, in.ID)
		})
	}
	handle(
		a,
		operation(http.MethodGet, "/rehearsal-matrix", "show-rehearsal-matrix",
			"Show the last rehearsal of each gateway, protocol and platform; pages, searches and "+
				"filters are those of gateways", tag),
		func(ctx context.Context, in *listInput) (api.RehearsalMatrix, error) {
			return a.svc.RehearsalMatrix(ctx, in.query())
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
