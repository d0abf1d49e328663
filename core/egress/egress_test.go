package egress_test

import (
	"net/netip"
	"testing"

	"wardicon/core/egress"
	"wardicon/core/vpn"
)

// TestFind tells gateways apart by pools and egress addresses, also where they overlap.
func TestFind(t *testing.T) {
	gateway := func(id string, pool, egress, dns []string) vpn.Gateway {
		return vpn.Gateway{Meta: vpn.Meta{ID: id}, Name: id, Pool: pool, Egress: egress, DNS: dns}
	}
	gateways := []vpn.Gateway{
		gateway(
			"Norrvik",
			[]string{"10.99.20.0/24"},
			[]string{"198.51.100.7", "2001:db8:7::/48"},
			[]string{"10.20.0.53"},
		),
		gateway("Tallholm", []string{"10.99.20.0/24"}, []string{"198.51.100.0/24"}, nil),
		gateway(
			"Easthaven",
			[]string{"10.99.0.0/16", "nonsense"},
			[]string{"::ffff:203.0.113.9"},
			[]string{"203.0.113.53"},
		),
	}
	for _, test := range []struct {
		from, prefer, want, by string
		resolver               bool
	}{
		{from: "198.51.100.7", want: "Norrvik", by: egress.ByEgress},
		{from: "::ffff:198.51.100.7", want: "Norrvik", by: egress.ByEgress},
		{from: "198.51.100.8", want: "Tallholm", by: egress.ByEgress},
		{from: "2001:db8:7::1", want: "Norrvik", by: egress.ByEgress},
		{from: "2001:db8:8::1"},
		{from: "10.99.20.4", want: "Norrvik", by: egress.ByPool},
		{from: "10.99.20.4", prefer: "Tallholm", want: "Tallholm", by: egress.ByPool},
		{from: "10.99.20.4", prefer: "Easthaven", want: "Norrvik", by: egress.ByPool},
		{from: "10.99.21.4", want: "Easthaven", by: egress.ByPool},
		{from: "203.0.113.9", want: "Easthaven", by: egress.ByEgress},
		{from: "192.0.2.1"},
		{from: "10.20.0.53"},
		{from: "10.20.0.53", resolver: true, want: "Norrvik", by: egress.ByDNS},
		{from: "203.0.113.53", resolver: true, want: "Easthaven", by: egress.ByDNS},
		{from: "198.51.100.7", resolver: true, want: "Norrvik", by: egress.ByEgress},
		{from: "192.0.2.53", resolver: true},
	} {
		look := egress.Find
		if test.resolver {
			look = egress.Resolver
		}
		got := look(gateways, netip.MustParseAddr(test.from), test.prefer)
		switch {
		case got == nil && test.want != "",
			got != nil && (got.Gateway != test.want || got.By != test.by):
			t.Errorf("%+v: got %+v", test, got)
		}
	}
	if got := egress.Find(gateways, netip.Addr{}, ""); got != nil {
		t.Errorf("no address at all: %+v", got)
	}
}
