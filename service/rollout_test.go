package service_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/core/suite"
	"wardicon/core/vpn"
	"wardicon/service"
	"wardicon/store"
)

// fleet makes a gateway, a pattern for one group, and devices in and out of its class.
func fleet(t *testing.T, svc *service.Service, devices int) (pattern string, gateways []string) {
	t.Helper()
	ctx := t.Context()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	for _, name := range []string{"North", "South"} {
		g, err := svc.Gateways.Add(
			ctx,
			&vpn.Gateway{
				Name:    name,
				Address: name + ".example",
				Offers:  vpn.Offers{SSTP: &vpn.SSTPOffer{PPP: []suite.PPPMethod{suite.MSCHAPv2}}},
			},
		)
		must(err)
		gateways = append(gateways, g.ID)
	}
	for _, group := range []string{"crew", "office"} {
		p, err := svc.People.Add(ctx, &vpn.Person{Name: group, Groups: []string{group, "all"}})
		must(err)
		for i := range devices {
			_, err := svc.Devices.Add(
				ctx,
				&vpn.Device{
					Name:     fmt.Sprintf("%s %03d", group, i),
					PersonID: p.ID,
					Platform: vpn.Windows,
					Release:  "11",
				},
			)
			must(err)
		}
		_, err = svc.Devices.Add(
			ctx,
			&vpn.Device{
				Name:     group + " phone",
				PersonID: p.ID,
				Platform: vpn.Android,
				Release:  "14",
			},
		)
		must(err)
	}
	row, err := svc.Patterns.Add(
		ctx,
		&vpn.Pattern{
			Name:       "Crew",
			Groups:     []string{"crew"},
			Platforms:  []vpn.Platform{vpn.Windows},
			GatewayIDs: gateways[:1],
		},
	)
	must(err)
	return row.ID, gateways
}

func profiles(t *testing.T, svc *service.Service, conditions map[string]string) int {
	t.Helper()
	page, err := svc.Profiles.List(t.Context(), store.Query{Limit: 1, Conditions: conditions})
	if err != nil {
		t.Fatal(err)
	}
	return page.Total
}

// TestRollOut rolls a pattern out, again, with another gateway, and to each gateway: it
// makes what is missing, leaves what is there, and keeps what was set manually.
func TestRollOut(t *testing.T) {
	svc, _, _ := start(t)
	ctx := t.Context()
	id, gateways := fleet(t, svc, 60)
	roll := func() api.Job {
		t.Helper()
		j, err := svc.RollOut(ctx, id)
		if err != nil {
			t.Fatal(err)
		}
		if err := svc.WorkAll(ctx); err != nil {
			t.Fatal(err)
		}
		if j, err = svc.Job(
			ctx,
			j.ID,
		); err != nil || j.State != api.Done || j.Done != 60 ||
			j.Total != 60 {
			t.Fatalf("%+v (%v)", j, err)
		}
		return j
	}
	if j := roll(); j.Result["new"] != 60 || profiles(t, svc, nil) != 60 {
		t.Errorf("%v", j.Result)
	}
	page, err := svc.Profiles.List(ctx, store.Query{Limit: 1})
	if err != nil {
		t.Fatal(err)
	}
	settled := page.Items[0].ID
	if _, err := svc.Profiles.Change(
		ctx,
		settled,
		0,
		func(p *vpn.Profile) (*vpn.Profile, error) { p.Preferences.Name = "Mine"; return p, nil },
		func(string) bool { return true },
	); err != nil {
		t.Fatal(err)
	}
	if j := roll(); j.Result["same"] != 60 {
		t.Errorf("rolled out again: %v", j.Result)
	}
	change := func(edit func(*vpn.Pattern)) {
		t.Helper()
		if _, err := svc.Patterns.Change(
			ctx,
			id,
			0,
			func(p *vpn.Pattern) (*vpn.Pattern, error) { edit(p); return p, nil },
			func(string) bool { return true },
		); err != nil {
			t.Fatal(err)
		}
	}
	change(func(p *vpn.Pattern) { p.GatewayIDs = gateways[1:] })
	prospects, err := svc.Prospects(
		ctx,
		vpn.Pattern{
			Meta:       vpn.Meta{ID: id},
			Name:       "Crew",
			Groups:     []string{"crew"},
			GatewayIDs: gateways[1:],
		},
		100,
		0,
	)
	if err != nil || prospects.Total != 61 || prospects.Items[0].State != "moves" ||
		prospects.Items[0].Gateway != "South" {
		t.Errorf("%d prospects, first %+v (%v)", prospects.Total, prospects.Items[0], err)
	}
	if j := roll(); j.Result["moves"] != 60 ||
		profiles(t, svc, map[string]string{"gateway_id": gateways[1]}) != 60 ||
		profiles(t, svc, nil) != 60 {
		t.Errorf("with another gateway: %v", j.Result)
	}
	if p, err := svc.Profiles.Get(
		ctx,
		settled,
	); err != nil || p.Preferences.Name != "Mine" ||
		p.GatewayID != gateways[1] {
		t.Errorf("what was set manually: %+v (%v)", p.Preferences, err)
	}
	change(func(p *vpn.Pattern) { p.GatewayIDs, p.Gateways = gateways, vpn.ChooseEach })
	if j := roll(); j.Result["new"] != 60 || j.Result["same"] != 60 ||
		profiles(t, svc, map[string]string{"pattern_id": id}) != 120 {
		t.Errorf("one for each: %v", j.Result)
	}
	var used *service.InUseError
	if err := svc.Patterns.Remove(ctx, id); !errors.As(err, &used) {
		t.Errorf("removed while profiles use it: %v", err)
	}
	if err := svc.Gateways.Remove(ctx, gateways[0]); !errors.As(err, &used) {
		t.Errorf("a gateway of the pattern was removed: %v", err)
	}
}

// TestJobs ends the service in the middle of a job, starts another on the same data, and
// cancels one: nothing is done twice, and nothing is lost.
func TestJobs(t *testing.T) {
	svc, s, _ := start(t)
	id, _ := fleet(t, svc, 80)
	first, err := svc.RollOut(t.Context(), id)
	if err != nil {
		t.Fatal(err)
	}
	// A context that ends after the first part is what a stop in the middle is.
	stopping, stop := context.WithCancel(t.Context())
	go func() {
		for profiles(t, svc, nil) == 0 {
			time.Sleep(time.Millisecond)
		}
		stop()
	}()
	_ = svc.WorkAll(stopping)
	j, err := svc.Job(t.Context(), first.ID)
	if err != nil || j.Done != profiles(t, svc, nil) {
		t.Errorf("%d done and %d profiles (%v)", j.Done, profiles(t, svc, nil), err)
	}
	again := service.New(s, slog.New(slog.DiscardHandler), time.Now)
	if err := again.WorkAll(t.Context()); err != nil {
		t.Fatal(err)
	}
	if j, err = again.Job(
		t.Context(),
		first.ID,
	); err != nil || j.State != api.Done || j.Result["new"] != 80 ||
		profiles(t, again, nil) != 80 {
		t.Errorf("%+v (%v)", j, err)
	}
	second, err := again.RollOut(t.Context(), id)
	if err != nil {
		t.Fatal(err)
	}
	if j, err := again.Cancel(t.Context(), second.ID); err != nil || j.State != api.Cancelled {
		t.Errorf("%+v (%v)", j, err)
	}
	if err := again.WorkAll(t.Context()); err != nil {
		t.Fatal(err)
	}
	if j, err := again.Job(
		t.Context(),
		second.ID,
	); err != nil || j.State != api.Cancelled ||
		j.Done != 0 {
		t.Errorf("%+v (%v)", j, err)
	}
	if page, err := again.Jobs(t.Context(), store.Query{Limit: 10}); err != nil || page.Total != 2 {
		t.Errorf("%d jobs (%v)", page.Total, err)
	}
	var none *store.NotFoundError
	if _, err := again.Job(t.Context(), "jo-x"); !errors.As(err, &none) {
		t.Errorf("%v", err)
	}
}
