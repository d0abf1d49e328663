package service_test

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/drift"
	"wardicon/core/suite"
	"wardicon/core/vpn"
	"wardicon/service"
	"wardicon/simulate"
	"wardicon/store"
)

// lead has a gateway's record lead to a simulator.
func lead(t *testing.T, s *service.Service, id string, stand *simulate.Gateway) {
	t.Helper()
	at := &vpn.ProbeAt{Address: stand.Bind.String(), Ports: map[string]int{}}
	for from, to := range stand.Ports() {
		at.Ports[strconv.Itoa(from)] = to
	}
	if _, err := s.Gateways.Change(
		t.Context(),
		id,
		0,
		func(g *vpn.Gateway) (*vpn.Gateway, error) { g.ProbeAt = at; return g, nil },
		func(string) bool { return true },
	); err != nil {
		t.Fatal(err)
	}
}

// named runs a simulator for a name server.
func named(t *testing.T, s *service.Service, names map[string][]string) {
	t.Helper()
	n, err := simulate.NewNameServer(names)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = n.Close() })
	s.Resolver(n.Address)
}

// TestFirm sees a name missing once, twice, and a day ago: only what was seen twice and lately
// holds a parcel up, and it says who saw it. A name server that fails says nothing about gateways.
func TestFirm(t *testing.T) {
	t.Parallel()
	s, st, c := start(t)
	c.turn(time.Since(c.now()))
	ctx := service.As(t.Context(), "harbourmaster")
	named(t, s, map[string][]string{"other.skerryline.example": {"198.51.100.7"}})
	laptopCrew(t, s, 1)
	profile, err := s.Profiles.List(ctx, store.Query{Limit: 1})
	if err != nil {
		t.Fatal(err)
	}
	gateway := profile.Items[0].GatewayID
	probe := func(want drift.State) {
		t.Helper()
		if p, err := s.Probe(ctx, gateway); err != nil || p.State() != want {
			t.Fatalf("%s, expected %s (%v)", p.State(), want, err)
		}
		if _, err := s.CheckAll(ctx); err != nil {
			t.Fatal(err)
		}
	}
	build := func(when string, severity vpn.Severity, held bool) {
		t.Helper()
		found, err := s.Findings(
			ctx,
			store.Query{
				Limit: 1,
				Conditions: map[string]string{
					"rule":       "name-unanswered",
					"profile_id": profile.Items[0].ID,
				},
			},
		)
		if err != nil || found.Total != 1 || found.Items[0].Severity != severity ||
			!strings.Contains(
				found.Items[0].Found,
				"as seen by this service by the name server 127.0.0.1:",
			) {
			t.Errorf("%s: %+v (%v)", when, found.Items, err)
		}
		var blocked *service.BlockedError
		if _, err := s.Build(ctx, profile.Items[0].ID, false); errors.As(err, &blocked) != held {
			t.Errorf("%s: held up: %t (%v)", when, !held, err)
		}
	}
	probe(drift.NoResponse)
	build("once", vpn.Warning, false)
	c.turn(time.Minute)
	probe(drift.NoResponse)
	build("twice within a minute", vpn.Warning, false)
	if due, err := st.Read().
		UnprobedGateways(ctx, time.Time{}, c.now().Add(time.Second), 9); err != nil ||
		slices.Contains(due, gateway) {
		t.Errorf("asked a third time by itself: %v (%v)", due, err)
	}
	c.turn(6 * time.Minute)
	probe(drift.NoResponse)
	build("twice", vpn.Error, true)
	c.turn(25 * time.Hour)
	if err := st.Write(
		ctx,
		func(tx *store.Tx) error { return tx.TouchProfiles(ctx, "1") },
	); err != nil {
		t.Fatal(err)
	}
	if _, err := s.CheckAll(ctx); err != nil {
		t.Fatal(err)
	}
	build("a day ago", vpn.Warning, false)
	s.Resolver("127.0.0.1:1") // nobody answers there
	probe(drift.Unresolved)
	if found, err := s.Findings(
		ctx,
		store.Query{Limit: 1, Conditions: map[string]string{"rule": "name-unanswered"}},
	); err != nil ||
		found.Total != 0 {
		t.Errorf("a name server that fails: %+v (%v)", found.Items, err)
	}
}

// TestProbe asks a simulator, takes over what it saw, and finds the rules that look at it; a second
// question meanwhile waits for the same answer.
func TestProbe(t *testing.T) {
	t.Parallel()
	s, st, c := start(t)
	ctx := service.As(t.Context(), "harbourmaster")
	g, err := s.Gateways.Add(
		ctx,
		&vpn.Gateway{
			Name:      "Norrvik",
			Address:   "norrvik.skerryline.example",
			Addresses: []string{"198.51.100.7"},
			Offers: vpn.Offers{
				IKEv2: &vpn.IKEv2Offer{
					Auth: []vpn.IKEv2Auth{vpn.IKEv2MSCHAPv2},
					IKE:  []string{"aes256-sha256-modp2048"},
					ESP:  []string{"aes256-sha256"},
				},
			},
		},
	)
	if err != nil {
		t.Fatal(err)
	}
	ecp, err := suite.ParseAll([]string{"aes256-sha256-ecp256"})
	if err != nil {
		t.Fatal(err)
	}
	stand := &simulate.Gateway{Protocols: []vpn.Protocol{vpn.IKEv2}, Suites: ecp}
	if err := stand.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = stand.Close() })
	lead(t, s, g.ID, stand)
	named(t, s, map[string][]string{"norrvik.skerryline.example": {"198.51.100.8"}})

	var both sync.WaitGroup
	probes := make([]drift.Probe, 2)
	for i := range probes {
		both.Go(func() { probes[i], err = s.Probe(ctx, g.ID) })
	}
	both.Wait()
	if err != nil || probes[0].ID == "" || probes[0].ID != probes[1].ID {
		t.Fatalf("%q and %q (%v), expected the same probe twice", probes[0].ID, probes[1].ID, err)
	}
	p := probes[0]
	codes := func(p drift.Probe) (list []string) {
		for _, d := range p.Differences {
			list = append(list, d.Code)
		}
		return list
	}
	if got := codes(
		p,
	); !slices.Equal(got, []string{drift.NameElsewhere, drift.SuiteNone}) ||
		p.State() != drift.Differs {
		t.Errorf("%v, %s", got, p.State())
	}
	if err := takeAll(s, t, g.ID, p); err != nil {
		t.Fatal(err)
	}
	after, err := s.Gateways.Get(ctx, g.ID)
	if err != nil || !slices.Equal(after.Offers.IKEv2.IKE, []string{"aes256-sha256-ecp256"}) ||
		!slices.Equal(after.Addresses, []string{"198.51.100.8"}) ||
		after.ProbeAt == nil {
		t.Errorf("%+v (%v)", after.Gateway, err)
	}
	if p, err = s.Probe(ctx, g.ID); err != nil || len(codes(p)) != 0 || p.State() != drift.Matches {
		t.Errorf("after taking over: %v (%v)", codes(p), err)
	}
	stand.Break(simulate.FaultSilent)
	if p, err = s.Probe(
		ctx,
		g.ID,
	); err != nil || p.State() != drift.NoResponse ||
		p.Differences[0].Code != drift.NoAnswer {
		t.Errorf("silent: %v, %s (%v)", codes(p), p.State(), err)
	}
	page, err := s.Probes(
		ctx,
		store.Query{Limit: 10, Conditions: map[string]string{"gateway_id": g.ID}},
	)
	if err != nil || page.Total != 3 || page.Items[0].ID != p.ID {
		t.Errorf("%+v (%v)", page, err)
	}
	if last, err := s.Probes(
		ctx,
		store.Query{Limit: 10, Conditions: map[string]string{"latest": "true"}},
	); err != nil || last.Total != 1 ||
		last.Items[0].State != drift.NoResponse {
		t.Errorf("%+v (%v)", last, err)
	}
	// The rules that look at it have found that, until it is too long ago.
	person, err := s.People.Add(ctx, &vpn.Person{Name: "Ada Fjell"})
	if err != nil {
		t.Fatal(err)
	}
	device, err := s.Devices.Add(
		ctx,
		&vpn.Device{Name: "Planner Mac", PersonID: person.ID, Platform: vpn.MacOS, Release: "15"},
	)
	if err != nil {
		t.Fatal(err)
	}
	profile, err := s.Profiles.Add(ctx, &vpn.Profile{DeviceID: device.ID, GatewayID: g.ID})
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []bool{true, false} {
		plan, err := s.Plan(ctx, profile.ID)
		if err != nil {
			t.Fatal(err)
		}
		if got := slices.ContainsFunc(
			plan.Findings,
			func(f check.Finding) bool { return f.Rule == "gateway-no-response" },
		); got != want {
			t.Errorf("found that the gateway is silent: %t, expected %t", got, want)
		}
		c.turn(8 * 24 * time.Hour)
	}
	if _, err := st.Read().LatestProbe(ctx, g.ID, c.now()); err != nil {
		t.Error(err)
	}
}

func takeAll(s *service.Service, t *testing.T, gatewayID string, p drift.Probe) error {
	var which []int
	for i, d := range p.Differences {
		if d.Take {
			which = append(which, i)
		}
	}
	_, err := s.TakeOver(service.As(t.Context(), "harbourmaster"), gatewayID, p.ID, which)
	return err
}

// TestStrangers refuses addresses that are on no record, unless an owner says otherwise; names the
// gateway that has it.
func TestStrangers(t *testing.T) {
	t.Parallel()
	s, _, _ := start(t)
	owner, issuer := service.As(
		t.Context(),
		"harbourmaster",
	), service.AsRole(
		t.Context(),
		"mate",
		service.RoleIssuer,
	)
	named(t, s, nil)
	var stranger *service.StrangerError
	if _, err := s.ProbeAddress(owner, "127.0.0.9", false); !errors.As(err, &stranger) {
		t.Errorf("%v, expected that a stranger is not asked", err)
	}
	if _, err := s.ProbeAddress(issuer, "127.0.0.9", true); !errors.Is(err, service.ErrRole) {
		t.Errorf("%v, expected that only an owner may", err)
	}
	if _, err := s.ProbeAddress(owner, "http://127.0.0.9/", true); err == nil {
		t.Error("a web address was asked")
	}
	p, err := s.ProbeAddress(owner, "127.0.0.9", true)
	if err != nil || p.ID != "" || len(p.Answers) < 8 || len(p.Differences) != 0 {
		t.Errorf("%+v (%v)", p, err)
	}
	for _, a := range p.Answers {
		if a.State != drift.Closed {
			t.Errorf("%s: %s, expected that nobody is there", a.Method, a.State)
		}
	}
}

// TestManyGateways asks 200 gateways that answer, all at once, by the schedule, in bounded memory,
// each once.
func TestManyGateways(t *testing.T) {
	s, st, c := start(t)
	const many = 200
	ctx := service.As(t.Context(), "harbourmaster")
	for i := range many {
		// Each at an address of its own, as one address gets few packets a second.
		stand := &simulate.Gateway{
			Bind:      netip.AddrFrom4([4]byte{127, 8, byte(i / 200), byte(i%200 + 1)}),
			Protocols: []vpn.Protocol{vpn.IKEv2, vpn.PPTP, vpn.SSTP},
		}
		if err := stand.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = stand.Close() })
		g, err := s.Gateways.Add(
			ctx,
			&vpn.Gateway{
				Name:    fmt.Sprintf("Buoy %03d", i),
				Address: stand.Bind.String(),
				Offers: vpn.Offers{
					PPTP: &vpn.PPTPOffer{
						PPP: []suite.PPPMethod{suite.MSCHAPv2},
					},
					SSTP: &vpn.SSTPOffer{PPP: []suite.PPPMethod{suite.MSCHAPv2}},
					IKEv2: &vpn.IKEv2Offer{
						Auth: []vpn.IKEv2Auth{vpn.IKEv2MSCHAPv2},
						IKE:  []string{"aes256-sha256-ecp256"},
					},
				},
			},
		)
		if err != nil {
			t.Fatal(err)
		}
		lead(t, s, g.ID, stand)
	}
	if n, err := s.ProbeDue(t.Context()); n != 0 || err != nil {
		t.Fatalf("%d gateways without a schedule (%v)", n, err)
	}
	if _, err := s.SetOrganisation(
		ctx,
		vpn.Organisation{Name: "Skerry Line", Domain: "skerryline.example", ProbeEvery: 2},
	); err != nil {
		t.Fatal(err)
	}
	before, most := heap(), uint64(0)
	watching, stop := context.WithCancel(t.Context())
	var watch sync.WaitGroup
	watch.Go(func() {
		for watching.Err() == nil {
			most = max(most, heap())
			time.Sleep(50 * time.Millisecond)
		}
	})
	n, err := s.ProbeDue(t.Context())
	stop()
	watch.Wait()
	if n != many || err != nil {
		t.Fatalf("%d gateways (%v), expected %d", n, err, many)
	}
	t.Logf("%d MB at the most, %d before", most>>20, before>>20)
	if most > before+128<<20 {
		t.Errorf(
			"%d bytes more are held while 200 gateways and their simulators answer, expected no "+
				"more than 128 MB",
			most-before,
		)
	}
	page, err := s.Probes(t.Context(), store.Query{Limit: 500})
	if err != nil || page.Total != many {
		t.Fatalf("%d probes (%v)", page.Total, err)
	}
	for _, r := range page.Items {
		if r.By != service.Schedule ||
			slices.ContainsFunc(
				r.Times,
				func(a drift.AnswerTime) bool { return a.State != drift.Answered },
			) {
			t.Errorf("%+v", r)
		}
	}
	if n, err := s.ProbeDue(t.Context()); n != 0 || err != nil {
		t.Errorf("%d gateways at once again (%v)", n, err)
	}
	c.turn(3 * time.Hour)
	if due, err := st.Read().
		UnprobedGateways(t.Context(), c.now().Add(-2*time.Hour), time.Time{}, 500); err != nil ||
		len(due) != many {
		t.Errorf("%d gateways are due after three hours (%v)", len(due), err)
	}
}

// heap is what is held of it, in bytes.
func heap() uint64 {
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return m.HeapAlloc
}

// TestProbeJobs asks every gateway as a job that is stopped and goes on, and is cancelled; a single
// gateway does not wait for it.
func TestProbeJobs(t *testing.T) {
	t.Parallel()
	s, st, c := start(t)
	ctx := service.As(t.Context(), "harbourmaster")
	if _, err := s.ProbeGateways(ctx, ""); err == nil {
		t.Error("a job with nobody to ask was begun")
	}
	var ids []string
	stands := make([]*simulate.Gateway, 3)
	for i := range stands {
		stands[i] = &simulate.Gateway{
			Bind:      netip.AddrFrom4([4]byte{127, 9, 0, byte(i + 1)}),
			Protocols: []vpn.Protocol{vpn.PPTP},
		}
		if err := stands[i].Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = stands[i].Close() })
		g, err := s.Gateways.Add(
			ctx,
			&vpn.Gateway{
				Name:    fmt.Sprintf("Buoy %d", i),
				Address: stands[i].Bind.String(),
				Offers:  vpn.Offers{PPTP: &vpn.PPTPOffer{PPP: []suite.PPPMethod{suite.MSCHAPv2}}},
			},
		)
		if err != nil {
			t.Fatal(err)
		}
		lead(t, s, g.ID, stands[i])
		ids = append(ids, g.ID)
	}
	run := func(until func() bool) { // the service runs, until something is so
		running, stop := context.WithCancel(t.Context())
		var all sync.WaitGroup
		all.Go(func() { s.Ask(running) })
		for end := time.Now().Add(time.Minute); !until() && time.Now().Before(end); {
			time.Sleep(10 * time.Millisecond)
		}
		stop()
		all.Wait()
	}
	state := func(id string) api.Job {
		j, err := s.Job(ctx, id)
		if err != nil {
			t.Fatal(err)
		}
		return j
	}
	stands[2].Break(simulate.FaultSilent)
	every, err := s.ProbeGateways(ctx, "")
	if err != nil || every.Total != 3 {
		t.Fatalf("%+v (%v)", every, err)
	}
	run(func() bool { return state(every.ID).Done == 2 }) // the third one keeps it waiting
	if j := state(every.ID); j.State != api.Running || j.Result[string(drift.Matches)] != 2 {
		t.Errorf("stopped: %+v", j)
	}
	run(func() bool { return state(every.ID).State != api.Running })
	if j := state(
		every.ID,
	); j.State != api.Done || j.Done != 3 || j.Result[string(drift.Matches)] != 2 ||
		j.Result[string(drift.NoResponse)] != 1 {
		t.Errorf("gone on: %+v", j)
	}
	page, err := s.Probes(ctx, store.Query{Limit: 10})
	if err != nil || page.Total != 3 {
		t.Errorf("%d probes (%v), expected one of each", page.Total, err)
	}
	for _, r := range page.Items {
		if r.By != "harbourmaster" {
			t.Errorf("asked by %s", r.By)
		}
	}
	c.turn(time.Second)
	silent, err := s.ProbeGateways(ctx, ids[2])
	if err != nil {
		t.Fatal(err)
	}
	var one api.Job
	run(func() bool {
		if one.ID == "" {
			if one, err = s.ProbeGateways(ctx, ids[0]); err != nil {
				t.Fatal(err)
			}
		}
		if state(one.ID).State != api.Done {
			return false
		}
		if state(silent.ID).State == api.Running {
			if _, err := s.Cancel(ctx, silent.ID); err != nil {
				t.Fatal(err)
			}
		}
		return true
	})
	if j := state(silent.ID); j.State != api.Cancelled {
		t.Errorf("%+v, expected that it was cancelled while it waited", j)
	}
	if left, err := st.Read().RunningJobs(ctx, "probe"); err != nil || len(left) != 0 {
		t.Errorf("%+v (%v)", left, err)
	}
}
