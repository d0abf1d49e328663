package httpapi

import (
	"context"
	"net/http"

	"wardicon/api"
	"wardicon/core/vpn"
)

type holdingsInput struct {
	ID  string             `path:"id" doc:"Identifier of the record"`
	Why vpn.OffboardReason `query:"why" enum:"lost,left,retired" doc:"Reason; empty means left"`
}

type offboardInput struct {
	ID   string `path:"id" doc:"Identifier of the record"`
	Body struct {
		// left for a person; lost, left or retired for a device.
		Why vpn.OffboardReason `json:"why" enum:"lost,left,retired"`
	}
}

type tickInput struct {
	ID   string `path:"id" doc:"Identifier of the record"`
	Item int    `path:"item" minimum:"0" doc:"Number of the item, from 0"`
	Body struct {
		Done bool `json:"done"`
	}
}

// offboardings are the operations about people who leave and devices that are lost.
func (a *handlers) offboardings() {
	const tag = "offboardings"
	for _, of := range []struct{ noun, path string }{{"person", "/people"},
		{"device", "/devices"}} {
		register(
			a,
			operation(
				http.MethodGet,
				of.path+"/{id}/holdings",
				"show-holdings-of-"+of.noun,
				"Show everything that a "+of.noun+" holds, and what is left to do when it is "+
					"offboarded",
				tag,
			),
			func(ctx context.Context, in *holdingsInput) (*body[api.Holdings], error) {
				why := in.Why
				if why == "" {
					why = vpn.Left
				}
				h, err := a.svc.Holdings(ctx, of.noun, in.ID, why)
				return &body[api.Holdings]{h}, err
			},
		)
		add := operation(
			http.MethodPost,
			of.path+"/{id}/offboarding",
			"offboard-"+of.noun,
			"Close the links of a "+of.noun+", revoke its certificates, build no more parcels, "+
				"and list what is left to do",
			tag,
		)
		add.DefaultStatus = http.StatusCreated
		register(
			a,
			add,
			func(ctx context.Context, in *offboardInput) (*body[api.Offboarding], error) {
				w, err := a.svc.Offboard(ctx, of.noun, in.ID, in.Body.Why)
				return &body[api.Offboarding]{w}, err
			},
		)
	}
	handle(
		a,
		operation(
			http.MethodGet,
			"/offboardings",
			"list-offboardings",
			"List offboardings, newest first",
			tag,
		),
		func(ctx context.Context, in *listInput) (api.Page[api.Offboarding], error) {
			return a.svc.Offboardings(ctx, in.query())
		},
	)
	handle(
		a,
		operation(
			http.MethodPost,
			"/offboardings/{id}/items/{item}",
			"tick-item",
			"Mark an item as done or not done",
			tag,
		),
		func(ctx context.Context, in *tickInput) (api.Offboarding, error) {
			return a.svc.TickItem(ctx, in.ID, in.Item, in.Body.Done)
		},
	)
}
