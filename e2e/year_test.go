package e2e

import (
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync/atomic"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/demo"
	"wardicon/service"
	"wardicon/store"
)

// TestYear lives through days of a fleet by the clock: people come and go, parcels are handed over and
// fetched, certificates are renewed, reminders are due. Nothing grows but what is meant to. It is 30
// days long; WARDICON_YEAR=365 makes it a year, and WARDICON_FLEET says how many devices there are.
func TestYear(t *testing.T) {
	t.Parallel()
	days, devices := 30, 20
	if n, err := strconv.Atoi(os.Getenv("WARDICON_YEAR")); err == nil {
		days = n
	}
	if n, err := strconv.Atoi(os.Getenv("WARDICON_FLEET")); err == nil {
		devices = n
	}
	ctx, dir := service.As(t.Context(), demo.OwnerName), filepath.Join(t.TempDir(), "data")
	var ahead atomic.Int64 // of the real clock
	begun := time.Now()
	now := func() time.Time { return time.Now().Add(time.Duration(ahead.Load())) }
	s, err := store.Open(ctx, dir, store.Key{}, now)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = s.Close() }()
	svc := service.New(s, slog.New(slog.DiscardHandler), now)
	if err := demo.Load(ctx, svc); err != nil {
		t.Fatal(err)
	}
	o, err := svc.Organisation(ctx)
	if err != nil {
		t.Fatal(err)
	}
	o.Links, o.KeepParcels, o.ProbeEvery = "https://connect.skerryline.example", 14, 0
	if _, err := svc.SetOrganisation(ctx, o); err != nil {
		t.Fatal(err)
	}
	authorities, err := store.Authorities.Where(ctx, s.Read(), "name = 'Skerry Line Authority'")
	if err != nil || len(authorities) != 1 {
		t.Fatal(err)
	}
	short := authorities[0].ID
	if _, err := svc.Authorities.Change(ctx, short, 0, func(a *vpn.Authority) (*vpn.Authority, error) {
		a.DeviceDays, a.RenewDays = 20, 6
		return a, nil
	}, func(string) bool { return true }); err != nil {
		t.Fatal(err)
	}
	gateways, err := store.Gateways.Where(ctx, s.Read(), "name = 'Brattvik'")
	if err != nil || len(gateways) != 1 {
		t.Fatal(err)
	}
	number := 0
	type member struct{ person, device, profile string }
	var fleet []member
	join := func() {
		number++
		p, err := svc.People.Add(ctx, &vpn.Person{
			Name: fmt.Sprintf("Sailor %d", number), Mail: fmt.Sprintf("s%d@skerryline.example", number),
		})
		if err != nil {
			t.Fatal(err)
		}
		d, err := svc.Devices.Add(ctx, &vpn.Device{Name: fmt.Sprintf("Box %d", number), PersonID: p.ID,
			Platform: vpn.Linux, Release: "6", Encrypted: true})
		if err != nil {
			t.Fatal(err)
		}
		password := secret.New("halyard-58-Cormorant-shingle")
		if _, err := svc.Accounts.Add(ctx, &vpn.Account{PersonID: p.ID,
			Login: fmt.Sprintf("s_%d", number), Realm: "crew.skerryline.example",
			Password: &password}); err != nil {
			t.Fatal(err)
		}
		if _, err := svc.IssueToDevice(ctx, d.ID, short, nil, 0); err != nil {
			t.Fatal(err)
		}
		x, err := svc.Profiles.Add(ctx, &vpn.Profile{DeviceID: d.ID, GatewayID: gateways[0].ID})
		if err != nil {
			t.Fatal(err)
		}
		fleet = append(fleet, member{p.ID, d.ID, x.ID})
	}
	for range devices {
		join()
	}
	settle := func() {
		t.Helper()
		for _, work := range []func() error{
			func() error { return svc.WorkAll(ctx) },
			func() error { _, err := svc.CheckAll(ctx); return err },
		} {
			if err := work(); err != nil {
				t.Fatal(err)
			}
		}
		w, err := svc.Workload(ctx)
		if err != nil || w.Jobs["waiting"]+w.Jobs["running"] > 0 {
			t.Fatalf("the day's work is not done: %v (%v)", w.Jobs, err)
		}
	}
	size := func() (sum int64) {
		for _, name := range []string{store.File, store.File + "-wal"} {
			if info, err := os.Stat(filepath.Join(dir, name)); err == nil {
				sum += info.Size()
			}
		}
		return sum
	}
	handed, renewals := 0, 0
	var sizes []int64
	var slowest time.Duration
	var lists []time.Duration
	for day := range days {
		ahead.Store(int64(day+1) * int64(24*time.Hour))
		if err := svc.Pass(ctx); err != nil {
			t.Fatal(err)
		}
		settle()
		for i := range min(3, len(fleet)) { // somebody gets a parcel
			m := fleet[(day*3+i)%len(fleet)]
			if _, err := svc.Build(ctx, m.profile, false); err != nil {
				t.Fatalf("day %d: %v", day, err)
			}
			made, err := svc.MakeHandover(ctx, m.profile, api.HandoverRequest{Link: check.ByOperator,
				Passcode: check.ByOperator})
			if err != nil {
				t.Fatalf("day %d: %v", day, err)
			}
			handed++
			_ = made
		}
		if day%5 == 4 { // somebody comes, somebody goes
			join()
			gone := fleet[0]
			fleet = fleet[1:]
			if _, err := svc.Offboard(ctx, "person", gone.person, vpn.Left); err != nil {
				t.Fatal(err)
			}
		}
		settle()
		for range 20 {
			began := time.Now()
			if _, err := svc.Devices.List(ctx, store.Query{Limit: 50}); err != nil {
				t.Fatal(err)
			}
			lists = append(lists, time.Since(began))
		}
		if day%30 == 29 {
			slices.Sort(lists)
			slowest = lists[len(lists)*99/100]
			sizes = append(sizes, size())
			t.Logf("day %d: %.1f MB, 99 of 100 lists within %v", day+1, float64(size())/1e6, slowest)
			lists = lists[:0]
		}
	}
	// Nobody who is still there has a certificate that has ended, or ends within the days of renewal.
	for _, m := range fleet {
		d, err := store.Devices.Get(ctx, s.Read(), m.device)
		if err != nil {
			t.Fatal(err)
		}
		list, err := svc.Certificates(ctx, store.Query{Limit: 100,
			Conditions: map[string]string{"device_id": m.device, "revoked": "false"}})
		if err != nil {
			t.Fatal(err)
		}
		renewals += len(list.Items) - 1
		last := slices.MaxFunc(list.Items, func(a, b api.Certificate) int { return a.To.Compare(b.To) })
		if left := last.To.Sub(now()); d.Identity == nil || left < 5*24*time.Hour {
			t.Errorf("the certificate of %s ends in %v", d.Name, left)
		}
	}
	if days >= 20 && renewals == 0 {
		t.Error("no certificate was renewed")
	}
	if n := len(sizes); n >= 6 && sizes[n-1] > 2*sizes[n/2-1] {
		t.Errorf("it grows without bound: %v", sizes)
	}
	if p, err := svc.VerifyAudit(ctx, ""); err != nil || !p.Sound {
		t.Errorf("the audit log is not sound: %v", err)
	}
	t.Logf("%d days of %d devices in %v: %d handovers, %d renewals", days, devices,
		time.Since(begun).Round(time.Second), handed, renewals)
}
