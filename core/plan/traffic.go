package plan

import (
	"slices"
	"strings"

	"wardicon/core/vpn"
)

// traffic settles which traffic goes through.
func (p *planner) traffic() {
	c, g, ability, pattern := &p.plan.Connection, p.in.Gateway, p.plan.Ability, p.in.Pattern
	c.Routes, c.DNS, c.Domains = []string{}, []string{}, []string{}
	routes, origin, whose := g.Routes, ByGateway, "the networks behind "+g.Name
	if len(pattern.Routes) > 0 {
		routes, origin, whose = pattern.Routes, ByPattern, "the networks of the pattern "+pattern.Name
	}
	switch wish := p.in.Profile.Wishes.Tunnel; {
	case wish != "":
		c.Tunnel = wish
		p.choose(vpn.FieldTunnel, "Tunnel", string(wish), ByOperator, "settled on the profile")
	case pattern.Tunnel != "":
		c.Tunnel = pattern.Tunnel
		p.choose(vpn.FieldTunnel, "Tunnel", string(c.Tunnel), ByPattern, "the pattern %s says so", pattern.Name)
	case len(routes) > 0 && ability.SplitRoutes:
		c.Tunnel = vpn.TunnelSplit
		p.choose(vpn.FieldTunnel, "Tunnel", "split", origin, "%s are named, so that all else can stay outside", whose)
	case len(routes) > 0:
		c.Tunnel = vpn.TunnelFull
		p.choose(vpn.FieldTunnel, "Tunnel", "full", ByDevice, "%s cannot be told single networks for %s", p.plan.Release.Title, c.Protocol.Title())
	default:
		c.Tunnel = vpn.TunnelFull
		p.choose(vpn.FieldTunnel, "Tunnel", "full", ByGateway, "%s names no networks behind it, so everything goes through", g.Name)
	}
	if c.Tunnel == vpn.TunnelSplit && ability.SplitRoutes {
		c.Routes = slices.Clone(routes)
		p.choose(vpn.FieldRoutes, "Routes", join(c.Routes), origin, "%s", whose)
	}
	for _, part := range []struct {
		field            vpn.Field
		title            string
		pattern, gateway []string
		to               *[]string
	}{{vpn.FieldDNS, "DNS servers", pattern.DNS, g.DNS, &c.DNS}, {vpn.FieldDomains, "Inside domains", pattern.Domains, g.Domains, &c.Domains}} {
		switch {
		case !ability.SetDNS:
		case len(part.pattern) > 0:
			*part.to = slices.Clone(part.pattern)
			p.choose(part.field, part.title, join(part.pattern), ByPattern, "the pattern %s names them", pattern.Name)
		case len(part.gateway) > 0:
			*part.to = slices.Clone(part.gateway)
			p.choose(part.field, part.title, join(part.gateway), ByGateway, "%s names them", g.Name)
		}
	}
	six := slices.ContainsFunc(g.Pool, func(v string) bool { return strings.Contains(v, ":") })
	switch {
	case pattern.IPv6 != "":
		c.IPv6 = pattern.IPv6
	case six:
		c.IPv6 = vpn.IPv6Carried
		p.choose(vpn.FieldIPv6, "IPv6", "carried", ByGateway, "%s gives out IPv6 addresses", g.Name)
	}
	if c.IPv6 == vpn.IPv6Left {
		c.IPv6 = ""
	}
}
