package service_test

import (
	"errors"
	"strings"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/core/vpn"
	"wardicon/service"
	"wardicon/store"
)

// TestRetention lets time pass over parcels: files of those that newer ones took the place of go,
// as long as no link leads to them; that they were built stays, and the newest one stays whole.
func TestRetention(t *testing.T) {
	svc, s, c := start(t)
	c.turn(time.Since(c.now()))
	ctx := service.As(t.Context(), "issuer")
	laptopCrew(t, svc, 1)
	if _, err := svc.SetOrganisation(
		ctx,
		vpn.Organisation{Name: "Skerry Line", Domain: "skerryline.example", KeepParcels: 30},
	); err != nil {
		t.Fatal(err)
	}
	page, err := svc.Profiles.List(ctx, store.Query{Limit: 1})
	if err != nil {
		t.Fatal(err)
	}
	profile := page.Items[0].ID
	build := func() api.Parcel {
		t.Helper()
		c.turn(time.Minute)
		p, err := svc.Build(ctx, profile, false)
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	plain, handed, fresh := build(), build(), api.Parcel{}
	days := 40
	link, err := svc.MakeHandover(ctx, profile, api.HandoverRequest{Days: &days})
	if err != nil || link.Handover.ParcelID != handed.ID {
		t.Fatal(link, err)
	}
	fresh = build()
	if err := svc.Pass(ctx); err != nil {
		t.Fatal(err)
	}
	for _, test := range []struct {
		after                time.Duration
		plain, handed, fresh bool
	}{
		{29 * 24 * time.Hour, true, true, true},
		{2 * 24 * time.Hour, false, true, true},
		{10 * 24 * time.Hour, false, false, true},
	} {
		c.turn(test.after)
		if err := svc.Pass(ctx); err != nil {
			t.Fatal(err)
		}
		for _, of := range []struct {
			name string
			p    api.Parcel
			want bool
		}{
			{"superseded", plain, test.plain},
			{"with a link", handed, test.handed},
			{"newest", fresh, test.fresh},
		} {
			_, err := svc.ParcelFile(ctx, of.p.ID, of.p.Files[0].Name)
			var none *store.NotFoundError
			if of.want && err != nil ||
				!of.want &&
					(!errors.As(err, &none) || !strings.Contains(err.Error(), "newer parcel")) {
				t.Errorf("%s, after %s more: %v", of.name, test.after, err)
			}
		}
	}
	list, err := svc.Parcels(ctx, profile)
	if err != nil || len(list) != 3 || list[2].Removed == nil || list[2].Digest != plain.Digest ||
		list[0].Removed != nil {
		t.Errorf("%+v (%v)", list, err)
	}
	if n, err := s.Read().
		References(ctx, "secrets", "owner", "parcel:"+plain.ID); err != nil ||
		n != 0 {
		t.Errorf("%d sealed files are left (%v)", n, err)
	}
	entries, err := svc.Audit(
		ctx,
		store.Query{Limit: 9, Conditions: map[string]string{"action": "remove files"}},
	)
	if err != nil || entries.Total != 2 {
		t.Errorf("%+v (%v)", entries, err)
	}
}
