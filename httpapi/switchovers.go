package httpapi

import (
	"context"
	"errors"
	"net/http"
	"strings"

	"github.com/go-chi/chi/v5"

	"wardicon/api"
	"wardicon/core/icalendar"
	"wardicon/service"
)

type stepsInput struct {
	ID string `path:"id" maxLength:"64" doc:"Identifier of the switchover"`
	ListInput
}

type phaseInput struct {
	ID   string `path:"id" maxLength:"64" doc:"Identifier of the switchover"`
	Body struct {
		// What begins: start, pause, resume, advance, undo or cut-off.
		Phase string `json:"phase" enum:"start,pause,resume,advance,undo,cut-off"`
		// Of a cut-off: the number of devices that hold the old value, as the board shows it.
		Holders int `json:"holders,omitempty" minimum:"0"`
		// Of advance: begin the wave although something waits.
		Anyway bool `json:"anyway,omitempty"`
	}
}

type confirmedInput struct {
	ID        string `path:"id" maxLength:"64" doc:"Identifier of the switchover"`
	ProfileID string `path:"profile" maxLength:"64" doc:"Identifier of the profile"`
}

type calendarInput struct {
	Days int `query:"days" default:"365" minimum:"1" maximum:"3650" doc:"Days to look ahead"`
}

// switchovers are the operations on planned changes of the fleet, and the calendar.
func (a *handlers) switchovers() {
	const tag = "switchovers"
	survey := operation(http.MethodPost, "/switchovers/{id}/previews", "preview-switchover",
		"Compute what a draft means for every device, as a job; nothing is changed", tag)
	register(a, survey, func(ctx context.Context, in *idInput) (*created[api.Job], error) {
		j, err := a.svc.Survey(ctx, in.ID)
		return &created[api.Job]{"/api/v1/jobs/" + j.ID, j}, err
	})
	handle(a, operation(http.MethodPost, "/switchovers/{id}/phases", "switch-over",
		"Start, pause, resume, advance, undo or cut off a switchover", tag),
		func(ctx context.Context, in *phaseInput) (api.Switchover, error) {
			return a.svc.Switch(ctx, in.ID, in.Body.Phase, in.Body.Holders, in.Body.Anyway)
		})
	handle(a, operation(http.MethodGet, "/switchovers/{id}/board", "show-switchover-board",
		"Show where a switchover stands", tag),
		func(ctx context.Context, in *idInput) (api.SwitchoverBoard, error) {
			return a.svc.SwitchoverBoard(ctx, in.ID)
		})
	handle(a, operation(http.MethodGet, "/switchovers/{id}/devices", "list-switchover-devices",
		"List what a switchover means for devices", tag),
		func(ctx context.Context, in *stepsInput) (api.Page[api.SwitchoverStep], error) {
			return a.svc.SwitchoverDevices(ctx, in.ID, in.query())
		})
	handle(a, operation(http.MethodPost, "/switchovers/{id}/devices/{profile}/confirmation",
		"confirm-switched", "Note that a device is known to have the new value", tag),
		func(ctx context.Context, in *confirmedInput) (api.SwitchoverStep, error) {
			return a.svc.ConfirmSwitched(ctx, in.ID, in.ProfileID)
		})
	handle(a, operation(http.MethodGet, "/calendar", "show-calendar",
		"List what expires or changes", "calendar"),
		func(ctx context.Context, in *calendarInput) (api.Items[api.CalendarEntry], error) {
			return items(a.svc.Calendar(ctx, in.Days))
		})
	feed := by(service.RoleAuditor, operation(http.MethodPost, "/calendar/feed", "make-feed",
		"Make the address of a calendar to subscribe to (RFC 5545); an earlier one ends",
		"calendar"))
	register(a, feed, func(ctx context.Context, _ *none) (*body[api.NewFeed], error) {
		made, err := a.svc.NewFeed(ctx)
		if made.URL != "" && strings.HasPrefix(made.URL, "/") {
			made.URL = callerOf(ctx).origin + made.URL
		}
		return &body[api.NewFeed]{made}, err
	})
	quiet(a, by(service.RoleAuditor, operation(http.MethodDelete, "/calendar/feed", "end-feed",
		"Take the address of your calendar away", "calendar")),
		func(ctx context.Context, _ *none) error { return a.svc.EndFeed(ctx) })
}

// feed gives a calendar to whoever has its address.
func (a *handlers) feed(w http.ResponseWriter, r *http.Request) {
	token, ok := strings.CutSuffix(chi.URLParam(r, "feed"), ".ics")
	data, err := []byte(nil), error(service.ErrNoFeed)
	if ok {
		data, err = a.svc.Feed(r.Context(), token)
	}
	w.Header().Set("Cache-Control", "no-store")
	switch {
	case errors.Is(err, service.ErrNoFeed):
		writeProblem(w, r, problem(http.StatusNotFound, "not-found", service.ErrNoFeed.Error()))
		return
	case err != nil:
		p, _ := a.answer(r.Context(), err).(*api.Problem)
		writeProblem(w, r, p)
		return
	}
	w.Header().Set("Content-Type", icalendar.MediaType)
	_, _ = w.Write(data)
}
