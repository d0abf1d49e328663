package httpapi

import (
	"context"
	"mime/multipart"
	"net/http"
	"strings"

	"wardicon/api"
	"wardicon/core/secret"
	"wardicon/service"
)

type rehearseInput struct {
	ID   string `path:"id" maxLength:"64" doc:"Identifier of the record"`
	Body api.NewRehearsal
}

// fileRehearsalInput are dropped files, with a login and a password as parts of their names.
type fileRehearsalInput struct {
	For        string `query:"for" maxLength:"60" doc:"Platform and release to connect as"`
	File       string `query:"file" maxLength:"400" doc:"Name of the file, where several came"`
	Connection string `query:"connection" maxLength:"200" doc:"Name of the connection in the files"`
	Again      bool   `query:"again" doc:"Sign in although the gateway rejected the login"`
	OffRecord  bool   `query:"off_record" doc:"Try an address of no gateway on record; for owners"`
	RawBody    multipart.Form
}

type offersInput struct {
	ID   string `path:"id" maxLength:"64" doc:"Identifier of the record"`
	Body api.OfferRehearsals
}

type reportInput struct {
	ID   string `path:"id" maxLength:"64" doc:"Identifier of the record"`
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
	loose := operation(http.MethodPost, "/file-rehearsals", "rehearse-files",
		"Sign in to a gateway with a dropped file; neither the file nor the result is stored", tag)
	loose.DefaultStatus = http.StatusAccepted
	loose.MaxBodyBytes = maxDropped
	handle(a, loose, func(ctx context.Context, in *fileRehearsalInput) (
		zero api.Rehearsal,
		err error,
	) {
		files, err := dropped(in.RawBody)
		if err != nil {
			return zero, err
		}
		part := func(name string) string { return strings.Join(in.RawBody.Value[name], "") }
		return a.svc.RehearseFile(ctx, files, service.FileRehearsal{
			File: in.File, Connection: in.Connection, For: in.For, Login: part("login"),
			Password: secret.New(part("password")), Again: in.Again, OffRecord: in.OffRecord,
		})
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
