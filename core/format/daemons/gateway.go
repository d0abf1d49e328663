package daemons

import (
	"cmp"
	"crypto/x509"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"wardicon/core/format"
	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// Side is what the configuration of a gateway is made from.
type Side struct {
	Gateway vpn.Gateway // with its secrets
	Users   func(vpn.Protocol) []User
	// Next is how the gateway is to devices that have moved, where another pre-shared key of IKEv2,
	// or another address, is valid beside the record's; nil otherwise.
	Next *vpn.Gateway
	// Sites are the routers that connect a whole site through the gateway.
	Sites []SiteBehind
	// List is the revocation list of a CA in DER form (RFC 5280 §5); nil where there is none.
	List func(*x509.Certificate) []byte
	// Hash writes a password as openssl passwd -6 does (SHA-512 crypt), with a salt that stays.
	Hash func(login string, password secret.Text) (string, error)
}

// Configured is a gateway's own side: files for its daemons, and what is not on record and left to
// its administrator.
type Configured struct {
	Files []format.File
	Left  []string
}

// SiteBehind is a router with the networks behind it, which the gateway routes to it. Name is what
// its certificate is for, or its login.
type SiteBehind struct {
	Name     string
	Networks []string
}

type gatewaySide struct {
	routes bool // networks behind routers are written for the TLS tunnel
	Side
	name  string // that files and sections begin with
	parts []netip.Prefix
	out   Configured
}

// Gateway writes a working configuration of the daemons that offer what is on record of a gateway:
// the IKE daemon (swanctl.conf(5)), that of the TLS tunnel, the L2TP daemon (xl2tpd.conf(5)) and
// the PPTP daemon (pptpd.conf(5)) with pppd, their user lists, and rules of a packet filter
// (nft(8)). The certificate comes with the bundle of the gateway's certificate, by the names that
// it has there.
func Gateway(of Side) (Configured, error) {
	g := &gatewaySide{Side: of, name: format.FileName(of.Gateway.Name, "")}
	g.share()
	o := of.Gateway.Offers
	if o.IKEv2 != nil || o.L2TP != nil {
		g.ipsec()
	}
	if o.TLS != nil {
		if err := g.tunnels(); err != nil {
			return g.out, err
		}
	}
	if o.L2TP != nil {
		g.l2tpDaemon()
	}
	if o.PPTP != nil {
		g.pptpDaemon()
	}
	if o.SSTP != nil {
		g.left("SSTP: no daemon of Debian serves it; its users stand in chap-secrets")
	}
	g.out.Files = append(g.out.Files, userLists(of.Gateway, of.Next, of.Users)...)
	g.filter()
	g.readme()
	return g.out, nil
}

func (g *gatewaySide) left(text string, args ...any) {
	g.out.Left = append(g.out.Left, fmt.Sprintf(text, args...))
}

func (g *gatewaySide) file(name, purpose, content string, private bool) {
	g.out.Files = append(g.out.Files, format.File{
		Name: name, MediaType: "text/plain; charset=utf-8", Purpose: purpose, Private: private,
		Content: []byte(content),
	})
}

// share cuts the address pool into a part for each daemon that gives addresses out, so that no two
// give the same.
func (g *gatewaySide) share() {
	o := g.Gateway.Offers
	n := 0
	for _, offered := range []bool{o.IKEv2 != nil, o.L2TP != nil, o.PPTP != nil} {
		if offered {
			n++
		}
	}
	if o.TLS != nil {
		n += len(o.TLS.Remotes)
	}
	var pools []netip.Prefix
	for _, text := range g.Gateway.Pool {
		if pool, err := netip.ParsePrefix(text); err == nil && pool.Addr().Is4() {
			pools = append(pools, pool.Masked())
		}
	}
	if len(pools) >= n { // one for each
		g.parts = pools[:n]
		return
	}
	if len(pools) > 0 {
		g.cut(pools[0], n)
		return
	}
	if n > 0 {
		g.left("address pool: none of IPv4 is on record, so clients get no address")
	}
}

// cut makes n parts of one network.
func (g *gatewaySide) cut(pool netip.Prefix, n int) {
	bits := pool.Bits()
	for parts := 1; parts < n; parts *= 2 {
		bits++
	}
	if bits > 29 {
		g.left("the address pool %s is too small for %d daemons", pool, n)
		return
	}
	at := pool.Addr()
	for range n {
		g.parts = append(g.parts, netip.PrefixFrom(at, bits))
		at = after(at, bits)
	}
}

// after is the address behind a network of IPv4.
func after(at netip.Addr, bits int) netip.Addr {
	b := at.As4()
	n := uint32(b[0])<<24 | uint32(b[1])<<16 | uint32(b[2])<<8 | uint32(b[3])
	n += 1 << (32 - bits)
	return netip.AddrFrom4([4]byte{byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)})
}

// part takes the next part of the pool.
func (g *gatewaySide) part() (p netip.Prefix, ok bool) {
	if len(g.parts) == 0 {
		return p, false
	}
	p, g.parts = g.parts[0], g.parts[1:]
	return p, true
}

// span is the first host of a part, which is the gateway's own, and the first and the last for
// clients; at most those of one octet.
func span(p netip.Prefix) (own, first, last netip.Addr) {
	own = p.Addr().Next()
	first = own.Next()
	last = first
	for n := 0; n < 251 && p.Contains(last.Next().Next()); n++ {
		last = last.Next()
	}
	return own, first, last
}

// addresses are those at which daemons listen; empty for all.
func (g *gatewaySide) addresses() []string {
	list := listens(g.Gateway)
	if g.Next == nil || len(list) == 0 {
		return list
	}
	next := listens(*g.Next)
	if len(next) == 0 {
		return nil
	}
	for _, v := range next {
		if !slices.Contains(list, v) {
			list = append(slices.Clone(list), v)
		}
	}
	return list
}

// trusted are the CAs that devices' certificates are checked against (PEM): those of the record, or
// else those of a protocol's offer.
func (g *gatewaySide) trusted(p vpn.Protocol) string {
	return cmp.Or(g.Gateway.ClientAuthority, g.Gateway.Offers.Authority(p))
}

// clientCAs writes the CAs of devices' certificates, one a file, as the IKE daemon reads them.
func (g *gatewaySide) clientCAs(p vpn.Protocol) (names []string) {
	list, err := pki.Certificates(g.trusted(p))
	if err != nil {
		g.left("%s: CAs of devices' certificates; none is on record", p.Title())
		return nil
	}
	for i, c := range list {
		name := fmt.Sprintf("%s-clients-ca%d.pem", g.name, i+1)
		if g.Gateway.ClientAuthority == "" {
			name = fmt.Sprintf("%s-%s-clients-ca%d.pem", g.name, p, i+1)
		}
		names = append(names, name)
		g.once(name, "CA of devices' certificates; goes to /etc/swanctl/x509ca", pki.Bundle(c))
		if list := g.list(c); list != nil {
			g.once(strings.TrimSuffix(name, ".pem")+".crl",
				"Its revocation list; goes to /etc/swanctl/x509crl", string(list))
		}
	}
	return names
}

func (g *gatewaySide) list(c *x509.Certificate) []byte {
	if g.List == nil {
		return nil
	}
	return g.List(c)
}

// once adds a file that several connections may name.
func (g *gatewaySide) once(name, purpose, content string) {
	if !slices.ContainsFunc(g.out.Files, func(f format.File) bool { return f.Name == name }) {
		g.file(name, purpose, content, false)
	}
}

func (g *gatewaySide) readme() {
	var b strings.Builder
	line := func(text string, args ...any) { fmt.Fprintf(&b, text+"\n", args...) }
	line("Configuration of %s", g.Gateway.Name)
	line("")
	o := g.Gateway.Offers
	if o.IKEv2 != nil || o.L2TP != nil {
		line(
			"IKE daemon: %s.conf and %[1]s-users.conf to /etc/swanctl/conf.d, "+
				"%[1]s-*clients-ca*.pem "+
				"to /etc/swanctl/x509ca, %[1]s-*clients-ca*.crl to /etc/swanctl/x509crl; of the "+
				"certificate bundle %[1]s-certificate.pem to "+
				"/etc/swanctl/x509, %[1]s-key.pem to /etc/swanctl/private, and its %[1]s-ca*.pem "+
				"to "+
				"/etc/swanctl/x509ca. Then: swanctl --load-all --noprompt",
			g.name,
		)
	}
	if o.TLS != nil {
		line("TLS tunnel: %s-*.conf, %[1]s-clients.pem, %[1]s-control.key, %[1]s-check "+
			"and %[1]s-route (executable), %[1]s-users and %[1]s-sites to /etc/openvpn/server, "+
			"with %[1]s-chain.pem and "+
			"%[1]s-key.pem of the certificate bundle. Then: systemctl restart "+
			"openvpn-server@NAME for each .conf", g.name)
	}
	if o.L2TP != nil {
		line(
			"L2TP: xl2tpd.conf to /etc/xl2tpd, options.%s-l2tp and chap-secrets to /etc/ppp. "+
				"Then: "+
				"systemctl restart xl2tpd",
			g.name,
		)
	}
	if o.PPTP != nil {
		line(
			"PPTP: pptpd.conf to /etc, options.%s-pptp and chap-secrets to /etc/ppp. Then: "+
				"systemctl "+
				"restart pptpd",
			g.name,
		)
	}
	line(
		"Packet filter: %s.nft shows which ports are open, and what is forwarded; check it with "+
			"nft "+
			"-c -f, and take what fits into your own rules. Forwarding: sysctl "+
			"net.ipv4.ip_forward=1",
		g.name,
	)
	if len(g.out.Left) > 0 {
		line("")
		line("Left to you:")
		for _, text := range g.out.Left {
			line("- %s", text)
		}
	}
	g.file("README.txt", "Where the files go", b.String(), false)
}
