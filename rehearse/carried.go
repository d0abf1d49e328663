package rehearse

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"wardicon/core/session/ikev2"
	"wardicon/core/session/tunnel"
	"wardicon/core/vpn"
)

// everything is the default route of each family.
var everything = map[string]netip.Prefix{
	"IPv4": netip.MustParsePrefix("0.0.0.0/0"), "IPv6": netip.MustParsePrefix("::/0"),
}

// differs notes that the gateway gives something else than the file expects.
func (w *run) differs(format string, args ...any) {
	w.result.Differences = append(w.result.Differences, fmt.Sprintf(format, args...))
}

// has tells whether an address of a family was given.
func has(own []netip.Addr, family string) bool {
	return slices.ContainsFunc(own, func(a netip.Addr) bool {
		return a.Is4() == everything[family].Addr().Is4()
	})
}

// carried notes which default routes go through the tunnel, and warns of a family that bypasses it
// although the file sends everything through.
func (w *run) carried(own []netip.Addr, through func(family string) bool) {
	w.result.Default = []string{}
	full := w.Connection.Tunnel == vpn.TunnelFull
	for _, family := range []string{"IPv4", "IPv6"} {
		if has(own, family) && through(family) {
			w.result.Default = append(w.result.Default, family)
			continue
		}
		switch {
		case !full:
		case family == "IPv6" &&
			(w.Connection.IPv6 == vpn.IPv6Refused || w.Connection.IPv6 == vpn.IPv6Left):
		case !has(own, family):
			w.differs("%s: the file sends everything through the tunnel, the gateway gives no "+
				"address for it: it bypasses the tunnel", family)
		default:
			w.differs(
				"%s: the file sends everything through the tunnel, the gateway does not take "+
					"it: it bypasses the tunnel or goes nowhere",
				family,
			)
		}
	}
}

// carriedIKEv2 compares what the gateway takes with what the file sends.
func (w *run) carriedIKEv2(in ikev2.Inside) {
	covers := func(p netip.Prefix) bool {
		return slices.ContainsFunc(in.Selectors, func(r ikev2.Range) bool { return r.Covers(p) })
	}
	full := w.Connection.Tunnel == vpn.TunnelFull
	w.carried(in.Addresses, func(family string) bool { return full && covers(everything[family]) })
	if full {
		return
	}
	for _, text := range w.Connection.Routes {
		if p, err := netip.ParsePrefix(text); err == nil && !covers(p) {
			w.differs("route: the file has %s, the gateway takes %s", p,
				strings.Join(w.result.Routes, ", "))
		}
	}
}

// carriedTunnel does so for the TLS tunnel, in which the gateway may push routes.
func (w *run) carriedTunnel(p tunnel.Pushed) {
	full := w.Connection.Tunnel == vpn.TunnelFull
	w.carried(p.Addresses, func(family string) bool {
		if family == "IPv4" {
			return full || p.DefaultIPv4
		}
		return p.DefaultIPv6 || full && w.Connection.IPv6 == vpn.IPv6Carried
	})
	if p.DefaultIPv4 && w.Connection.Tunnel == vpn.TunnelSplit {
		w.differs("the gateway pushes the default route, the file expects only its networks")
	}
}
