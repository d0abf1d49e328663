package demo

import (
	"context"
	"fmt"
	"math"
	"net"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"wardicon/api"
	"wardicon/core/drift"
	"wardicon/core/pki"
	"wardicon/core/rehearsal"
	"wardicon/core/vpn"
	"wardicon/service"
	"wardicon/store"
)

// MovedAddress is the address that Norrvik moves to.
const MovedAddress = "north.skerryline.example"

// historyDays is how long the sample service has run when somebody looks at it.
const historyDays = 28

// Clock is the clock of the sample service: it can be set back, and runs on from there.
type Clock struct{ behind atomic.Int64 }

// Now is its time.
func (c *Clock) Now() time.Time { return time.Now().Add(-time.Duration(c.behind.Load())) }

// at sets it to so many days ago.
func (c *Clock) at(daysAgo float64) {
	c.behind.Store(int64(daysAgo * 24 * float64(time.Hour)))
}

// Lived loads the sample data as if the service had been in use for some weeks: parcels in every
// state of their handover, probes and rehearsals with an outage, reports, one switchover that is
// over and one under way. It gives the gateways' certificates with their keys, by name.
func Lived(
	ctx context.Context,
	svc *service.Service,
	st *store.Store,
	clock *Clock,
) (map[string]pki.Identity, error) {
	clock.at(historyDays)
	defer clock.at(0)
	ctx = service.As(ctx, OwnerName)
	l := newLoader(svc)
	l.lead, l.sign = historyDays, brought(svc)
	if err := l.load(service.As(ctx, "demo")); err != nil {
		return nil, err
	}
	h := &history{loader: l, st: st, clock: clock}
	for _, step := range []func(context.Context) error{
		h.findings, h.oldSwitchover, h.handovers, h.runningSwitchover, h.reports, h.probes, h.rehearsals,
	} {
		if err := step(ctx); err != nil {
			return nil, err
		}
	}
	return l.identities, nil
}

type history struct {
	*loader
	st    *store.Store
	clock *Clock
}

// profiles are those whose parcel can be built, by device.
func (h *history) profiles(ctx context.Context, gateway string) ([]api.Profile, error) {
	page, err := h.svc.Profiles.List(ctx, store.Query{
		Limit: 100, Sort: "device",
		Conditions: map[string]string{"gateway_id": h.gateways[gateway]},
	})
	var list []api.Profile
	for _, p := range page.Items {
		if p.Tally.Errors == 0 {
			list = append(list, p)
		}
	}
	return list, err
}

// how far a parcel has come on its way.
const (
	made = iota
	opened
	fetched
	connected
	recalled
)

// goes lets the newest link of a profile have come so far, a day for each step.
func (h *history) goes(ctx context.Context, profileID, link string, far int, day float64) error {
	return h.st.Write(ctx, func(tx *store.Tx) error {
		if far == recalled {
			h.clock.at(day - 1)
			_, err := tx.Recall(ctx, link)
			return err
		}
		if far >= opened {
			h.clock.at(day - 0.4)
			if _, err := tx.CountUse(ctx, link); err != nil {
				return err
			}
		}
		if far >= fetched {
			h.clock.at(day - 0.41)
			if err := tx.NoteFetched(ctx, link); err != nil {
				return err
			}
		}
		if far < connected {
			return nil
		}
		h.clock.at(day - 0.9)
		p, err := store.Profiles.Get(ctx, tx, profileID)
		if err != nil {
			return err
		}
		if _, err := tx.NoteSeenConnection(ctx, api.SeenConnection{
			ProfileID: profileID, GatewayID: p.GatewayID, Address: Egress, By: "egress",
		}); err != nil {
			return err
		}
		return tx.NoteConnected(ctx, link)
	})
}

const builders = 4 // at a time

// handovers are those of the first weeks.
func (h *history) handovers(ctx context.Context) error {
	ways := []int{connected, connected, fetched, connected, opened, connected, made, recalled}
	days := 30
	var all []api.Profile
	for _, gateway := range []string{"Norrvik", "Brattvik", "Lyngholm"} {
		list, err := h.profiles(ctx, gateway)
		if err != nil {
			return err
		}
		all = append(all, list...)
	}
	// Parcels were all built on one day: they take long, and do not wait for each other.
	h.clock.at(13)
	built := make([]bool, len(all))
	var building sync.WaitGroup
	for from := range builders {
		building.Go(func() {
			for i := from; i < len(all); i += builders {
				_, err := h.svc.Build(ctx, all[i].ID, false)
				built[i] = err == nil // what a file cannot carry is on the page of the profile
			}
		})
	}
	building.Wait()
	n := 0
	for i, p := range all {
		if built[i] {
			day := 12 - float64(n%10)
			h.clock.at(day)
			link, err := h.svc.MakeHandover(ctx, p.ID, api.HandoverRequest{Days: &days})
			if err != nil {
				continue
			}
			if err := h.goes(ctx, p.ID, link.Handover.ID, ways[n%len(ways)], day); err != nil {
				return fmt.Errorf("%s: %w", p.Device, err)
			}
			n++
		}
	}
	return nil
}

// oldSwitchover is one that is over.
func (h *history) oldSwitchover(ctx context.Context) error {
	h.clock.at(26)
	id, err := h.begin(ctx, vpn.Switchover{
		Name: "Norrvik offers stronger ESP only", Kind: vpn.SwitchProposals,
		GatewayID: h.gateways["Norrvik"], Group: "bridge",
		Next: vpn.NextValue{ESP: []string{"aes256-sha256", "aes256-sha1"}},
		Note: "Ordered by the network office",
	})
	if err != nil {
		return err
	}
	h.clock.at(24)
	board, err := h.svc.SwitchoverBoard(ctx, id)
	if err != nil {
		return err
	}
	_, err = h.svc.Switch(ctx, id, service.PhaseCutOff, board.Holders, false)
	return err
}

// begin adds a switchover, computes its preview, and begins its first wave.
func (h *history) begin(ctx context.Context, w vpn.Switchover) (id string, err error) {
	if _, err := h.svc.Switchovers.Add(ctx, &w); err != nil {
		return "", fmt.Errorf("switchover %s: %w", w.Name, err)
	}
	if _, err := h.svc.Survey(ctx, w.ID); err != nil {
		return "", err
	}
	if err := h.svc.WorkAll(ctx); err != nil {
		return "", err
	}
	if _, err := h.svc.Switch(ctx, w.ID, service.PhaseStart, 0, false); err != nil {
		return "", fmt.Errorf("switchover %s: %w", w.Name, err)
	}
	return w.ID, h.svc.WorkAll(ctx)
}

// runningSwitchover is under way: its second wave has begun.
func (h *history) runningSwitchover(ctx context.Context) error {
	h.clock.at(6)
	end := time.Now().AddDate(0, 0, 24).UTC().Truncate(24 * time.Hour)
	id, err := h.begin(ctx, vpn.Switchover{
		Name: "Norrvik moves to another line", Kind: vpn.SwitchAddress,
		GatewayID: h.gateways["Norrvik"],
		Next:      vpn.NextValue{Address: MovedAddress, Addresses: []string{"198.51.100.7"}},
		// A share takes devices by chance: by groups it is the same at each start.
		Waves:     []vpn.Wave{{Group: "bridge"}, {Group: "engineers"}, {Share: 100}},
		SeenShare: 60, ReportShare: 30, RemindDays: 3, CutOff: &end,
		Note: "The old line is given up at the end of the year.",
	})
	if err != nil {
		return err
	}
	if err := h.move(ctx, id, 6, []int{connected, connected, fetched}); err != nil {
		return err
	}
	h.clock.at(3)
	if _, err := h.svc.Switch(ctx, id, service.PhaseAdvance, 0, true); err != nil {
		return err
	}
	if err := h.svc.WorkAll(ctx); err != nil {
		return err
	}
	return h.move(ctx, id, 3, []int{connected, fetched, made, opened})
}

// move lets the devices of a switchover that were handed over come on.
func (h *history) move(ctx context.Context, id string, day float64, ways []int) error {
	page, err := h.svc.SwitchoverDevices(ctx, id, store.Query{
		Limit: 100, Conditions: map[string]string{"state": string(api.StepHanded)},
	})
	if err != nil {
		return err
	}
	for i, x := range page.Items {
		links, err := h.svc.Handovers(ctx, store.Query{
			Limit: 1, Conditions: map[string]string{"profile_id": x.Tracked},
		})
		if err != nil || len(links.Items) == 0 {
			return err
		}
		if err := h.goes(ctx, x.Tracked, links.Items[0].ID, ways[i%len(ways)],
			day-0.3*float64(i%3)); err != nil {
			return err
		}
	}
	return nil
}

// findings is how what was found at first became less: one kind of it was fixed.
func (h *history) findings(ctx context.Context) error {
	for _, day := range []float64{28, 16} {
		h.clock.at(day)
		if fix := "edge-space"; day == 16 {
			if _, err := h.svc.FixAll(ctx, fix); err != nil {
				return err
			}
			if err := h.svc.WorkAll(ctx); err != nil {
				return err
			}
		}
		if _, err := h.svc.CheckAll(ctx); err != nil {
			return err
		}
		if err := h.st.Write(ctx, func(tx *store.Tx) error {
			return tx.NoteFindings(ctx)
		}); err != nil {
			return err
		}
	}
	return nil
}

// reports are what people said does not work.
func (h *history) reports(ctx context.Context) error {
	for i, say := range []struct{ device, gateway, message string }{
		{"Engine laptop 1", "Norrvik", "error 789 when connecting from the hotel"},
		{"Yard phone", "Brattvik", "Could not authenticate"},
	} {
		h.clock.at(2 - float64(i))
		list, err := h.svc.Profiles.List(ctx, store.Query{
			Limit: 1, Conditions: map[string]string{"device": say.device, "gateway": say.gateway},
		})
		if err != nil || len(list.Items) == 0 {
			return err
		}
		if err := h.st.Write(ctx, func(tx *store.Tx) error {
			return tx.AddReport(ctx, api.Report{
				ProfileID: list.Items[0].ID, Message: say.message,
			})
		}); err != nil {
			return err
		}
	}
	return nil
}

// An outage: from when to when a gateway did not answer, in days ago.
const (
	outageFrom = 9.2
	outageTo   = 8.4
	down       = "Lyngholm"
)

func out(gateway string, day float64) bool {
	return gateway == down && day <= outageFrom && day >= outageTo
}

// probes are two a day of the gateways that answer; the others are probed for the first time when
// somebody asks.
func (h *history) probes(ctx context.Context) error {
	return h.st.Write(ctx, func(tx *store.Tx) error {
		for _, name := range []string{"Norrvik", "Brattvik", "Lyngholm"} {
			g, err := store.Gateways.Get(ctx, tx, h.gateways[name])
			if err != nil {
				return err
			}
			for i := range 2 * 14 {
				day := 14 - float64(i)/2
				h.clock.at(day)
				p := drift.Probe{
					GatewayID: g.ID, Gateway: g.Name, At: h.clock.Now().UTC(), By: "schedule",
					Names: []drift.Resolved{}, Differences: []drift.Difference{},
				}
				for j, protocol := range g.Offers.Protocols() {
					p.Answers = append(p.Answers, answer(g, protocol, j, i, out(name, day)))
				}
				if err := tx.AddProbe(ctx, &p); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

var methods = map[vpn.Protocol]struct {
	method    string
	transport vpn.Transport
	port      int
}{
	vpn.IKEv2: {drift.MethodIKEv2, vpn.UDP, 500},
	vpn.L2TP:  {drift.MethodMain, vpn.UDP, 500},
	vpn.PPTP:  {drift.MethodPPTP, vpn.TCP, 1723},
	vpn.SSTP:  {drift.MethodSSTP, vpn.TCP, 443},
	vpn.TLS:   {drift.MethodTunnel, vpn.UDP, 1194},
}

func answer(g *vpn.Gateway, p vpn.Protocol, j, i int, silent bool) drift.Answer {
	m := methods[p]
	a := drift.Answer{
		Protocol: p, Method: m.method, Transport: m.transport, Port: m.port,
		Address: net.JoinHostPort(g.Addresses[0], strconv.Itoa(m.port)), State: drift.Answered,
		Packets: 1, Notes: []string{},
		// slower in the afternoon, the same at each start
		Milliseconds: 14 + 6*float64(j) + 4*math.Abs(math.Sin(float64(i)*1.7)) + 3*float64(i%2),
	}
	if silent {
		a.State, a.Milliseconds, a.Packets = drift.Silent, 0, 4
	}
	return a
}

// rehearsals are one a day of a profile at each gateway that answers.
func (h *history) rehearsals(ctx context.Context) error {
	for _, name := range []string{"Brattvik", "Lyngholm"} {
		list, err := h.profiles(ctx, name)
		if err != nil || len(list) == 0 {
			return err
		}
		p := list[0]
		parcels, err := h.svc.Parcels(ctx, p.ID)
		if err != nil || len(parcels) == 0 {
			return err
		}
		planned, err := h.svc.Plan(ctx, p.ID)
		if err != nil {
			return err
		}
		if err := h.st.Write(ctx, func(tx *store.Tx) error {
			for i := range 14 {
				day := 14 - float64(i) - 0.2
				h.clock.at(day)
				r := api.Rehearsal{
					ProfileID: p.ID, ParcelID: parcels[0].ID, GatewayID: p.GatewayID,
					Operator: "schedule", State: api.RehearsalRunning,
					Result: rehearsal.Begun(h.clock.Now(), "", planned.Connection),
				}
				if err := tx.AddRehearsal(ctx, &r); err != nil {
					return err
				}
				rehearsed(&r, out(name, day), i)
				if err := tx.EndRehearsal(ctx, &r); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return err
		}
	}
	return nil
}

// rehearsed is what a rehearsal came to.
func rehearsed(r *api.Rehearsal, failed bool, i int) {
	r.State, r.Result.Passed = api.RehearsalPassed, true
	for j, name := range rehearsal.Steps {
		s := rehearsal.Step{
			Name: name, State: rehearsal.Passed, Took: 8 + 3*float64((i+j)%5), Found: "as planned",
		}
		switch {
		case failed && name == rehearsal.Exchange:
			s.State, s.Found = rehearsal.Failed, "no response"
		case failed && j > 1:
			s.State, s.Found = rehearsal.Skipped, ""
		}
		r.Result.Took += s.Took
		r.Result.Steps = append(r.Result.Steps, s)
	}
	if failed {
		r.State, r.Result.Passed = api.RehearsalFailed, false
		r.Result.Cause = "The gateway does not respond"
		r.Result.Fix = "Check whether it runs, and whether a packet filter lets the ports through."
	}
}
