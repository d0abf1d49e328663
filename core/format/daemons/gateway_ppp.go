package daemons

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"wardicon/core/suite"
)

// pppMethods are the options by which pppd demands a method of its peer, and those by which it
// refuses one (pppd(8)).
var pppMethods = map[suite.PPPMethod][2]string{
	suite.MSCHAPv2: {"require-mschap-v2", "refuse-mschap-v2"},
	suite.MSCHAP:   {"require-mschap", "refuse-mschap"},
	suite.CHAP:     {"require-chap", "refuse-chap"},
	suite.PAP:      {"require-pap", "refuse-pap"},
	suite.EAP:      {"require-eap", "refuse-eap"},
}

// pppOptions writes the options of pppd on the gateway's side.
func (g *gatewaySide) pppOptions(name string, methods []suite.PPPMethod, mppe []string) {
	var b strings.Builder
	line := func(text string, args ...any) { fmt.Fprintf(&b, text+"\n", args...) }
	line("name %s", g.name)
	line("auth")
	for _, m := range suite.PPPMethods {
		option := pppMethods[m]
		line("%s", option[map[bool]int{true: 0, false: 1}[slices.Contains(methods, m)]])
	}
	for _, option := range mppe {
		line("%s", option)
	}
	n := 0
	for _, text := range g.Gateway.DNS {
		if a, err := netip.ParseAddr(text); err == nil && a.Is4() && n < 2 {
			line("ms-dns %s", a)
			n++
		}
	}
	line("nodefaultroute")
	line("proxyarp")
	line("nobsdcomp")
	line("novj")
	line("mtu 1400")
	line("mru 1400")
	line("lcp-echo-interval 30")
	line("lcp-echo-failure 4")
	g.file("options."+name, "Options of pppd; goes to /etc/ppp", b.String(), false)
}

// l2tpDaemon writes the configuration of the L2TP daemon.
func (g *gatewaySide) l2tpDaemon() {
	name := g.name + "-l2tp"
	var b strings.Builder
	line := func(text string, args ...any) { fmt.Fprintf(&b, text+"\n", args...) }
	line("; %s", g.Gateway.Name)
	line("[global]")
	line("port = 1701")
	if list := g.addresses(); len(list) == 1 {
		line("listen-addr = %s", list[0])
	}
	line("[lns default]")
	if part, ok := g.part(); ok {
		own, first, last := span(part)
		line("ip range = %s-%s", first, last)
		line("local ip = %s", own)
	}
	line("require authentication = yes")
	line("name = %s", g.name)
	line("pppoptfile = /etc/ppp/options.%s", name)
	line("length bit = yes")
	g.file("xl2tpd.conf", "L2TP daemon; goes to /etc/xl2tpd", b.String(), false)
	g.pppOptions(name, g.Gateway.Offers.L2TP.PPP, nil)
}

// pptpDaemon writes the configuration of the PPTP daemon.
func (g *gatewaySide) pptpDaemon() {
	o := g.Gateway.Offers.PPTP
	name := g.name + "-pptp"
	var b strings.Builder
	line := func(text string, args ...any) { fmt.Fprintf(&b, text+"\n", args...) }
	line("# %s", g.Gateway.Name)
	line("option /etc/ppp/options.%s", name)
	if list := g.addresses(); len(list) == 1 {
		line("listen %s", list[0])
	}
	if part, ok := g.part(); ok {
		own, first, last := span(part)
		octets := strings.Split(last.String(), ".")
		line("localip %s", own)
		line("remoteip %s-%s", first, octets[3])
		line("connections %d", int(last.As4()[3])-int(first.As4()[3])+1)
	}
	g.file("pptpd.conf", "PPTP daemon; goes to /etc", b.String(), false)
	var mppe []string
	switch {
	case len(o.MPPE) == 0:
		mppe = []string{"nomppe"}
	default:
		mppe = []string{"require-mppe"}
		for _, m := range []suite.MPPE{"128", "40"} { // pppd has no 56
			if !slices.Contains(o.MPPE, m) {
				mppe = append(mppe, "nomppe-"+string(m))
			}
		}
		if o.Stateful {
			mppe = append(mppe, "mppe-stateful")
		}
	}
	g.pppOptions(name, o.PPP, mppe)
}

// filter writes rules of a packet filter: which ports are open, and where clients may go.
func (g *gatewaySide) filter() {
	o := g.Gateway.Offers
	var b strings.Builder
	line := func(text string, args ...any) { fmt.Fprintf(&b, text+"\n", args...) }
	table := "gateway_" + strings.ReplaceAll(g.name, "-", "_")
	line(
		"# What %s needs open. Others' rules go on beside these: a packet must be accepted by all.",
		g.Gateway.Name,
	)
	line("table inet %s {", table)
	line("\tchain incoming {")
	line("\t\ttype filter hook input priority filter; policy accept;")
	if o.IKEv2 != nil || o.L2TP != nil {
		line("\t\tudp dport { 500, 4500 } accept")
		line("\t\tmeta l4proto esp accept")
	}
	if o.L2TP != nil {
		line("\t\t# L2TP only below IPsec: in clear it would carry passwords")
		line("\t\tudp dport 1701 meta ipsec exists accept")
		line("\t\tudp dport 1701 drop")
	}
	if o.TLS != nil {
		for _, r := range o.TLS.Remotes {
			line("\t\t%s dport %d accept", r.Transport, r.Port)
		}
	}
	if o.PPTP != nil {
		line("\t\ttcp dport 1723 accept")
		line("\t\tmeta l4proto gre accept")
	}
	if o.SSTP != nil {
		port := o.SSTP.Port
		if port == 0 {
			port = 443
		}
		line("\t\ttcp dport %d accept", port)
	}
	line("\t}")
	pool, routes := v4(g.Gateway.Pool), v4(g.Gateway.Routes)
	if len(pool) > 0 {
		from := "ip saddr { " + strings.Join(pool, ", ") + " }"
		line("\tchain forwarded {")
		line("\t\ttype filter hook forward priority filter; policy accept;")
		line("\t\tct state established,related accept")
		if len(routes) > 0 {
			line("\t\t%s ip daddr { %s } accept", from, strings.Join(routes, ", "))
			line("\t\t%s drop", from)
		} else {
			line("\t\t%s accept", from)
		}
		line("\t}")
		if len(routes) == 0 {
			line("\tchain leaving {")
			line("\t\ttype nat hook postrouting priority srcnat;")
			line("\t\t%s ip daddr != { %s } masquerade", from, strings.Join(pool, ", "))
			line("\t}")
		}
	}
	line("}")
	g.file(g.name+".nft", "Rules of a packet filter", b.String(), false)
}

func v4(list []string) (out []string) {
	for _, text := range list {
		if p, err := netip.ParsePrefix(text); err == nil && p.Addr().Is4() {
			out = append(out, p.Masked().String())
		}
	}
	return out
}
