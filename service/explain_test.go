package service_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/core/drift"
	"wardicon/core/explain"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
	"wardicon/service"
	"wardicon/store"
)

// TestEvidence changes the records one after another, and holds that each change decides what is
// said first of a failure.
func TestEvidence(t *testing.T) {
	t.Parallel()
	s, st, c := start(t)
	ctx := service.As(t.Context(), "harbourmaster")
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	key, password := secret.New(
		"tern-83-Quayside-marram-20-thrift",
	), secret.New(
		"gale-74-Marzipan-flint-moss",
	)
	g, err := s.Gateways.Add(
		ctx,
		&vpn.Gateway{
			Name:      "Norrvik",
			Address:   "norrvik.skerryline.example",
			Addresses: []string{"198.51.100.7"},
			Offers: vpn.Offers{
				L2TP: &vpn.L2TPOffer{
					Auth: []vpn.MachineAuth{vpn.MachinePSK},
					PSK:  &key,
					PPP:  []suite.PPPMethod{suite.MSCHAPv2},
					IKE:  []string{"aes256-sha1-modp2048"},
					ESP:  []string{"aes256-sha1"},
				},
				SSTP: &vpn.SSTPOffer{PPP: []suite.PPPMethod{suite.MSCHAPv2}},
			},
		},
	)
	must(err)
	person, err := s.People.Add(ctx, &vpn.Person{Name: "Ada Fjell"})
	must(err)
	account, err := s.Accounts.Add(
		ctx,
		&vpn.Account{PersonID: person.ID, Login: "a_fjell", Password: &password},
	)
	must(err)
	profile := func(name, release string) string {
		d, err := s.Devices.Add(
			ctx,
			&vpn.Device{
				Name:      name,
				PersonID:  person.ID,
				Platform:  vpn.Windows,
				Release:   release,
				Encrypted: true,
			},
		)
		must(err)
		p, err := s.Profiles.Add(
			ctx,
			&vpn.Profile{
				DeviceID:    d.ID,
				GatewayID:   g.ID,
				Preferences: vpn.Preferences{Protocol: vpn.L2TP},
			},
		)
		must(err)
		return p.ID
	}
	laptop, other := profile("Purser laptop", "11"), profile("Planner laptop", "7")
	first := func(code, want, reason string) explain.Explanation {
		t.Helper()
		x, err := s.Explain(ctx, service.Question{Text: code, ProfileID: laptop})
		must(err)
		if x.Causes[0].ID != want ||
			!strings.Contains(strings.Join(x.Causes[0].Reasons, "; "), reason) {
			t.Errorf(
				"%s: %s (%v), expected %s (%s)",
				code,
				x.Causes[0].ID,
				x.Causes[0].Reasons,
				want,
				reason,
			)
		}
		return x
	}
	noted := func(x explain.Explanation, want string) {
		t.Helper()
		if !strings.Contains(strings.Join(x.Notes, " "), want) {
			t.Errorf("%v, expected %q", x.Notes, want)
		}
	}
	noted(first("691", "password-wrong", ""), "No parcel was built")
	_, err = s.Build(ctx, laptop, false)
	must(err)
	c.turn(time.Hour)

	_, err = s.Accounts.Change(ctx, account.ID, 0, func(a *vpn.Account) (*vpn.Account, error) {
		changed := secret.New("reef-57-Lavender-cobalt-fern")
		a.Password = &changed
		return a, nil
	}, func(string) bool { return false })
	must(err)
	noted(first("691", "password-wrong", "the password was changed on"), "built from other data")

	alter := func(change func(*vpn.Gateway)) {
		t.Helper()
		_, err := s.Gateways.Change(
			ctx,
			g.ID,
			0,
			func(g *vpn.Gateway) (*vpn.Gateway, error) { change(g); return g, nil },
			func(string) bool { return true },
		)
		must(err)
	}
	first("789", "key-wrong", "")
	alter(func(g *vpn.Gateway) { g.BehindNAT = true })
	first("789", "nat-registry", "counts after a restart")
	x, err := s.Explain(
		ctx,
		service.Question{
			Text: "running since: " + c.now().
				Add(time.Minute).
				Format(time.RFC3339) +
				"\nThe error code returned on failure is 789.\n",
			ProfileID: laptop,
		},
	)
	must(err)
	if x.Causes[0].ID != "key-wrong" {
		t.Errorf("restarted since: %s %v", x.Causes[0].ID, x.Causes[0].Reasons)
	}
	alter(func(g *vpn.Gateway) { g.BehindNAT = false })

	// What a probe saw, and who else connects.
	seen := func(state drift.AnswerState, differences ...drift.Difference) {
		t.Helper()
		c.turn(time.Minute)
		p := drift.Probe{
			GatewayID:   g.ID,
			Gateway:     g.Name,
			At:          c.now(),
			By:          "harbourmaster",
			Differences: differences,
			Answers: []drift.Answer{
				{
					Protocol:  vpn.L2TP,
					Method:    drift.MethodMain,
					Transport: vpn.UDP,
					Address:   "198.51.100.7:4500",
					Port:      4500,
					State:     state,
				},
			},
		}
		must(st.Write(ctx, func(tx *store.Tx) error { return tx.AddProbe(ctx, &p) }))
	}
	seen(drift.Silent)
	first("809", "gateway-no-response", "no answer on UDP 4500")
	seen(drift.Answered)
	must(st.Write(ctx, func(tx *store.Tx) error {
		_, err := tx.NoteSeenConnection(
			ctx,
			api.SeenConnection{
				ProfileID: other,
				GatewayID: g.ID,
				Address:   "198.51.100.7",
				By:        "egress",
			},
		)
		return err
	}))
	first("809", "port-blocked", "1 other devices were seen")
	seen(drift.Answered, drift.Difference{Code: drift.SuiteNone, Protocol: vpn.L2TP})
	first("13868", "suites-differ", "takes none of the suites on record")
	seen(drift.Answered, drift.Difference{Code: drift.SuiteNone, Protocol: vpn.SSTP})
	if x := first(
		"13868",
		"suites-differ",
		"",
	); slices.ContainsFunc(
		x.Causes[0].Reasons,
		func(r string) bool { return strings.Contains(r, "takes none") },
	) {
		t.Error("what was seen by another protocol counts")
	}

	// A fix is made for the release; stored secrets are not looked for in the text of whoever asks.
	if x, err := s.Explain(
		ctx,
		service.Question{Text: "691", ProfileID: other},
	); err != nil ||
		strings.Contains(x.Causes[0].Fix, "Set-Vpn") {
		t.Errorf("%+v (%v)", x.Causes[0], err)
	}
	x, err = s.Explain(
		ctx,
		service.Question{
			Text: "pppd: CHAP authentication failed for reef-57-Lavender-cobalt-fern by " +
				"tern-83-Quayside-marram-20-thrift\n",
			ProfileID: laptop,
		},
	)
	must(err)
	if got := x.Reading.First.Text; x.Reading.Masked != 0 {
		t.Errorf(
			"whether a text holds a stored secret is told: %s, %d masked",
			got,
			x.Reading.Masked,
		)
	}
	_, err = s.Explain(ctx, service.Question{Text: "  "})
	refusedAt(t, "nothing", err, "/text", "")
}
