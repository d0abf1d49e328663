package service_test

import (
	"context"
	"encoding/json"
	"errors"
	"strings"
	"sync"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/core/rehearsal"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/simulate"
	"wardicon/store"
)

// TestRehearse signs in to a simulated gateway with a parcel: well, with a password that the
// gateway rejects, and after that only when it is confirmed; and never twice within a minute.
func TestRehearse(t *testing.T) {
	c := crewed(t)
	ctx := t.Context()
	c.clock.turn(time.Since(c.clock.now()))
	running, stop := context.WithCancel(ctx)
	var all sync.WaitGroup
	all.Go(func() { c.RehearseQueued(running) })
	defer all.Wait()
	defer stop()
	const good = "tern-11-Oakum-reef-fathom"
	stand := &simulate.Gateway{
		Name: "north.skerryline.example", Protocols: []vpn.Protocol{vpn.TLS},
		Accounts: map[string]string{"a_fjell": good},
	}
	c.set("simulator", stand.Start())
	defer func() { _ = stand.Close() }()
	lead(t, c.Service, c.north, stand)
	_, err := c.Gateways.Change(ctx, c.north, 0, func(g *vpn.Gateway) (*vpn.Gateway, error) {
		g.Hosts = []string{"10.20.0.1"}
		g.Domains = []string{"inside.skerryline.example"}
		g.Offers = vpn.Offers{TLS: &vpn.TLSOffer{
			Remotes: []vpn.Remote{{Port: 1194, Transport: vpn.UDP}},
			Auth:    []vpn.TLSAuth{vpn.TLSPassword}, Ciphers: []string{"AES-256-GCM"},
			ServerName: "north.skerryline.example", Authority: stand.Authority,
		}}
		return g, nil
	}, func(string) bool { return false })
	c.set("gateway", err)
	accounts, err := c.Accounts.List(ctx, store.Query{Search: "a_fjell", Limit: 1})
	c.set("accounts", err)
	password := func(p string) {
		t.Helper()
		_, err := c.Accounts.Change(ctx, accounts.Items[0].ID, 0,
			func(a *vpn.Account) (*vpn.Account, error) { a.Password = words(p); return a, nil },
			func(string) bool { return false })
		c.set("account", err)
		_, err = c.Build(ctx, c.profile, false)
		c.set("build", err)
	}
	done := func(row api.Rehearsal, err error) api.Rehearsal {
		t.Helper()
		c.set("rehearsal", err)
		for end := time.Now().Add(20 * time.Second); row.State == api.RehearsalRunning; {
			if time.Now().After(end) {
				t.Fatalf("it does not end: %+v", row)
			}
			time.Sleep(20 * time.Millisecond)
			row, err = c.Rehearsal(ctx, row.ID)
			c.set("rehearsal", err)
		}
		if text, _ := json.Marshal(row); strings.Contains(string(text), "Oakum") {
			t.Errorf("the result shows the password: %s", text)
		}
		return row
	}
	var refused *vpn.Problems
	if _, err := c.Rehearse(ctx, c.profile, api.NewRehearsal{}); !errors.As(err, &refused) {
		t.Errorf("without a parcel: %v", err)
	}
	password(good)
	row := done(c.Rehearse(ctx, c.profile, api.NewRehearsal{}))
	if row.State != api.RehearsalPassed || row.Login != "a_fjell" || row.Gateway != "North" {
		t.Errorf("%+v", row)
	}
	var kind interface{ Kind() vpn.Kind }
	if _, err := c.Rehearse(ctx, c.profile, api.NewRehearsal{}); !errors.As(err, &kind) ||
		kind.Kind() != vpn.KindTries {
		t.Errorf("twice within a minute: %v", err)
	}
	c.clock.turn(2 * time.Minute)
	password("gale-7781-Binnacle-rope-12")
	row = done(c.Rehearse(ctx, c.profile, api.NewRehearsal{}))
	if row.State != api.RehearsalFailed || row.Result.CauseID != "password-wrong" ||
		row.Result.FailedAt() != rehearsal.SignIn {
		t.Errorf("another password: %+v", row)
	}
	if found := c.found(c.profile); !strings.Contains(found, "rehearsal-failed") {
		t.Errorf("a rehearsal that failed is no finding: %q", found)
	}
	c.clock.turn(2 * time.Minute)
	if _, err := c.Rehearse(ctx, c.profile, api.NewRehearsal{}); !errors.As(err, &refused) ||
		refused.List[0].Pointer != "/again" {
		t.Errorf("after a rejection: %v", err)
	}
	password(good)
	row = done(c.Rehearse(ctx, c.profile, api.NewRehearsal{
		Again: true, Password: secret.New("not looked at: the parcel has one"),
	}))
	if row.State != api.RehearsalPassed {
		t.Errorf("confirmed: %+v", row)
	}
	c.clock.turn(2 * time.Minute)
	stand.Break(simulate.FaultCertificate)
	row = done(c.Rehearse(ctx, c.profile, api.NewRehearsal{}))
	if row.Result.CauseID != "authority-missing" || row.Result.FailedAt() != rehearsal.Gateway {
		t.Errorf("a certificate of another: %+v", row)
	}
	list, err := c.Rehearsals(ctx, store.Query{
		Limit: 10, Conditions: map[string]string{"state": "failed"},
	})
	if err != nil || list.Total != 2 {
		t.Errorf("%d failed rehearsals (%v)", list.Total, err)
	}
	entries, err := c.Audit(ctx, store.Query{Search: "rehearse", Limit: 10})
	if err != nil || entries.Total != 4 {
		t.Errorf("%d rehearsals in the log (%v)", entries.Total, err)
	}
}
