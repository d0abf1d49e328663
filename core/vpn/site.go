package vpn

import (
	"fmt"
	"net/netip"
	"slices"
)

// Site is what stands behind a router: hosts that reach the networks behind the gateway
// through the router's connection.
type Site struct {
	// Networks behind the router (linux or openwrt), in CIDR form.
	Networks []string `json:"networks" required:"true"`
	// The router translates the site's addresses (NAT): nothing behind the gateway can open a
	// connection to them.
	Masquerade bool `json:"masquerade,omitempty"`
}

// Routers are the platforms that can connect a whole site.
var Routers = []Platform{Linux, OpenWrt}

// Clone copies the site deeply.
func (s *Site) Clone() *Site {
	return part(s, func(s *Site) { s.Networks = slices.Clone(s.Networks) })
}

// Behind lists the networks of the site behind the router; none where there is no site.
func (c Connection) Behind() []string {
	if c.Site == nil {
		return nil
	}
	return c.Site.Networks
}

// site accepts the networks behind a router: whole ones that do not overlap.
func (in *inspector) site(d *Device) {
	if !slices.Contains(Routers, d.Platform) {
		in.add(
			"/site",
			"a site behind a device of the platform "+string(d.Platform),
			"a router: linux or openwrt",
			"leave the site out, or correct the platform",
		)
	}
	if len(d.Site.Networks) == 0 {
		in.add(
			"/site/networks",
			"nothing",
			"at least one network in CIDR form",
			"name the networks behind the router, or leave the site out",
		)
	}
	var seen []netip.Prefix
	each(in, "/site/networks", d.Site.Networks, func(at, v string) {
		in.cidr(at, v)
		p, err := netip.ParsePrefix(v)
		switch {
		case err != nil:
			return
		case p != p.Masked():
			in.add(at, shown(v), "a network without host bits", "write "+p.Masked().String())
		case p.Bits() == 0:
			in.add(
				at,
				shown(v),
				"a network of the site",
				"name the networks behind the router one by one",
			)
		}
		for _, other := range seen {
			if other.Overlaps(p) {
				in.add(
					at,
					shown(v),
					fmt.Sprintf("a network that does not overlap %s", other),
					"remove the smaller one",
				)
			}
		}
		seen = append(seen, p)
	})
}
