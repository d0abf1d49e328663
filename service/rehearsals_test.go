package service_test

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/filecheck"
	"wardicon/core/rehearsal"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
	"wardicon/service"
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
			TLSOptions: vpn.TLSOptions{ServerName: "north.skerryline.example"}, Authority: stand.Authority,
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

// TestRehearsalSchedule rehearses by a schedule with the gateway's own account, never with a person's;
// a pattern holds a parcel back until a rehearsal passed, here or elsewhere, or an override says so.
func TestRehearsalSchedule(t *testing.T) {
	c, stand, account := trial(t)
	ctx := t.Context()
	defer c.rehearse(c.Service)()
	gateway := func(edit func(*vpn.Gateway)) error { return c.edit(c.north, edit) }
	var refused *vpn.Problems
	if err := gateway(func(g *vpn.Gateway) {
		g.Rehearsal.AccountID = "ac-nobody"
	}); !errors.As(err, &refused) || refused.List[0].Pointer != "/rehearsal/account_id" {
		t.Errorf("an account that is not there: %v", err)
	}
	c.set("schedule", gateway(func(g *vpn.Gateway) {
		g.Rehearsal = vpn.RehearsalSchedule{AccountID: account, Every: 60}
	}))
	var used *service.InUseError
	if err := c.Accounts.Remove(ctx, account); !errors.As(err, &used) {
		t.Errorf("removing the account of a schedule: %v", err)
	}
	_, err := c.Profiles.Change(ctx, c.profile, 0, func(p *vpn.Profile) (*vpn.Profile, error) {
		accounts, err := c.Accounts.List(ctx, store.Query{Search: "a_fjell", Limit: 1})
		p.Preferences.AccountID = accounts.Items[0].ID
		return p, err
	}, func(string) bool { return true })
	c.set("profile", err)
	pattern, err := c.Patterns.Add(ctx, &vpn.Pattern{Name: "Careful", RequireRehearsal: true})
	c.set("pattern", err)
	_, err = c.Profiles.Change(ctx, c.profile, 0, func(p *vpn.Profile) (*vpn.Profile, error) {
		p.PatternID = pattern.ID
		return p, nil
	}, func(string) bool { return true })
	c.set("profile", err)
	parcel, err := c.Build(ctx, c.profile, false)
	c.set("build", err)
	handOver := func() error {
		_, err := c.MakeHandover(ctx, c.profile, api.HandoverRequest{})
		return err
	}
	var blocked *service.BlockedError
	if err := handOver(); !errors.As(err, &blocked) ||
		blocked.Findings[0].Rule != check.CodeUnrehearsed {
		t.Errorf("handed over without a rehearsal: %v", err)
	}
	c.set("due", c.RehearseDue(ctx))
	rehearsals := func(want int) []api.Rehearsal {
		t.Helper()
		var page api.Page[api.Rehearsal]
		for end := time.Now().Add(15 * time.Second); ; time.Sleep(20 * time.Millisecond) {
			page, err = c.Rehearsals(ctx, store.Query{Limit: 20})
			c.set("rehearsals", err)
			if page.Total == want && (want == 0 || page.Items[0].State != api.RehearsalRunning) ||
				time.Now().After(end) {
				break
			}
		}
		if page.Total != want {
			t.Fatalf("%d rehearsals, expected %d: %+v", page.Total, want, page.Items)
		}
		return page.Items
	}
	rehearsals(0) // a service that starts signs in nowhere
	c.clock.turn(61 * time.Minute)
	c.set("due", c.RehearseDue(ctx))
	if row := rehearsals(1)[0]; row.State != api.RehearsalPassed || row.Login != "trial" ||
		row.Operator != service.Schedule {
		t.Errorf("%+v", row)
	}
	c.set("hand over", handOver())
	c.clock.turn(61 * time.Minute)
	stand.Break(simulate.FaultCertificate)
	c.set("due", c.RehearseDue(ctx))
	if row := rehearsals(2)[0]; row.Result.FailedAt() != rehearsal.Gateway {
		t.Errorf("a gateway that was changed: %+v", row)
	}
	if found := c.found(c.profile); !strings.Contains(found, "rehearsal-failed") {
		t.Errorf("findings are %q", found)
	}
	matrix, err := c.RehearsalMatrix(ctx, store.Query{Limit: 10})
	c.set("matrix", err)
	i := slices.IndexFunc(matrix.Rows, func(r api.RehearsalRow) bool { return len(r.Cells) > 0 })
	if i < 0 || matrix.Rows[i].Gateway != "North" || matrix.Rows[i].Protocol != vpn.TLS ||
		matrix.Rows[i].Cells[0].FailedAt != rehearsal.Gateway ||
		matrix.Rows[i].Cells[0].Passed.IsZero() || len(matrix.Platforms) != 1 {
		t.Errorf("%+v", matrix)
	}
	reportedElsewhere(t, c, parcel, rehearsals(2)[1].Result, handOver)
}

// trial is a crew whose gateway North is simulated by the TLS tunnel, with an account to rehearse
// by.
func trial(t *testing.T) (c *crew, stand *simulate.Gateway, account string) {
	t.Helper()
	c = crewed(t)
	ctx := t.Context()
	c.clock.turn(time.Since(c.clock.now()))
	const good = "tern-11-Oakum-reef-fathom"
	stand = &simulate.Gateway{
		Name: "north.skerryline.example", Protocols: []vpn.Protocol{vpn.TLS, vpn.L2TP},
		Accounts: map[string]string{"trial": good, "a_fjell": "tern-88-Gannet-orbit-luff"},
		KeyL2TP:  "kelp-4497-Harbor-mizzen-93-osprey",
	}
	c.set("simulator", stand.Start())
	t.Cleanup(func() { _ = stand.Close() })
	lead(t, c.Service, c.north, stand)
	people, err := c.People.List(ctx, store.Query{Limit: 1})
	c.set("people", err)
	a, err := c.Accounts.Add(ctx, &vpn.Account{
		PersonID: people.Items[0].ID, Login: "trial", Password: words(good),
	})
	c.set("account", err)
	c.set("gateway", c.edit(c.north, func(g *vpn.Gateway) {
		g.Offers = vpn.Offers{TLS: &vpn.TLSOffer{
			Remotes: []vpn.Remote{{Port: 1194, Transport: vpn.UDP}},
			Auth:    []vpn.TLSAuth{vpn.TLSPassword}, Ciphers: []string{"AES-256-GCM"},
			TLSOptions: vpn.TLSOptions{ServerName: "north.skerryline.example"}, Authority: stand.Authority,
		}}
	}))
	return c, stand, a.ID
}

// edit changes a gateway.
func (c *crew) edit(id string, edit func(*vpn.Gateway)) error {
	_, err := c.Gateways.Change(c.t.Context(), id, 0, func(g *vpn.Gateway) (*vpn.Gateway, error) {
		edit(g)
		return g, nil
	}, func(string) bool { return true })
	return err
}

// rehearse makes the rehearsals that are begun, until it is stopped.
func (c *crew) rehearse(s *service.Service) (stop func()) {
	running, end := context.WithCancel(c.t.Context())
	var all sync.WaitGroup
	all.Go(func() { s.RehearseQueued(running) })
	return func() { end(); all.Wait() }
}

// TestRehearsalsGoOn stops the service while a sample waits for its login, and between two times of
// a schedule: the next one goes on where it was, unless the sample was cancelled.
func TestRehearsalsGoOn(t *testing.T) {
	c, _, account := trial(t)
	ctx := t.Context()
	c.set("account of rehearsals", c.edit(c.north, func(g *vpn.Gateway) {
		g.Rehearsal.AccountID = account
	}))
	pattern, err := c.Patterns.Add(ctx, &vpn.Pattern{Name: "Careful"})
	c.set("pattern", err)
	_, err = c.Profiles.Change(ctx, c.others, 0, func(p *vpn.Profile) (*vpn.Profile, error) {
		p.PatternID = pattern.ID
		return p, nil
	}, func(string) bool { return true })
	c.set("profile", err)
	for id, account := range map[string]string{c.profile: c.adas, c.others: c.bos} {
		_, err := c.Profiles.Change(ctx, id, 0, func(p *vpn.Profile) (*vpn.Profile, error) {
			p.Preferences.AccountID = account
			return p, nil
		}, func(string) bool { return true })
		c.set("profile", err)
		_, err = c.Build(ctx, id, false)
		c.set("build", err)
	}
	restarted := func() *service.Service {
		s := service.New(c.store, slog.New(slog.DiscardHandler), c.clock.now)
		s.ProbeInternal()
		return s
	}
	// settled waits until nothing signs in, and says how many rehearsals there were.
	settled := func(s *service.Service) int {
		t.Helper()
		for end := time.Now().Add(20 * time.Second); time.Now().Before(end); {
			page, err := s.Rehearsals(ctx, store.Query{Limit: 20})
			c.set("rehearsals", err)
			if !slices.ContainsFunc(page.Items, func(r api.Rehearsal) bool {
				return r.State == api.RehearsalRunning
			}) {
				return page.Total
			}
			time.Sleep(10 * time.Millisecond)
		}
		t.Fatal("rehearsals do not end")
		return 0
	}
	job := func(s *service.Service, id, want string) {
		t.Helper()
		j, err := s.Job(ctx, id)
		got := fmt.Sprintf("%s %d/%d %v", j.State, j.Done, j.Total, j.Result)
		if err != nil || got != want {
			t.Errorf("the job is %s (%v), expected %s", got, err, want)
		}
	}
	stop := c.rehearse(c.Service)
	sample, err := c.RehearseSample(ctx, "gateway", c.north)
	c.set("sample", err)
	if len(sample.Profiles) != 2 || sample.Job.Total != 2 {
		t.Fatalf("%+v", sample)
	}
	c.set("due", c.RehearseDue(ctx))
	settled(c.Service)
	stop()
	job(c.Service, sample.Job.ID, "running 1/2 map[passed:1]")
	if again, err := c.RehearseSample(ctx, "gateway", c.north); err != nil ||
		again.Job.ID != sample.Job.ID || len(again.Profiles) != 1 {
		t.Errorf("a sample that is under way is begun again: %+v (%v)", again, err)
	}

	s := restarted()
	stop = c.rehearse(s)
	c.set("due", s.RehearseDue(ctx))
	job(s, sample.Job.ID, "running 1/2 map[passed:1]")
	c.clock.turn(2 * time.Minute)
	c.set("due", s.RehearseDue(ctx))
	if n := settled(s); n != 2 {
		t.Errorf("%d rehearsals after a restart, expected 2", n)
	}
	job(s, sample.Job.ID, "done 2/2 map[passed:2]")

	c.clock.turn(2 * time.Minute)
	sample, err = s.RehearseSample(ctx, "gateway", c.north)
	c.set("sample", err)
	c.set("due", s.RehearseDue(ctx))
	settled(s)
	_, err = s.Cancel(ctx, sample.Job.ID)
	c.set("cancel", err)
	c.clock.turn(2 * time.Minute)
	c.set("due", s.RehearseDue(ctx))
	if n := settled(s); n != 3 {
		t.Errorf("%d rehearsals after a sample was cancelled, expected 3", n)
	}
	job(s, sample.Job.ID, "cancelled 1/2 map[passed:1]")

	c.set("schedule", c.edit(c.north, func(g *vpn.Gateway) { g.Rehearsal.Every = 60 }))
	c.set("due", s.RehearseDue(ctx))
	for range 7 { // a service that starts oftener than its schedule comes due
		stop()
		s = restarted()
		stop = c.rehearse(s)
		c.clock.turn(9 * time.Minute)
		c.set("due", s.RehearseDue(ctx))
	}
	if n := settled(s); n != 4 {
		t.Errorf("%d rehearsals after 63 minutes of a schedule, expected 4", n)
	}
	// killed while it signs in: it is not tried again, and the sample goes on to its end
	stop()
	c.clock.turn(2 * time.Minute)
	c.set("due", s.RehearseDue(ctx)) // begun, and nobody makes it
	s = restarted()
	running, end := context.WithCancel(ctx)
	var all sync.WaitGroup
	all.Go(func() { s.RunRehearsals(running) })
	defer all.Wait()
	defer end()
	for until := time.Now().Add(10 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		list, err := s.Jobs(ctx, store.Query{
			Limit: 9, Conditions: map[string]string{"operator": service.Schedule},
		})
		c.set("jobs", err)
		if len(list.Items) == 1 && list.Items[0].State == api.Done {
			job(s, list.Items[0].ID, "done 2/2 map[passed:1 stopped:1]")
			break
		}
		if time.Now().After(until) {
			t.Fatalf("%+v", list.Items)
		}
	}
}

// TestRehearseOffers tries the offers of a gateway for a profile without a parcel: what comes of
// them stands in the matrix, and no parcel counts as rehearsed by it.
func TestRehearseOffers(t *testing.T) {
	c, _, _ := trial(t)
	ctx := t.Context()
	defer c.rehearse(c.Service)()
	c.set("gateway", c.edit(c.north, func(g *vpn.Gateway) {
		g.Offers.L2TP = &vpn.L2TPOffer{
			PSK: words("kelp-4497-Harbor-mizzen-93-osprey"), PPP: []suite.PPPMethod{suite.MSCHAPv2},
			IKE: []string{"aes256-sha256-modp2048"}, ESP: []string{"aes256-sha256"},
		}
		g.Offers.PPTP = &vpn.PPTPOffer{PPP: []suite.PPPMethod{suite.MSCHAPv2}}
	}))
	_, err := c.Profiles.Change(ctx, c.profile, 0, func(p *vpn.Profile) (*vpn.Profile, error) {
		p.Preferences.AccountID = c.adas
		return p, nil
	}, func(string) bool { return true })
	c.set("profile", err)
	var refused *vpn.Problems
	if _, err := c.RehearseOffers(ctx, c.profile, api.OfferRehearsals{
		Offers: []vpn.Protocol{vpn.TLS, vpn.SSTP},
	}); !errors.As(err, &refused) || refused.List[0].Pointer != "/offers/1" {
		t.Errorf("an offer that the gateway has not: %v", err)
	}
	sample, err := c.RehearseOffers(ctx, c.profile, api.OfferRehearsals{
		Offers: []vpn.Protocol{vpn.TLS, vpn.L2TP},
	})
	if err != nil || sample.Job.Total != 2 {
		t.Fatalf("%+v (%v)", sample, err)
	}
	for end := time.Now().Add(30 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		c.set("due", c.RehearseDue(ctx))
		j, err := c.Job(ctx, sample.Job.ID)
		c.set("job", err)
		if j.State == api.Done {
			if j.Result["passed"] != 2 {
				t.Errorf("%+v", j)
			}
			break
		}
		if time.Now().After(end) {
			t.Fatalf("%+v", j)
		}
		c.clock.turn(20 * time.Second) // the login waits a minute
	}
	m, err := c.RehearsalMatrix(ctx, store.Query{Limit: 9, Search: "North"})
	c.set("matrix", err)
	passed := []vpn.Protocol{}
	for _, row := range m.Rows {
		for _, cell := range row.Cells {
			if cell.State == api.RehearsalPassed {
				passed = append(passed, row.Protocol)
			}
		}
	}
	if !slices.Equal(passed, []vpn.Protocol{vpn.TLS, vpn.L2TP}) {
		t.Errorf("the matrix has %v", passed)
	}
	_, err = c.Build(ctx, c.profile, false)
	c.set("build", err)
	if found := c.found(c.profile); strings.Contains(found, "rehears") {
		t.Errorf("a rehearsal of an offer counts as one of a parcel: %q", found)
	}
	list, err := c.Rehearsals(ctx, store.Query{
		Limit: 9, Conditions: map[string]string{"latest": "true"},
	})
	if err != nil || list.Total != 0 {
		t.Errorf("%d rehearsals of parcels (%v)", list.Total, err)
	}
}

// reportedElsewhere keeps rehearsals of the newest parcel alone, and what they say counts.
func reportedElsewhere(
	t *testing.T,
	c *crew,
	parcel api.Parcel,
	passed rehearsal.Result,
	handOver func() error,
) {
	ctx := t.Context()
	sum := sha256.Sum256(parcel.Files[0].Content)
	report := api.ReportedRehearsal{
		Place: "Easthaven", SHA256: hex.EncodeToString(sum[:]), Result: passed,
	}
	var refused *vpn.Problems
	for pointer, edit := range map[string]func(*api.ReportedRehearsal){
		"/sha256":        func(r *api.ReportedRehearsal) { r.SHA256 = strings.Repeat("0", 64) },
		"/result/passed": func(r *api.ReportedRehearsal) { r.Result.Passed = false },
		"/result/steps":  func(r *api.ReportedRehearsal) { r.Result.Steps = r.Result.Steps[:3] },
	} {
		other := report
		edit(&other)
		if _, err := c.ReportRehearsal(ctx, c.profile, other); !errors.As(err, &refused) ||
			refused.List[0].Pointer != pointer {
			t.Errorf("%s: %v", pointer, err)
		}
	}
	c.clock.turn(time.Minute)
	report.Result.At = c.clock.now().AddDate(-1, 0, 0) // of a machine with another clock
	row, err := c.ReportRehearsal(ctx, c.profile, report)
	if err != nil || row.State != api.RehearsalPassed || row.Result.Place != "Easthaven" {
		t.Errorf("%+v (%v)", row, err)
	}
	c.set("hand over after a report", handOver())
	_, err = c.Gateways.Change(ctx, c.north, 0, func(g *vpn.Gateway) (*vpn.Gateway, error) {
		g.DNS = []string{"10.20.0.54"}
		return g, nil
	}, func(string) bool { return true })
	c.set("gateway", err)
	_, err = c.Build(ctx, c.profile, false)
	c.set("build again", err)
	if found := c.found(c.profile); !strings.Contains(found, check.CodeUnrehearsed) {
		t.Errorf("findings after another parcel are %q", found)
	}
	_, err = c.Override(ctx, c.profile, check.CodeUnrehearsed, "tried by hand",
		c.clock.now().AddDate(0, 0, 7))
	c.set("override", err)
	c.set("hand over by override", handOver())
}

// TestRehearseFile signs in with a dropped file, to a gateway on record alone unless an owner says
// otherwise, a login at most once a minute, and shows the result to nobody else.
func TestRehearseFile(t *testing.T) {
	c, stand, _ := trial(t)
	defer c.rehearse(c.Service)()
	issuer := service.AsRole(t.Context(), "issuer", service.RoleIssuer)
	owner := service.AsRole(t.Context(), "owner", service.RoleOwner)
	text := fmt.Sprintf("client\ndev tun\nremote north.skerryline.example 1194 udp\n"+
		"remote-cert-tls server\nauth-user-pass\ndata-ciphers AES-256-GCM\n<ca>\n%s</ca>\n",
		stand.Authority)
	try := func(
		ctx context.Context,
		text string,
		in service.FileRehearsal,
	) (api.Rehearsal, error) {
		row, err := c.RehearseFile(ctx, []filecheck.File{{Name: "north.ovpn", Data: []byte(text)}}, in)
		for end := time.Now().Add(20 * time.Second); err == nil && time.Now().Before(end) &&
			row.State == api.RehearsalRunning; time.Sleep(20 * time.Millisecond) {
			row, err = c.Rehearsal(ctx, row.ID)
		}
		return row, err
	}
	refused := func(what, pointer string, err error) {
		t.Helper()
		var list *vpn.Problems
		if !errors.As(err, &list) || list.List[0].Pointer != pointer {
			t.Errorf("%s: %v, expected a problem of %s", what, err, pointer)
		}
	}
	right := service.FileRehearsal{
		Login: "trial", Password: secret.New("tern-11-Oakum-reef-fathom"),
	}
	wrong := right
	wrong.Password = secret.New("gale-7781-Binnacle")
	_, err := try(issuer, text, service.FileRehearsal{})
	refused("without a password", "/password", err)
	elsewhere := strings.Replace(text, "remote north", "remote 127.0.0.9 1194\nremote north", 1)
	_, err = try(issuer, elsewhere, right)
	refused("a second remote that is on no record", "/off_record", err)
	off := right
	off.OffRecord = true
	if _, err = try(issuer, elsewhere, off); !errors.Is(err, service.ErrRole) {
		t.Errorf("an issuer, off record: %v", err)
	}
	row, err := try(issuer, text, right)
	if err != nil || row.State != api.RehearsalPassed || row.Gateway != "North" {
		t.Fatalf("%+v (%v)", row, err)
	}
	var gone *store.NotFoundError
	if _, err := c.Rehearsal(owner, row.ID); !errors.As(err, &gone) {
		t.Errorf("another operator sees it: %v", err)
	}
	var kind interface{ Kind() vpn.Kind }
	if _, err := try(issuer, text, right); !errors.As(err, &kind) || kind.Kind() != vpn.KindTries {
		t.Errorf("twice within a minute: %v", err)
	}
	c.clock.turn(2 * time.Minute)
	if row, err = try(issuer, text, wrong); err != nil || row.Result.CauseID != "password-wrong" {
		t.Errorf("another password: %+v (%v)", row, err)
	}
	c.clock.turn(2 * time.Minute)
	_, err = try(issuer, text, right)
	refused("after a rejection", "/again", err)
	right.Again = true
	if row, err = try(issuer, text, right); err != nil || row.State != api.RehearsalPassed {
		t.Errorf("confirmed: %+v (%v)", row, err)
	}
	list, err := c.Rehearsals(owner, store.Query{Limit: 5})
	if err != nil || list.Total != 0 {
		t.Errorf("%d rehearsals on record (%v)", list.Total, err)
	}
	entries, err := c.Audit(owner, store.Query{Search: "north.ovpn", Limit: 9})
	if err != nil || entries.Total != 3 {
		t.Errorf("%d rehearsals in the audit log (%v)", entries.Total, err)
	}
}
