package plan

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"wardicon/core/vpn"
)

// fallback plans how a second gateway is reached where the first does not answer: by
// further remotes of the same file where that can hold both, else by a connection of its own.
func (p *planner) fallback() {
	c, other := &p.plan.Connection, p.in.Fallback
	if first := p.in.Second; first != "" {
		c.Name += " (2)"
		p.replace(
			Choice{
				vpn.FieldName,
				"Connection name",
				c.Name,
				ByPattern,
				"fallback for when " + first + " does not respond",
			},
		)
	}
	if other == nil {
		return
	}
	if apart := p.apart(*other); apart != "" {
		p.plan.Apart = apart
		p.choose(
			vpn.FieldFallback,
			"Second gateway",
			other.Name+", as its own connection",
			ByPattern,
			"%s",
			apart,
		)
		return
	}
	for _, r := range other.Offers.TLS.Remotes {
		if preference := p.in.Profile.Preferences.Transport; preference != "" &&
			r.Transport != preference {
			continue
		}
		r.Address = cmp.Or(r.Address, other.Address)
		if !slices.Contains(c.TLS.Remotes, r) {
			c.TLS.Remotes = append(c.TLS.Remotes, r)
		}
	}
	ways := make([]string, len(c.TLS.Remotes))
	for i, r := range c.TLS.Remotes {
		ways[i] = fmt.Sprintf("%s %s %d", r.Address, r.Transport, r.Port)
	}
	for i := range p.plan.Choices {
		if one := &p.plan.Choices[i]; one.Field == vpn.FieldRemotes {
			one.Value, one.Reason = join(ways), one.Reason+"; those of "+other.Name+" last"
		}
	}
	p.choose(
		vpn.FieldFallback,
		"Second gateway",
		other.Name+", in the same file",
		ByPattern,
		"it uses the same keys, names and sign-in, so its remotes are tried after those of %s",
		p.in.Gateway.Name,
	)
}

// apart says why the second gateway cannot stand in the same file; empty where it can.
func (p *planner) apart(other vpn.Gateway) string {
	g, c := p.in.Gateway, p.plan.Connection
	if c.TLS == nil || g.Offers.TLS == nil {
		return "a file for " + c.Protocol.Title() + " holds only one gateway"
	}
	mine, its := g.Offers.TLS, other.Offers.TLS
	if its == nil || len(its.Remotes) == 0 {
		return other.Name + " offers no TLS tunnel"
	}
	for _, part := range []struct {
		what string
		same bool
	}{
		{"CA of the gateway's certificate", strings.TrimSpace(g.Offers.Authority(vpn.TLS)) ==
			strings.TrimSpace(other.Offers.Authority(vpn.TLS))},
		{"name in the gateway's certificate", mine.ServerName == its.ServerName},
		{"control-channel key", sameControl(mine.ControlKey, its.ControlKey)},
		{"authentication method", slices.Contains(its.Auth, c.TLS.Auth)},
		{"digest", mine.Digest == its.Digest},
		{"cipher", len(mine.Ciphers) == 0 || slices.ContainsFunc(c.TLS.Ciphers,
			func(v string) bool { return slices.Contains(its.Ciphers, v) })},
		{"form of the login", !c.NeedsPassword() || other.SignInBy(vpn.TLS) == g.SignIn},
		{"account", !c.NeedsPassword() || p.plan.Account != nil &&
			(len(p.plan.Account.GatewayIDs) == 0 ||
				slices.Contains(p.plan.Account.GatewayIDs, other.ID))},
		{"networks behind it", c.Tunnel == vpn.TunnelFull || slices.Equal(g.Routes, other.Routes)},
	} {
		if !part.same {
			return fmt.Sprintf(
				"%s and %s do not share the %s, and a file can have only one",
				g.Name,
				other.Name,
				part.what,
			)
		}
	}
	return ""
}

func sameControl(a, b *vpn.ControlKey) bool {
	if a == nil || b == nil {
		return a == b
	}
	if a.Kind != b.Kind || a.Direction != b.Direction || (a.Key == nil) != (b.Key == nil) {
		return false
	}
	return a.Key == nil || a.Key.Equal(*b.Key)
}
