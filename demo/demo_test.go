package demo_test

import (
	"log/slog"
	"slices"
	"strings"
	"testing"
	"time"

	"wardicon/demo"
	"wardicon/service"
	"wardicon/store"
)

// TestFleet holds the sample data to what it is there to show: for each profile exactly
// these rules find something. A rule that grows blind or too keen shows here.
func TestFleet(t *testing.T) {
	ctx := t.Context()
	s, err := store.Open(ctx, t.TempDir(), store.Key{}, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = s.Close() }()
	svc := service.New(s, slog.New(slog.DiscardHandler), time.Now)
	if err := demo.Load(ctx, svc); err != nil {
		t.Fatal(err)
	}
	want := map[string]string{
		"Bridge tablet 1 → Norrvik": "realm-is-host",
		"Bridge tablet 2 → Norrvik": "",
		"Bridge tablet 3 → Norrvik": "ike-nothing-shared",
		"Deck phone 1 → Easthaven": "address-dynamic algorithm-weak full-without-dns " +
			"hard-to-type password-is-login password-short",
		"Deck phone 2 → Easthaven": "address-dynamic full-without-dns login-is-mail " +
			"protocol-gone",
		"Deck phone 3 → Easthaven": "address-dynamic algorithm-weak full-without-dns " +
			"hard-to-type login-is-mail",
		"Engine laptop 1 → Norrvik": "pfs-missing",
		"Engine laptop 1 → Tallholm": "algorithm-last-resort pfs-missing ppp-clear ppp-weak " +
			"psk-guessable psk-short route-home route-host-bits",
		"Engine laptop 2 → Norrvik": "password-guessable pfs-missing",
		"Engine server → Norrvik":   "client-needed pfs-missing",
		"Planner Mac 1 → Easthaven": "address-dynamic algorithm-weak full-without-dns",
		"Planner Mac 1 → Norrvik":   "",
		"Planner Mac 2 → Norrvik":   "name-lacks-gateway",
		"Planner phone → Norrvik":   "split-lacking",
		"Purser desk → Norrvik":     "algorithm-last-resort dns-lacking",
		"Purser laptop 1 → Norrvik": "edge-space pfs-missing protocol-going",
		"Purser laptop 2 → Tallholm": "algorithm-last-resort login-space nat-restart " +
			"pfs-missing ppp-clear ppp-weak protocol-going psk-guessable psk-short route-home " +
			"route-host-bits",
		"Purser laptop 3 → Norrvik": "pfs-missing saved-unencrypted",
		"Relief phone → Easthaven": "address-dynamic algorithm-weak full-without-dns " +
			"release-unknown",
		"Ticket desk phone → Easthaven": "address-dynamic full-without-dns invisible-character " +
			"protocol-never saved-unencrypted",
		"Ticket hall router → Norrvik": "client-needed invisible-character pfs-missing " +
			"saved-unencrypted",
		"Hall desk phone → Brattvik": "always-twice",
		"Hall desk phone → Lyngholm": "always-twice certificate-expiring tls-over-tcp",
		"Hall laptop → Brattvik": "always-twice dns-lacking format-unfit past-the-tunnel " +
			"pattern-unmet",
		"Hall laptop → Lyngholm": "always-twice certificate-expiring dns-lacking " +
			"past-the-tunnel pattern-unmet tls-over-tcp",
		"Hall Mac → Brattvik":       "pattern-unmet",
		"Hall Mac → Lyngholm":       "certificate-expiring pattern-unmet tls-over-tcp",
		"Hall router → Brattvik":    "client-needed",
		"Hall router → Lyngholm":    "certificate-expiring client-needed tls-over-tcp",
		"Master desk → Brattvik":    "dns-lacking pattern-unmet",
		"Master laptop → Brattvik":  "pattern-unmet",
		"Master tablet → Brattvik":  "past-the-tunnel",
		"Yard laptop → Brattvik":    "",
		"Yard old phone → Brattvik": "pattern-unmet",
		"Yard phone → Brattvik":     "dns-lacking past-the-tunnel pattern-unmet",
		"Yard server → Brattvik":    "client-needed",
		"Ticket laptop → Norrvik": "account-missing dns-lacking esp-nothing-shared " +
			"ike-nothing-shared",
	}
	page, err := svc.Profiles.List(ctx, store.Query{Limit: 100})
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range page.Items {
		planned, err := svc.Plan(ctx, p.ID)
		if err != nil {
			t.Fatal(err)
		}
		var codes []string
		for _, f := range planned.Findings {
			codes = append(codes, f.Rule)
			if f.Place == nil || f.Place.ID == "" {
				t.Errorf("%s: %s leads to no record", planned.Title, f.Rule)
			}
		}
		slices.Sort(codes)
		found := strings.Join(slices.Compact(codes), " ")
		expected, ok := want[planned.Title]
		if !ok || found != expected {
			t.Errorf("%q: found\n%s, expected\n%s", planned.Title, found, expected)
		}
		delete(want, planned.Title)
		if !p.Checked || p.Tally != planned.Tally {
			t.Errorf(
				"%s: kept is %+v (checked %t), planned %+v",
				planned.Title,
				p.Tally,
				p.Checked,
				planned.Tally,
			)
		}
	}
	if len(want) > 0 {
		t.Errorf("not in the sample data: %v", want)
	}
}
