// Package egress tells from an address alone whether its owner comes through a gateway.
package egress

import (
	"net/netip"
	"slices"

	"wardicon/core/vpn"
)

// How an address shows that it comes through a gateway.
const (
	// it is one that the gateway gives to its clients: the service stands inside
	ByPool   = "pool"
	ByEgress = "egress" // it is what the world sees of them
	ByDNS    = "dns"    // it is that of the gateway's own resolver
)

// Match is a gateway that an address speaks for.
type Match struct {
	GatewayID string `json:"gateway_id"`
	Gateway   string `json:"gateway"`
	By        string `json:"by" enum:"pool,egress,dns"`
}

// Find finds the gateway whose pool or egress an address is in; nil where there is none. A pool
// goes before an egress, the narrower network before the wider, and among equals the first gateway:
// pools of private networks may be used twice, which prefer settles.
func Find(gateways []vpn.Gateway, from netip.Addr, prefer string) *Match {
	return find(
		gateways,
		from,
		prefer,
		[]source{
			{ByPool, func(g vpn.Gateway) []string { return g.Pool }},
			{ByEgress, func(g vpn.Gateway) []string { return g.Egress }},
		},
	)
}

// Resolver finds the gateway that a resolver stands for: one of its own, or one that asks through
// it.
func Resolver(gateways []vpn.Gateway, from netip.Addr, prefer string) *Match {
	return find(
		gateways,
		from,
		prefer,
		[]source{
			{ByDNS, func(g vpn.Gateway) []string { return g.DNS }},
			{ByPool, func(g vpn.Gateway) []string { return g.Pool }},
			{ByEgress, func(g vpn.Gateway) []string { return g.Egress }},
		},
	)
}

type source struct {
	by   string
	list func(vpn.Gateway) []string
}

func find(gateways []vpn.Gateway, from netip.Addr, prefer string, sources []source) *Match {
	from = from.Unmap().WithZone("")
	if !from.IsValid() {
		return nil
	}
	// The one that is preferred is looked at first, and wins where another is no narrower.
	order := slices.Clone(gateways)
	slices.SortStableFunc(order, func(a, b vpn.Gateway) int {
		switch {
		case a.ID == prefer && b.ID != prefer:
			return -1
		case b.ID == prefer && a.ID != prefer:
			return 1
		}
		return 0
	})
	for _, s := range sources {
		var best *Match
		narrow := -1
		for _, g := range order {
			for _, text := range s.list(g) {
				if bits, ok := within(text, from); ok && bits > narrow {
					best, narrow = &Match{g.ID, g.Name, s.by}, bits
				}
			}
		}
		if best != nil {
			return best
		}
	}
	return nil
}

// within tells whether an address is in a network, or is the address itself, and how narrow that
// is.
func within(text string, from netip.Addr) (bits int, ok bool) {
	if a, err := netip.ParseAddr(text); err == nil {
		return a.BitLen(), a.Unmap() == from
	}
	p, err := netip.ParsePrefix(text)
	if err != nil {
		return 0, false
	}
	return p.Bits(), p.Contains(from)
}
