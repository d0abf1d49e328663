package check

import (
	"fmt"
	"net/netip"
	"slices"

	"wardicon/core/vpn"
)

// Neighbour is another router whose site is behind the same gateway.
type Neighbour struct {
	Device string   `json:"device"`
	Site   vpn.Site `json:"site"`
}

// sampleSite puts a router with a site in the place of the sample's device.
func sampleSite(s *Subject, masquerade bool, networks ...string) {
	s.Connection.Site = &vpn.Site{Networks: networks, Masquerade: masquerade}
	s.Gateway.Announced = []string{"10.50.0.0/16"}
}

// siteRules are about networks behind routers.
var siteRules = []Rule{
	{
		Code:     "site-overlap",
		Title:    "Site network is also behind the gateway",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldSite},
		Why: "The router has the network on its own side: what is behind the gateway stays " +
			"out of reach for the site, and answers go astray.",
		Fix:    "Renumber one of the two, or take the network off of the routes of this profile.",
		Source: "RFC 1918 §4",
		Bad: Example{
			"10.20.8.0/24 here, 10.20.8.0/24 behind the gateway",
			func(s *Subject) {
				sampleSite(s, true,
					"10.20.8.0/24")
				s.Connection.Routes = []string{"10.20.8.0/24"}
			},
		},
		Good: Example{
			"10.50.1.0/24 here, 10.20.8.0/24 behind it",
			func(s *Subject) {
				sampleSite(s, true,
					"10.50.1.0/24")
				s.Connection.Routes = []string{"10.20.8.0/24"}
			},
		},
		run: func(s *Subject) []Hit {
			return s.siteHits(func(own netip.Prefix) string {
				for _, r := range prefixes(s.Connection.Routes) {
					if own.Overlaps(r) && own.Bits() <= r.Bits() {
						return fmt.Sprintf("%s at the site, %s behind the gateway", own, r)
					}
				}
				if s.Gateway != nil {
					for _, r := range prefixes(s.Gateway.Pool) {
						if own.Overlaps(r) {
							return fmt.Sprintf(
								"%s at the site, %s for the addresses of clients",
								own,
								r,
							)
						}
					}
				}
				return ""
			})
		},
	},
	{
		Code:     "site-inside-route",
		Title:    "Site is part of a network behind the gateway",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldSite},
		Why: "A router that goes by policy (IPsec) can send what its site's hosts say to the " +
			"router itself into the tunnel; and the gateway must hold the smaller network apart " +
			"from the larger one.",
		Fix: "Name the networks behind the gateway without the site's, or see to it that the " +
			"gateway routes the smaller one to the router.",
		Source: "RFC 4301 §4.4.1",
		Bad: Example{
			"10.20.50.0/24 inside 10.20.0.0/16",
			func(s *Subject) { sampleSite(s, true, "10.20.50.0/24") },
		},
		Good: Example{
			"10.50.1.0/24 beside 10.20.0.0/16",
			func(s *Subject) { sampleSite(s, true, "10.50.1.0/24") },
		},
		run: func(s *Subject) []Hit {
			return s.siteHits(func(own netip.Prefix) string {
				for _, r := range prefixes(s.Connection.Routes) {
					if own.Overlaps(r) && own.Bits() > r.Bits() {
						return fmt.Sprintf("%s lies in %s", own, r)
					}
				}
				return ""
			})
		},
	},
	{
		Code:     "site-twice",
		Title:    "Two sites of one gateway have the same network",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldSite},
		Why:      "The gateway can send the network's traffic to one of the two routers only.",
		Fix:      "Renumber one of the sites, or let one of the routers masquerade.",
		Source:   "RFC 1918 §4",
		Bad: Example{"10.50.1.0/24 at two routers", func(s *Subject) {
			sampleSite(s, false, "10.50.1.0/24")
			s.Neighbours = []Neighbour{
				{"Ferry router 2", vpn.Site{Networks: []string{"10.50.0.0/23"}}},
			}
		}},
		Good: Example{"the other one masquerades", func(s *Subject) {
			sampleSite(s, false, "10.50.1.0/24")
			s.Neighbours = []Neighbour{
				{"Ferry router 2", vpn.Site{Networks: []string{"10.50.0.0/23"}, Masquerade: true}},
			}
		}},
		run: func(s *Subject) []Hit {
			return s.siteHits(func(own netip.Prefix) string {
				for _, other := range s.Neighbours {
					for _, n := range prefixes(other.Site.Networks) {
						if own.Overlaps(n) && !other.Site.Masquerade &&
							!s.Connection.Site.Masquerade {
							return fmt.Sprintf("%s here, %s behind %s", own, n, quote(other.Device))
						}
					}
				}
				return ""
			})
		},
	},
	{
		Code:     "site-not-announced",
		Title:    "Site network is not announced by the gateway's record",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldSite},
		Why: "Hosts behind the gateway have no route back to the site, and other devices get " +
			"no route to it.",
		Fix: "Route the network to the router at the gateway and add it to the announced " +
			"networks of its record, or let the router masquerade.",
		Source: "practice",
		Bad: Example{
			"10.50.1.0/24, and nothing is announced",
			func(s *Subject) { sampleSite(s, false, "10.50.1.0/24"); s.Gateway.Announced = nil },
		},
		Good: Example{
			"10.50.1.0/24 within 10.50.0.0/16",
			func(s *Subject) { sampleSite(s, false, "10.50.1.0/24") },
		},
		run: func(s *Subject) []Hit {
			if s.Gateway == nil || s.Connection.Site == nil || s.Connection.Site.Masquerade {
				return nil
			}
			known := prefixes(s.Gateway.Announced)
			return s.siteHits(func(own netip.Prefix) string {
				if slices.ContainsFunc(
					known,
					func(k netip.Prefix) bool { return k.Overlaps(own) && k.Bits() <= own.Bits() },
				) {
					return ""
				}
				return own.String() + " is in none of the announced networks"
			})
		},
	},
	{
		Code:     "announced-overlap",
		Title:    "Announced network overlaps another network of the gateway",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldAnnounced},
		Why: "The gateway cannot tell whether such an address is at a site, behind itself, " +
			"or a client's.",
		Fix:    "Announce only what is at sites, or correct the networks behind the gateway.",
		Source: "RFC 4632 §3.1",
		Record: true,
		Bad: Example{
			"10.20.8.0/24 announced, 10.20.0.0/16 behind it",
			func(s *Subject) { s.Gateway.Announced = []string{"10.20.8.0/24"} },
		},
		Good: Example{
			"10.50.0.0/16 announced",
			func(s *Subject) { s.Gateway.Announced = []string{"10.50.0.0/16"} },
		},
		run: func(s *Subject) []Hit {
			if s.Gateway == nil {
				return nil
			}
			var hits []Hit
			for _, a := range prefixes(s.Gateway.Announced) {
				for _, other := range prefixes(slices.Concat(s.Gateway.Routes, s.Gateway.Pool)) {
					if a.Overlaps(other) {
						hits = append(
							hits,
							Hit{
								Field: vpn.FieldAnnounced,
								Found: fmt.Sprintf("%s and %s", a, other),
							},
						)
					}
				}
			}
			return hits
		},
	},
	{
		Code:     "site-by-password",
		Title:    "Site signs in with a password only",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldAuth},
		Why: "By EAP-MSCHAPv2 the identity in IKE is what the client says: a gateway that " +
			"lets it choose the site's networks lets every login have them.",
		Fix:    "Give the router a certificate, or let it masquerade.",
		Source: "RFC 7296 §3.5",
		Bad: Example{"IKEv2 by login and password", func(s *Subject) {
			s.by(vpn.IKEv2)
			sampleSite(s, false, "10.50.1.0/24")
		}},
		Good: Example{"the same, masqueraded", func(s *Subject) {
			s.by(vpn.IKEv2)
			sampleSite(s, true, "10.50.1.0/24")
		}},
		run: func(s *Subject) []Hit {
			if c := s.Connection; c.Site != nil && !c.Site.Masquerade && c.IKEv2 != nil &&
				c.IKEv2.Auth.NeedsPassword() {
				return []Hit{
					{
						Field: vpn.FieldAuth,
						Found: "EAP-MSCHAPv2 with a site that is not masqueraded",
					},
				}
			}
			return nil
		},
	},
}

// siteHits asks each network of the site; an empty answer is none.
func (s *Subject) siteHits(found func(own netip.Prefix) string) []Hit {
	if s.Connection.Site == nil {
		return nil
	}
	var hits []Hit
	for _, own := range prefixes(s.Connection.Site.Networks) {
		if v := found(own); v != "" {
			hits = append(hits, Hit{Field: vpn.FieldSite, Found: v})
		}
	}
	return hits
}
