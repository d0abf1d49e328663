package plan

import (
	"net/netip"
	"slices"
	"strings"

	"wardicon/core/vpn"
)

// traffic settles which traffic goes through.
func (p *planner) traffic() {
	c, g, ability, pattern := &p.plan.Connection, p.in.Gateway, p.plan.Ability, p.in.Pattern
	c.Routes, c.DNS, c.Domains = []string{}, []string{}, []string{}
	p.site()
	routes, origin, whose := slices.Concat(
		g.Routes,
		p.announced(),
	), ByGateway, "the networks behind "+g.Name
	if len(routes) > len(g.Routes) {
		whose += ", including those of other sites that it announces"
	}
	if len(pattern.Routes) > 0 {
		routes, origin, whose = pattern.Routes, ByPattern, "the networks of the pattern "+
			pattern.Name
	}
	switch preference := p.in.Profile.Preferences.Tunnel; {
	case preference != "":
		c.Tunnel = preference
		p.choose(vpn.FieldTunnel, "Tunnel", string(preference), ByOperator, "set on the profile")
	case pattern.Tunnel != "":
		c.Tunnel = pattern.Tunnel
		p.choose(
			vpn.FieldTunnel,
			"Tunnel",
			string(c.Tunnel),
			ByPattern,
			"set by the pattern %s",
			pattern.Name,
		)
	case len(routes) > 0 && ability.SplitRoutes:
		c.Tunnel = vpn.TunnelSplit
		p.choose(
			vpn.FieldTunnel,
			"Tunnel",
			"split",
			origin,
			"%s are known, so other traffic can stay outside the tunnel",
			whose,
		)
	case len(routes) > 0:
		c.Tunnel = vpn.TunnelFull
		p.choose(
			vpn.FieldTunnel,
			"Tunnel",
			"full",
			ByDevice,
			"%s does not support split tunnels for %s",
			p.plan.Release.Title,
			c.Protocol.Title(),
		)
	default:
		c.Tunnel = vpn.TunnelFull
		p.choose(
			vpn.FieldTunnel,
			"Tunnel",
			"full",
			ByGateway,
			"%s has no networks on record, so all traffic goes through",
			g.Name,
		)
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
	}{
		{vpn.FieldDNS, "DNS servers", pattern.DNS, g.DNS, &c.DNS},
		{vpn.FieldDomains, "Internal domains", pattern.Domains, g.Domains, &c.Domains},
	} {
		switch {
		case !ability.SetDNS:
		case len(part.pattern) > 0:
			*part.to = slices.Clone(part.pattern)
			p.choose(
				part.field,
				part.title,
				join(part.pattern),
				ByPattern,
				"set by the pattern %s",
				pattern.Name,
			)
		case len(part.gateway) > 0:
			*part.to = slices.Clone(part.gateway)
			p.choose(
				part.field,
				part.title,
				join(part.gateway),
				ByGateway,
				"set on the record of %s",
				g.Name,
			)
		}
	}
	six := slices.ContainsFunc(g.Pool, func(v string) bool { return strings.Contains(v, ":") })
	switch {
	case pattern.IPv6 != "":
		c.IPv6 = pattern.IPv6
	case six:
		c.IPv6 = vpn.IPv6Carried
		p.choose(vpn.FieldIPv6, "IPv6", "carried", ByGateway, "%s assigns IPv6 addresses", g.Name)
	}
	if c.IPv6 == vpn.IPv6Left {
		c.IPv6 = ""
	}
}

// site settles what stands behind a router.
func (p *planner) site() {
	c, d, g := &p.plan.Connection, p.in.Device, p.in.Gateway
	c.RouterFilter = d.Platform == vpn.OpenWrt && c.Protocol == vpn.IKEv2
	if d.Site == nil || !slices.Contains(vpn.Routers, d.Platform) {
		return
	}
	c.Site = d.Site.Clone()
	value, reason := join(
		c.Site.Networks,
	), "reached from behind "+g.Name+" with their own addresses: "+p.routed()
	if c.Site.Masquerade {
		value, reason = value+", masqueraded", "hosts of the site use the one address that "+g.Name+
			" assigns "+d.Name+"; nothing behind "+g.Name+" can connect to them"
	}
	p.choose(vpn.FieldSite, "Site behind the router", value, ByDevice, "%s", reason)
}

// routed is what the gateway must do for a site that is not masqueraded.
func (p *planner) routed() string {
	if p.plan.Connection.Protocol == vpn.IKEv2 {
		return "the gateway's traffic selectors for " + p.in.Device.Name + " must include them"
	}
	return "the gateway must route them to " + p.in.Device.Name
}

// announced are the networks of other sites that the gateway makes known: without what is
// at this site, whose own hosts would be sought elsewhere.
func (p *planner) announced() []string {
	var own []netip.Prefix
	for _, v := range p.plan.Connection.Behind() {
		if n, err := netip.ParsePrefix(v); err == nil {
			own = append(own, n.Masked())
		}
	}
	var list []string
	for _, v := range p.in.Gateway.Announced {
		n, err := netip.ParsePrefix(v)
		if err != nil {
			continue
		}
		for _, part := range apart(n.Masked(), own) {
			list = append(list, part.String())
		}
	}
	return list
}

// apart splits a network into parts that hold nothing of others.
func apart(n netip.Prefix, others []netip.Prefix) []netip.Prefix {
	i := slices.IndexFunc(others, n.Overlaps)
	switch {
	case i < 0:
		return []netip.Prefix{n}
	case others[i].Bits() <= n.Bits():
		return nil
	}
	low := netip.PrefixFrom(n.Addr(), n.Bits()+1)
	upper := n.Addr().AsSlice()
	upper[n.Bits()/8] |= 0x80 >> (n.Bits() % 8)
	high, _ := netip.AddrFromSlice(upper)
	return append(apart(low, others), apart(netip.PrefixFrom(high, n.Bits()+1), others)...)
}
