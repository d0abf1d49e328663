package service

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"

	"wardicon/core/suite"
	"wardicon/core/view"
	"wardicon/core/vpn"
	"wardicon/probe"
	"wardicon/store"
)

// ikePort is where IKE is answered (RFC 7296 §2).
const ikePort = 500

// Limits of asking a gateway.
const (
	mostAddresses = 4
	mostSuites    = 12
)

// usualSuites are asked for beside those on record: what many gateways take, the soundest first, and the weak ones
// that old devices still send.
var usualSuites = []string{
	"aes256gcm16-sha384-ecp384", "aes256-sha256-ecp256", "aes256-sha256-modp2048", "aes128-sha256-modp2048", "aes256-sha1-modp1024", "3des-sha1-modp1024",
}

// Probe asks a gateway on record what it takes by IKEv2, and says where that differs from its record. Port 0 is the
// usual one.
func (s *Service) Probe(ctx context.Context, gatewayID string, port int) (p view.Probe, err error) {
	g, err := store.Gateways.Get(ctx, s.store.Read(), gatewayID)
	if err != nil {
		return p, err
	}
	switch {
	case g.Offers.IKEv2 == nil:
		return p, problem("probe", "/gateway_id", g.Name+" has no offer of IKEv2", "a gateway with one", "add the offer; other protocols cannot be asked yet")
	case port < 0 || port > 65535:
		return p, problem("probe", "/port", fmt.Sprint(port), "1 to 65535, or 0", "correct the number")
	case port == 0:
		port = ikePort
	}
	p = view.Probe{GatewayID: g.ID, Gateway: g.Name, At: s.now().UTC(), IKEv2: []view.ProbedIKE{}, Differences: []string{}}
	addresses, err := s.reached(ctx, g, &p)
	if err != nil {
		return p, err
	}
	suites := asked(g.Offers.IKEv2.IKE)
	for _, a := range addresses {
		r := probe.IKEv2(ctx, netip.AddrPortFrom(a, uint16(port)), suites)
		p.IKEv2 = append(p.IKEv2, r)
		compare(g.Offers.IKEv2.IKE, g.BehindNAT, r, &p)
	}
	return p, s.store.Write(context.WithoutCancel(ctx), func(tx *store.Tx) error {
		return deed(ctx, tx, "probe", "gateway", g.ID, fmt.Sprintf("%s, %d addresses, %d differences", g.Name, len(p.IKEv2), len(p.Differences)))
	})
}

// reached are the addresses of a gateway: what its name leads to now, held against those on record.
func (s *Service) reached(ctx context.Context, g *vpn.Gateway, p *view.Probe) (list []netip.Addr, err error) {
	if a, err := netip.ParseAddr(g.Address); err == nil {
		return []netip.Addr{a}, nil
	}
	found, err := net.DefaultResolver.LookupNetIP(ctx, "ip", g.Address)
	if err != nil {
		p.Differences = append(p.Differences, fmt.Sprintf("the name %s leads nowhere: %v", g.Address, err))
	}
	for _, a := range found {
		if a = a.Unmap(); !g.Dynamic && len(g.Addresses) > 0 && !slices.Contains(g.Addresses, a.String()) {
			p.Differences = append(p.Differences, fmt.Sprintf("the name %s leads to %s, the record has %s", g.Address, a, strings.Join(g.Addresses, ", ")))
		}
		list = append(list, a)
	}
	for _, text := range g.Addresses {
		if a, err := netip.ParseAddr(text); err == nil && !slices.Contains(list, a) {
			list = append(list, a)
		}
	}
	return list[:min(len(list), mostAddresses)], nil
}

// asked are the suites that a gateway is asked for: its record's first.
func asked(record []string) []suite.Proposal {
	var list []suite.Proposal
	for _, text := range slices.Concat(record, usualSuites) {
		if s, err := suite.Parse(text); err == nil && s.Group != "" && !slices.Contains(list, s) && len(list) < mostSuites {
			list = append(list, s)
		}
	}
	return list
}

// compare says where an answer is not as the record says.
func compare(record []string, nat bool, r view.ProbedIKE, p *view.Probe) {
	say := func(format string, args ...any) {
		p.Differences = append(p.Differences, r.Address+": "+fmt.Sprintf(format, args...))
	}
	if !r.Answered {
		say("%s", r.Fault)
		return
	}
	var known []string
	for _, text := range record {
		if s, err := suite.Parse(text); err == nil {
			known = append(known, s.String())
			if slices.Contains(r.Refused, s.String()) {
				say("the record says %s, the gateway refuses it", s)
			}
		}
	}
	for _, taken := range r.Taken {
		if !slices.Contains(known, taken) {
			say("the gateway takes %s, which the record lacks", taken)
		}
	}
	if len(r.Taken) > 0 && r.GatewayBehindNAT != nat {
		say("the record says behind NAT: %t, the gateway shows %t", nat, r.GatewayBehindNAT)
	}
	if r.Fault != "" {
		say("%s", r.Fault)
	}
}
