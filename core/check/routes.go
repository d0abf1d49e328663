package check

import (
	"fmt"
	"net/netip"
	"slices"

	"wardicon/core/vpn"
)

// home lists the networks that most home routers give out.
var home = []netip.Prefix{
	netip.MustParsePrefix(
		"192.168.0.0/24",
	),
	netip.MustParsePrefix("192.168.1.0/24"),
	netip.MustParsePrefix("192.168.178.0/24"),
	netip.MustParsePrefix("10.0.0.0/24"),
	netip.MustParsePrefix("10.1.1.0/24"),
}

// prefixes parses what can be parsed, without host bits.
func prefixes(list []string) []netip.Prefix {
	var out []netip.Prefix
	for _, v := range list {
		if p, err := netip.ParsePrefix(v); err == nil {
			out = append(out, p.Masked())
		}
	}
	return out
}

func covers(list []netip.Prefix, v string) bool {
	a, err := netip.ParseAddr(v)
	return err != nil ||
		slices.ContainsFunc(list, func(p netip.Prefix) bool { return p.Contains(a) })
}

var routeRules = []Rule{
	{
		Code:     "route-host-bits",
		Title:    "Network has host bits set",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldRoutes, vpn.FieldPool},
		Why:      "Some systems reject such a network, others silently use a different one.",
		Fix:      "Enter the network address.",
		Source:   "RFC 4632 §3.1",
		Bad: Example{
			"10.20.3.4/16",
			func(s *Subject) { s.Connection.Routes = []string{"10.20.3.4/16"} },
		},
		Good: Example{
			"10.20.0.0/16",
			func(s *Subject) { s.Connection.Routes = []string{"10.20.0.0/16"} },
		},
		run: func(s *Subject) []Hit {
			var hits []Hit
			look := func(field vpn.Field, list []string) {
				for _, v := range list {
					if p, err := netip.ParsePrefix(v); err == nil && p != p.Masked() {
						hits = append(
							hits,
							Hit{
								Field: field,
								Found: v,
								Fix:   "Write " + p.Masked().String() + ".",
								From:  v,
								To:    p.Masked().String(),
							},
						)
					}
				}
			}
			look(vpn.FieldRoutes, s.routes())
			if s.Gateway != nil {
				look(vpn.FieldPool, s.Gateway.Pool)
			}
			return hits
		},
	},
	{
		Code:     "route-overlap",
		Title:    "Duplicate or overlapping networks",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldRoutes},
		Why:      "It is covered by the larger one and obscures the intent.",
		Fix:      "Remove the smaller one.",
		Source:   "practice",
		Bad: Example{
			"10.20.0.0/16 and 10.20.8.0/24",
			func(s *Subject) { s.Connection.Routes = []string{"10.20.0.0/16", "10.20.8.0/24"} },
		},
		Good: Example{
			"10.20.0.0/16 and 10.21.0.0/16",
			func(s *Subject) { s.Connection.Routes = []string{"10.20.0.0/16", "10.21.0.0/16"} },
		},
		run: func(s *Subject) []Hit {
			var hits []Hit
			list := prefixes(s.routes())
			for i, a := range list {
				for _, b := range list[i+1:] {
					if a.Overlaps(b) {
						hits = append(
							hits,
							Hit{Field: vpn.FieldRoutes, Found: fmt.Sprintf("%s and %s", a, b)},
						)
					}
				}
			}
			return hits
		},
	},
	{
		Code:     "route-home",
		Title:    "Network is common in home networks",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldRoutes, vpn.FieldPool},
		Why: "At home the device has the same network on its own link, and the networks " +
			"behind the gateway stay unreachable.",
		Fix:    "Use a network that is less common, such as one from 10.64.0.0/10.",
		Source: "practice",
		Bad: Example{
			"192.168.1.0/24 behind the gateway",
			func(s *Subject) { s.Connection.Routes = []string{"10.20.0.0/16", "192.168.1.0/24"} },
		},
		Good: Example{
			"192.168.213.0/24 behind it",
			func(s *Subject) { s.Connection.Routes = []string{"10.20.0.0/16", "192.168.213.0/24"} },
		},
		run: func(s *Subject) []Hit {
			var hits []Hit
			look := func(field vpn.Field, list []string) {
				for _, p := range prefixes(list) {
					if slices.Contains(home, p) {
						hits = append(hits, Hit{Field: field, Found: p.String()})
					}
				}
			}
			look(vpn.FieldRoutes, s.routes())
			if s.Gateway != nil {
				look(vpn.FieldPool, s.Gateway.Pool)
			}
			return hits
		},
	},
	{
		Code:     "pool-in-route",
		Title:    "Client address pool overlaps a route",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldPool},
		Why: "The device has its own address behind the gateway too; responses are misrouted " +
			"unless the gateway answers for it (proxy ARP).",
		Fix:    "Assign client addresses from a separate network.",
		Source: "practice",
		Record: true,
		Bad: Example{
			"a pool inside 10.20.0.0/16",
			func(s *Subject) { s.Gateway.Pool = []string{"10.20.99.0/24"} },
		},
		Good: Example{
			"a pool of its own",
			func(s *Subject) { s.Gateway.Pool = []string{"10.99.20.0/24"} },
		},
		run: func(s *Subject) []Hit {
			if s.Gateway == nil {
				return nil
			}
			for _, p := range prefixes(s.Gateway.Pool) {
				for _, r := range prefixes(s.Gateway.Routes) {
					if r.Overlaps(p) {
						return []Hit{
							{Field: vpn.FieldPool, Found: fmt.Sprintf("%s lies in %s", p, r)},
						}
					}
				}
			}
			return nil
		},
	},
	{
		Code:     "split-without-routes",
		Title:    "Split tunnel without routes",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldRoutes},
		Why:      "The tunnel is established, but no traffic uses it.",
		Fix:      "Set the networks behind the gateway, or use a full tunnel.",
		Source:   "practice",
		Bad: Example{
			"split and no route",
			func(s *Subject) {
				s.Connection.Routes = nil
				s.Connection.DNS = nil
				s.Connection.Domains = nil
			},
		},
		Good: Example{
			"full and no route",
			func(s *Subject) { s.Connection.Tunnel = vpn.TunnelFull; s.Connection.Routes = nil },
		},
		run: func(s *Subject) []Hit {
			if s.Connection.Tunnel == vpn.TunnelSplit && len(s.Connection.Routes) == 0 &&
				(s.Gateway != nil || s.Connection.TLS == nil) &&
				!slices.Contains(s.Apart, vpn.FieldRoutes) &&
				(s.Ability == nil || s.Ability.SplitRoutes) {
				return []Hit{{Field: vpn.FieldRoutes, Found: "split tunnel, no network named"}}
			}
			return nil
		},
	},
	{
		Code:     "full-without-dns",
		Title:    "Full tunnel without a DNS server",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldDNS},
		Why: "The device may keep using the DNS server of its local network, which is not " +
			"reachable through the tunnel.",
		Fix:    "Add the internal DNS servers to the gateway's record.",
		Source: "practice",
		Bad: Example{"full and no DNS", func(s *Subject) {
			s.Connection.Tunnel = vpn.TunnelFull
			s.Connection.Routes = nil
			s.Gateway.DNS = nil
			s.Connection.DNS = nil
			s.Gateway.Domains = nil
			s.Connection.Domains = nil
		}},
		Good: Example{
			"full with DNS",
			func(s *Subject) { s.Connection.Tunnel = vpn.TunnelFull; s.Connection.Routes = nil },
		},
		run: func(s *Subject) []Hit {
			if s.Gateway != nil && s.Connection.Tunnel == vpn.TunnelFull && len(s.dns()) == 0 &&
				len(s.domains()) == 0 {
				return []Hit{{Field: vpn.FieldDNS, Found: "none"}}
			}
			return nil
		},
	},
	{
		Code:     "dns-malformed",
		Title:    "DNS server is not an IP address",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldDNS},
		Why:      "The device ignores it or rejects the file; internal names do not resolve.",
		Fix:      "Enter the IP address of the DNS server.",
		Source:   "RFC 1877 §1.1; RFC 7296 §3.15.1",
		Bad: Example{
			"a DNS server by its name",
			func(s *Subject) { s.Connection.DNS = []string{"resolver.skerryline.example"} },
		},
		Good: Example{
			"one by its address",
			func(s *Subject) { s.Connection.DNS = []string{"10.20.0.53"} },
		},
		run: func(s *Subject) []Hit {
			var hits []Hit
			for _, server := range s.Connection.DNS {
				if _, err := netip.ParseAddr(server); err != nil {
					hits = append(hits, Hit{Field: vpn.FieldDNS, Found: quote(server)})
				}
			}
			return hits
		},
	},
	{
		Code:     "domains-without-dns",
		Title:    "Internal domains without an internal DNS server",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldDNS},
		Why:      "After connecting, internal names do not resolve.",
		Fix:      "Add the internal DNS servers to the gateway's record.",
		Source:   "practice",
		Bad: Example{
			"domains, no server",
			func(s *Subject) { s.Gateway.DNS = nil; s.Connection.DNS = nil },
		},
		Good: Example{
			"domains and a server",
			func(s *Subject) { s.Connection.DNS = []string{"10.20.0.53"} },
		},
		run: func(s *Subject) []Hit {
			if len(s.domains()) > 0 && len(s.dns()) == 0 {
				return []Hit{
					{Field: vpn.FieldDNS, Found: fmt.Sprintf("none, with %v", s.domains())},
				}
			}
			return nil
		},
	},
	{
		Code:     "dns-outside-routes",
		Title:    "Internal DNS server is not routed through the tunnel",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldDNS},
		Why:      "Queries for internal names leave outside the tunnel and are not answered.",
		Fix:      "Add the server's network to the routes, or correct the address.",
		Source:   "practice",
		Bad: Example{
			"a server outside the routes",
			func(s *Subject) { s.Connection.DNS = []string{"10.77.0.53"} },
		},
		Good: Example{
			"a server inside them",
			func(s *Subject) { s.Connection.DNS = []string{"10.20.0.53"} },
		},
		run: func(s *Subject) []Hit {
			c := s.Connection
			if c.Tunnel != vpn.TunnelSplit || len(c.Routes) == 0 {
				return nil
			}
			reachable := prefixes(c.Routes)
			if s.Gateway != nil {
				reachable = append(reachable, prefixes(s.Gateway.Pool)...)
			}
			var hits []Hit
			for _, v := range c.DNS {
				if !covers(reachable, v) {
					hits = append(
						hits,
						Hit{Field: vpn.FieldDNS, Found: v + " is in none of the routes"},
					)
				}
			}
			return hits
		},
	},
	{
		Code:     "dns-outside-world",
		Title:    "Internal domains are resolved by a public DNS server",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldDNS},
		Why: "A public server does not know internal names, and everybody on the path sees " +
			"the queries.",
		Fix:    "Set the DNS server behind the gateway.",
		Source: "practice",
		Bad: Example{"a public server", func(s *Subject) {
			s.Connection.Tunnel = vpn.TunnelFull
			s.Connection.Routes = nil
			s.Connection.DNS = []string{"203.0.113.53"}
		}},
		Good: Example{
			"an internal server",
			func(s *Subject) { s.Connection.DNS = []string{"10.20.0.53"} },
		},
		run: func(s *Subject) []Hit {
			var hits []Hit
			for _, v := range s.Connection.DNS {
				a, err := netip.ParseAddr(v)
				if err == nil && !a.IsPrivate() && !shared.Contains(a) &&
					len(s.Connection.Domains) > 0 &&
					!covers(prefixes(s.Connection.Routes), v) {
					hits = append(hits, Hit{Field: vpn.FieldDNS, Found: v + " is a public address"})
				}
			}
			return hits
		},
	},
	{
		Code:     "routes-shared",
		Title:    "Two connections of the device route the same network",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldRoutes},
		Why:      "With both connected, it is undefined which one the traffic uses.",
		Fix:      "Tell the person to use one at a time, or separate the networks.",
		Source:   "practice",
		Bad: Example{"another profile with 10.20.8.0/24", func(s *Subject) {
			s.Siblings = []Sibling{{Name: "Skerry Line Tallholm", Routes: []string{"10.20.8.0/24"}}}
		}},
		Good: Example{"another profile with 10.30.0.0/16", func(s *Subject) {
			s.Siblings = []Sibling{{Name: "Skerry Line Tallholm", Routes: []string{"10.30.0.0/16"}}}
		}},
		run: func(s *Subject) []Hit {
			for _, other := range s.Siblings {
				if s.pairs(other) {
					continue // one is for where the other does not answer
				}
				for _, a := range prefixes(s.Connection.Routes) {
					for _, b := range prefixes(other.Routes) {
						if a.Overlaps(b) {
							return []Hit{
								{
									Field: vpn.FieldRoutes,
									Found: fmt.Sprintf(
										"%s here, %s in %s",
										a,
										b,
										quote(other.Name),
									),
								},
							}
						}
					}
				}
			}
			return nil
		},
	},
}

// routes are those of the gateway's record where there is one: a mistake there
// concerns every device.
func (s *Subject) routes() []string {
	if s.Gateway != nil && len(s.Connection.Routes) == 0 {
		return s.Gateway.Routes
	}
	return s.Connection.Routes
}

func (s *Subject) dns() []string {
	if s.Gateway != nil && len(s.Connection.DNS) == 0 {
		return s.Gateway.DNS
	}
	return s.Connection.DNS
}

func (s *Subject) domains() []string {
	if s.Gateway != nil && len(s.Connection.Domains) == 0 {
		return s.Gateway.Domains
	}
	return s.Connection.Domains
}

// pairs tells whether of two connections one is the second choice to the other.
func (s *Subject) pairs(other Sibling) bool {
	return other.GatewayID != "" &&
		(s.SecondTo == other.GatewayID || s.Fallback != nil && s.Fallback.ID == other.GatewayID)
}
