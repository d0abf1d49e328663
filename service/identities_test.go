package service_test

import (
	"slices"
	"strings"
	"testing"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/vpn"
	"wardicon/service"
	"wardicon/store"
)

// TestEnrolledApart has a device ask the CA that each gateway trusts, and its two connections that are
// always on are seen as two.
func TestEnrolledApart(t *testing.T) {
	svc, _, _, authority, _, phone := certified(t)
	ctx := service.As(t.Context(), "issuer")
	o, err := svc.Organisation(ctx)
	if err != nil {
		t.Fatal(err)
	}
	o.Links = "https://connect.skerryline.example"
	if _, err := svc.SetOrganisation(ctx, o); err != nil {
		t.Fatal(err)
	}
	made, err := svc.MakeAuthority(ctx, api.NewAuthority{Name: "South authority"})
	if err != nil {
		t.Fatal(err)
	}
	had, err := svc.Devices.Get(ctx, phone)
	if err != nil {
		t.Fatal(err)
	}
	d, err := svc.Devices.Add(ctx, &vpn.Device{
		Name: "Ada's tablet", PersonID: had.PersonID, Platform: vpn.IPadOS, Release: "18",
		Enrolment: &vpn.DeviceEnrolment{AuthorityID: authority.ID, OtherIDs: []string{made[0].ID}},
	})
	if err != nil {
		t.Fatal(err)
	}
	north, err := svc.Gateways.List(ctx, store.Query{Limit: 1})
	if err != nil {
		t.Fatal(err)
	}
	south := north.Items[0].Gateway
	offer := *south.Offers.IKEv2
	offer.Authority = made[0].Certificate
	south.Name, south.Address, south.Offers.IKEv2 = "South", "south.example", &offer
	g, err := svc.Gateways.Add(ctx, &south)
	if err != nil {
		t.Fatal(err)
	}
	var ids []string
	for _, gateway := range []string{north.Items[0].ID, g.ID} {
		p, err := svc.Profiles.Add(ctx, &vpn.Profile{
			DeviceID: d.ID, GatewayID: gateway, Preferences: vpn.Preferences{Connect: vpn.Always},
		})
		if err != nil {
			t.Fatal(err)
		}
		ids = append(ids, p.ID)
	}
	for i, by := range []string{authority.ID, made[0].ID} {
		planned, err := svc.Plan(ctx, ids[i])
		if err != nil || !slices.ContainsFunc(planned.Findings, func(f check.Finding) bool {
			return f.Rule == "always-twice"
		}) {
			t.Errorf("%+v (%v)", planned.Findings, err)
		}
		if id := planned.Connection.Identity; id == nil || !strings.HasSuffix(id.Enrol.EST, by) {
			t.Errorf("it asks %+v, expected %s", id, by)
		}
	}
}
