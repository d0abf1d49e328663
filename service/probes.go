package service

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/drift"
	"wardicon/core/vpn"
	"wardicon/probe"
	"wardicon/store"
)

// Limits of asking a gateway.
const (
	probeTime  = 75 * time.Second   // what was not asked for by then is unprobed
	strangers  = 25 * time.Second   // the same for an address on no record
	nameTime   = 5 * time.Second    // that a name server may take
	probeFresh = 7 * 24 * time.Hour // how long what was seen counts
)

// Schedule is who asks when nobody does.
const Schedule = "schedule"

// asking is what asks gateways: one at a time each.
type asking struct {
	prober   *probe.Prober
	resolver *net.Resolver
	server   string // the name server, as a reader is told
	// authorities that devices know by themselves; nil where this machine has none
	public   *x509.CertPool
	schedule chan struct{} // it has changed
	jobs     chan struct{} // there are new ones
	ends     sync.Map      // by job that is being done, what ends it

	inner bool // loopback, link-local and the machine's own addresses are asked too

	measure func(result string, took time.Duration) // of every probe; may be nil

	mu      sync.Mutex
	running map[string]*probedNow
}

// probedNow is a gateway that is being asked: whoever wants to know meanwhile waits for the same
// answer.
type probedNow struct {
	done  chan struct{}
	probe drift.Probe
	err   error
}

func newProbing() *asking {
	public, err := x509.SystemCertPool()
	if err != nil || public.Equal(x509.NewCertPool()) {
		public = nil
	}
	return &asking{
		public:   public,
		prober:   probe.New(),
		resolver: net.DefaultResolver,
		server:   "its own name server",
		schedule: make(chan struct{}, 1),
		jobs:     make(chan struct{}, 1),
		running:  map[string]*probedNow{},
	}
}

// Resolver has names of gateways asked for at a name server, host and port, in the place of the
// system's.
func (s *Service) Resolver(server string) {
	s.asking.server = "the name server " + server
	s.asking.resolver = &net.Resolver{
		PreferGo: true,
		Dial: func(ctx context.Context, network, _ string) (net.Conn, error) {
			var d net.Dialer
			return d.DialContext(ctx, network, server)
		},
	}
}

// MeasureProbes has the time that each probe takes told, with its result.
func (s *Service) MeasureProbes(note func(result string, took time.Duration)) {
	s.asking.measure = note
}

// ProbeInternal lets gateways be asked at loopback, at link-local addresses and at the machine's
// own: whoever may change records could look through them at what listens there, so that only who
// starts the service decides.
func (s *Service) ProbeInternal() { s.asking.inner = true }

// metadata are where clouds tell a machine about itself, with secrets.
var metadata = []netip.Addr{
	netip.MustParseAddr("169.254.169.254"),
	netip.MustParseAddr("fd00:ec2::254"),
	netip.MustParseAddr("100.100.100.200"),
	netip.MustParseAddr("168.63.129.16"),
}

// unprobed says why an address is not asked; empty where it is.
func (a *asking) unprobed(at netip.Addr) string {
	at = at.Unmap().WithZone("")
	what := ""
	switch own, _ := net.InterfaceAddrs(); {
	case a.inner:
		return ""
	case at.IsLoopback() || at.IsUnspecified():
		what = "an address of the service's own machine"
	case at.IsLinkLocalUnicast() || at.IsMulticast():
		what = "an address of the service's own link"
	case slices.Contains(metadata, at):
		what = "an address where clouds tell machines about themselves"
	case slices.ContainsFunc(own, func(n net.Addr) bool {
		p, err := netip.ParsePrefix(n.String())
		return err == nil && p.Addr().Unmap() == at
	}):
		what = "an address of the service's own machine"
	}
	if what == "" {
		return ""
	}
	return at.String() + " is " + what + ": it is probed only if the service was started with " +
		"--probe-internal"
}

// Probe asks a gateway on record what it answers, keeps that, and says where it is not as the
// record says. A gateway that is being asked already is not asked twice.
func (s *Service) Probe(ctx context.Context, gatewayID string) (p drift.Probe, err error) {
	s.asking.mu.Lock()
	if now, ok := s.asking.running[gatewayID]; ok {
		s.asking.mu.Unlock()
		select {
		case <-now.done:
			if errors.Is(now.err, context.Canceled) && ctx.Err() == nil {
				return s.Probe(ctx, gatewayID) // who asked first went away
			}
			return now.probe, now.err
		case <-ctx.Done():
			return p, ctx.Err()
		}
	}
	now := &probedNow{done: make(chan struct{})}
	s.asking.running[gatewayID] = now
	s.asking.mu.Unlock()
	defer func() {
		s.asking.mu.Lock()
		delete(s.asking.running, gatewayID)
		s.asking.mu.Unlock()
		now.probe, now.err = p, err
		close(now.done)
	}()
	return s.probe(ctx, gatewayID)
}

func (s *Service) probe(ctx context.Context, gatewayID string) (p drift.Probe, err error) {
	g, err := store.Gateways.Get(ctx, s.store.Read(), gatewayID)
	if err != nil {
		return p, err
	}
	limited, stop := context.WithTimeout(ctx, probeTime)
	defer stop()
	begun := time.Now()
	p = s.asked(limited, g)
	if err := ctx.Err(); err != nil {
		return p, err
	}
	if s.asking.measure != nil {
		s.asking.measure(string(p.State()), time.Since(begun))
	}
	before, err := s.store.Read().LatestProbe(ctx, g.ID, s.now().Add(-probeFresh))
	if err != nil {
		return p, err
	}
	err = s.store.Write(context.WithoutCancel(ctx), func(tx *store.Tx) error {
		if err := tx.AddProbe(ctx, &p); err != nil {
			return err
		}
		if p.State() != drift.Matches ||
			!sameFindings(before, &p) { // what is seen a second time weighs more
			if err := tx.TouchProfiles(ctx, "gateway_id = ?", g.ID); err != nil {
				return err
			}
		}
		if p.By == Schedule {
			return nil // the history tells
		}
		return audit(
			ctx,
			tx,
			"probe",
			"gateway",
			g.ID,
			fmt.Sprintf(
				"%s, %d answers, %d differences",
				g.Name,
				len(p.Answers),
				len(p.Differences),
			),
		)
	})
	s.checkSoon()
	return p, err
}

// sameFindings tells whether two probes lead to the same findings.
func sameFindings(a, b *drift.Probe) bool {
	key := func(p *drift.Probe) (list []string) {
		for _, n := range p.Names {
			list = append(list, fmt.Sprint(n.Name, n.Missing, n.Addresses, n.Fault))
		}
		for _, d := range p.Differences {
			list = append(list, d.Code+" "+string(d.Protocol)+" "+d.Seen)
		}
		return list
	}
	return a != nil && slices.Equal(key(a), key(b))
}

// asked asks a gateway everything that its record leads to.
func (s *Service) asked(ctx context.Context, g *vpn.Gateway) drift.Probe {
	p := drift.Probe{
		GatewayID: g.ID,
		Gateway:   g.Name,
		At:        s.now().UTC(),
		By:        actor(ctx),
		Names:     []drift.Resolved{},
		Answers:   []drift.Answer{},
	}
	names := map[string][]netip.Addr{}
	for _, name := range namesOf(g) {
		seen, r := s.resolve(ctx, name)
		names[name] = seen
		p.Names = append(p.Names, r)
	}
	// Names are judged by the addresses that they lead to, and those are asked: what a name says a
	// moment later does not count.
	questions := drift.Questions(g, drift.Addresses(g, names[g.Address]), names)
	for i := range questions {
		if why := s.asking.unprobed(questions[i].At.Addr()); why != "" {
			questions[i].Untold = why
		}
	}
	p.Answers = s.asking.prober.All(ctx, questions)
	p.Differences = drift.Compare(g, p, s.now(), s.asking.public)
	return p
}

// namesOf are the host names that lead to a gateway.
func namesOf(g *vpn.Gateway) (list []string) {
	add := func(host string) {
		if _, err := netip.ParseAddr(
			host,
		); err != nil && host != "" &&
			!slices.Contains(list, host) {
			list = append(list, host)
		}
	}
	add(g.Address)
	if g.Offers.TLS != nil {
		for _, r := range g.Offers.TLS.Remotes {
			add(r.Address)
		}
	}
	return list
}

// resolve asks for a name.
func (s *Service) resolve(ctx context.Context, name string) ([]netip.Addr, drift.Resolved) {
	ctx, stop := context.WithTimeout(ctx, nameTime)
	defer stop()
	r := drift.Resolved{Name: name, Addresses: []string{}}
	start := time.Now()
	list, err := s.asking.resolver.LookupNetIP(ctx, "ip", name+".")
	r.Milliseconds = float64(time.Since(start).Microseconds()) / 1000
	var fault *net.DNSError
	switch {
	case errors.As(err, &fault) && fault.IsNotFound:
		r.Missing = true
	case err != nil:
		r.Fault = "the name server did not answer"
	}
	for i := range list {
		list[i] = list[i].Unmap()
		r.Addresses = append(r.Addresses, list[i].String())
	}
	slices.Sort(r.Addresses)
	return list, r
}

// StrangerError is the error for an address that is on no record.
type StrangerError struct{ Address string }

func (e *StrangerError) Error() string {
	return fmt.Sprintf(
		"%s is not the address of a gateway on record, so it is not probed; add it to a record, "+
			"or let an owner probe it with --off-record (off_record)",
		e.Address,
	)
}

// Kind tells the kind of the error.
func (e *StrangerError) Kind() vpn.Kind { return vpn.KindNoRecord }

// OnRecordError is the error for an address that a gateway on record has.
type OnRecordError struct{ Address, Gateway string }

func (e *OnRecordError) Error() string {
	return fmt.Sprintf("%s is an address of the gateway %s: ask that gateway", e.Address, e.Gateway)
}

// Kind tells the kind of the error.
func (e *OnRecordError) Kind() vpn.Kind { return vpn.KindOnRecord }

// ProbeAddress asks an address that is on no record, where an owner says so, by every protocol at
// its usual port. What it answers is not kept.
func (s *Service) ProbeAddress(
	ctx context.Context,
	host string,
	offRecord bool,
) (p drift.Probe, err error) {
	g := &vpn.Gateway{Name: host, Address: host, SignIn: vpn.SignIn{Form: vpn.LoginPlain}}
	if err := g.Validate(); err != nil {
		return p, problem(
			"probe",
			"/address",
			fmt.Sprintf("%q", host),
			"a host name or an IP address",
			"correct it",
		)
	}
	g.Offers = vpn.Offers{
		L2TP:  &vpn.L2TPOffer{},
		IKEv2: &vpn.IKEv2Offer{},
		PPTP:  &vpn.PPTPOffer{},
		SSTP:  &vpn.SSTPOffer{},
		TLS: &vpn.TLSOffer{
			Remotes: []vpn.Remote{
				{Port: 1194, Transport: vpn.UDP},
				{Port: 443, Transport: vpn.TCP},
			},
		},
	}
	known, err := store.Gateways.List(
		ctx,
		s.store.Read(),
		store.Query{Limit: 1, Conditions: map[string]string{"at": host}},
	)
	if err != nil {
		return p, err
	}
	if known.Total > 0 {
		return p, &OnRecordError{host, known.Items[0].Name}
	}
	if !offRecord {
		return p, &StrangerError{host}
	}
	if err := ownerOnly(ctx); err != nil {
		return p, err
	}
	// The entry is on record before the first packet.
	if err := s.store.Write(
		ctx,
		func(tx *store.Tx) error {
			return audit(ctx,
				tx, "probe", "address", host, "on no record")
		},
	); err != nil {
		return p, err
	}
	ctx, stop := context.WithTimeout(ctx, strangers)
	defer stop()
	p = s.asked(ctx, g)
	p.Differences = slices.DeleteFunc(p.Differences, func(d drift.Difference) bool {
		return d.Take ||
			slices.Contains(
				[]string{
					drift.NoAnswer,
					drift.SuiteNone,
					drift.NotTheProtocol,
					drift.CertificateName,
				},
				d.Code,
			)
	})
	return p, nil
}

// seen is what the newest probe of a gateway says, for the rules that look at what was asked on the
// network; nil where none is fresh.
func (s *Service) seen(ctx context.Context, tx *store.Tx, g vpn.Gateway) (*check.Live, error) {
	p, err := tx.LatestProbe(ctx, g.ID, s.now().Add(-probeFresh))
	if err != nil || p == nil {
		return nil, err
	}
	live := liveOf(g, p)
	live.At, live.From = p.At, "this service by "+s.asking.server
	before, err := tx.ProbeBefore(ctx, g.ID, s.now().Add(-probeFresh), p.At.Add(-probesApart))
	if err == nil && before != nil {
		live.Before = liveOf(g, before)
	}
	return live, err
}

// probesApart is how long two probes are apart at the least that count as two: what passes within
// that is no fault of the gateway.
const probesApart = 5 * time.Minute

func liveOf(g vpn.Gateway, p *drift.Probe) *check.Live {
	live := &check.Live{Name: g.Address, Differences: p.Differences}
	for _, n := range p.Names {
		if n.Name != g.Address {
			continue
		}
		live.Missing = n.Missing // that a name server did not answer passes: it is no finding
		for _, text := range n.Addresses {
			if a, err := netip.ParseAddr(text); err == nil {
				live.Addresses = append(live.Addresses, a)
			}
		}
	}
	return live
}

// Probes lists what gateways answered.
func (s *Service) Probes(ctx context.Context, q store.Query) (api.Page[drift.ProbeRow], error) {
	return store.Probes.List(ctx, s.store.Read(), q)
}

// ProbeOf reads one probe of a gateway; latest is the newest.
func (s *Service) ProbeOf(ctx context.Context, gatewayID, id string) (p drift.Probe, err error) {
	if id != "latest" {
		return s.store.Read().Probe(ctx, gatewayID, id)
	}
	newest, err := s.store.Read().LatestProbe(ctx, gatewayID, time.Time{})
	if err == nil && newest == nil {
		err = &store.NotFoundError{Noun: "probe", ID: "latest"}
	}
	if err != nil {
		return p, err
	}
	return *newest, nil
}

// TakeOver lets a gateway's record take over what a probe saw in some of its differences.
func (s *Service) TakeOver(
	ctx context.Context,
	gatewayID, probeID string,
	which []int,
) (api.Gateway, error) {
	p, err := s.store.Read().Probe(ctx, gatewayID, probeID)
	if err != nil {
		return api.Gateway{}, err
	}
	return s.Gateways.Change(ctx, gatewayID, 0, func(g *vpn.Gateway) (*vpn.Gateway, error) {
		if err := drift.Take(g, p, which); err != nil {
			return nil, problem(
				"probe",
				"/which",
				err.Error(),
				"numbers of differences with take",
				"choose among those",
			)
		}
		return g, nil
	}, func(string) bool { return true })
}
