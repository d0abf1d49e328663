package daemons

import (
	"encoding/pem"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"

	"wardicon/core/pki"
	"wardicon/core/vpn"
)

// checkUsers is what the daemon of the TLS tunnel has look at login and password: they stand in a
// file, so that no list of processes shows them.
const checkUsers = `#!/bin/sh
# Looks a login up in NAME-users, and holds its password to what stands there (openssl passwd -6).
set -eu
{ IFS= read -r login && IFS= read -r password; } < "$1"
tab=$(printf '\t')
while IFS="$tab" read -r name hash; do
	[ "$name" = "$login" ] || continue
	salt=${hash#'$6$'}
	salt=${salt%%'$'*}
	made=$(printf '%s\n' "$password" | openssl passwd -6 -salt "$salt" -stdin)
	[ "$made" = "$hash" ] && exit 0
done < "$(dirname "$0")/NAME-users"
exit 1
`

// routeSites tells the daemon of the TLS tunnel which networks are behind a router that connects.
const routeSites = `#!/bin/sh
# Tells which networks are behind a router, by the name of its certificate, as NAME-sites has them.
set -eu
tab=$(printf '\t')
while IFS="$tab" read -r name network; do
	[ "$name" != "$common_name" ] || echo "iroute $network" >> "$1"
done < "$(dirname "$0")/NAME-sites"
`

// tunnels writes a configuration of the TLS tunnel's daemon for each way to reach it.
func (g *gatewaySide) tunnels() error {
	o := g.Gateway.Offers.TLS
	certificate := slices.ContainsFunc(
		o.Auth,
		func(a vpn.TLSAuth) bool { return a.NeedsIdentity() },
	)
	without := slices.ContainsFunc(o.Auth, func(a vpn.TLSAuth) bool { return !a.NeedsIdentity() })
	password := slices.ContainsFunc(o.Auth, func(a vpn.TLSAuth) bool { return a.NeedsPassword() })
	if certificate && slices.Contains(o.Auth, vpn.TLSCertificate) && password {
		g.left(
			"TLS tunnel: one daemon demands a password of every client or of none; devices with " +
				"a certificate alone need one of their own",
		)
	}
	if k := o.ControlKey; k != nil && k.Key != nil {
		if k.Kind == vpn.ControlCryptV2 && !vpn.IsServerKey(k.Key.Reveal()) {
			g.left(
				"TLS tunnel: the record has a client's control-channel key; the daemon needs its "+
					"own "+
					"as %s-control.key",
				g.name,
			)
		} else {
			g.file(g.name+"-control.key", "Control-channel key; goes to /etc/openvpn/server",
				k.Key.Reveal(), true)
		}
	}
	g.once(g.name+"-clients.pem", "CAs of devices' certificates; goes to /etc/openvpn/server",
		g.trusted(vpn.TLS))
	if g.trusted(vpn.TLS) == "" {
		g.left(
			"TLS tunnel: there is no CA of devices' certificates on record; the daemon wants one "+
				"in "+
				"%s-clients.pem even where passwords alone are asked for",
			g.name,
		)
	}
	lists := g.revocations()
	if password {
		if err := g.hashed(); err != nil {
			return err
		}
	}
	g.sites()
	for _, r := range o.Remotes {
		client := "require"
		if without {
			client = "none"
			if certificate {
				client = "optional"
			}
		}
		g.tunnel(o, r, client, password, lists)
	}
	return nil
}

// sites writes which networks are behind which router, and what tells the daemon.
func (g *gatewaySide) sites() {
	var b strings.Builder
	for _, site := range g.Sites {
		for _, text := range site.Networks {
			if p, err := netip.ParsePrefix(text); err == nil && p.Addr().Is4() {
				fmt.Fprintf(&b, "%s\t%s %s\n", site.Name, p.Masked().Addr(), mask(p))
			}
		}
	}
	if g.routes = b.Len() > 0; !g.routes {
		return
	}
	g.file(
		g.name+"-sites",
		"Networks behind routers; goes to /etc/openvpn/server",
		b.String(),
		false,
	)
	g.file(g.name+"-route", "Routes to them; goes to /etc/openvpn/server, executable",
		strings.ReplaceAll(routeSites, "NAME", g.name), false)
}

// hashed writes the users with hashes of their passwords, and what looks them up.
func (g *gatewaySide) hashed() error {
	var b strings.Builder
	for _, u := range g.Users(vpn.TLS) {
		hash, err := g.Hash(u.Login, u.Password)
		if err != nil {
			return err
		}
		b.WriteString(u.Login + "\t" + hash + "\n")
	}
	g.file(g.name+"-users", "Users of the TLS tunnel with hashes of their passwords; goes to "+
		"/etc/openvpn/server", b.String(), true)
	g.file(g.name+"-check", "Looks users up; goes to /etc/openvpn/server, executable",
		strings.ReplaceAll(checkUsers, "NAME", g.name), false)
	return nil
}

// revocations writes the revocation lists of the CAs of devices' certificates. The daemon wants one
// of each, so there are none where one is missing.
func (g *gatewaySide) revocations() (written bool) {
	list, err := pki.Certificates(g.trusted(vpn.TLS))
	if err != nil || len(list) == 0 {
		return false
	}
	var text strings.Builder
	for _, c := range list {
		der := g.list(c)
		if der == nil {
			return false
		}
		text.Write(pem.EncodeToMemory(&pem.Block{Type: "X509 CRL", Bytes: der}))
	}
	g.once(g.name+"-clients-crl.pem", "Revocation lists of those CAs; goes to /etc/openvpn/server",
		text.String())
	return true
}

func (g *gatewaySide) tunnel(
	o *vpn.TLSOffer,
	r vpn.Remote,
	client string,
	password, lists bool,
) {
	var b strings.Builder
	line := func(text string, args ...any) { fmt.Fprintf(&b, text+"\n", args...) }
	name := fmt.Sprintf("%s-%s-%d", g.name, r.Transport, r.Port)
	line("# %s, %s %d", g.Gateway.Name, r.Transport, r.Port)
	line("dev tun")
	line("tls-server")
	line("topology subnet")
	line("proto %s", map[vpn.Transport]string{vpn.UDP: "udp", vpn.TCP: "tcp-server"}[r.Transport])
	line("port %d", r.Port)
	if list := g.addresses(); len(list) == 1 {
		line("local %s", list[0])
	} else if r.Transport == vpn.UDP {
		line("multihome")
	}
	line("ca %s-clients.pem", g.name)
	if lists && client != "none" {
		line("crl-verify %s-clients-crl.pem", g.name)
	}
	line("cert %s-chain.pem", g.name)
	line("key %s-key.pem", g.name)
	line("dh none")
	if part, ok := g.part(); ok {
		line("server %s %s", part.Addr(), mask(part))
	}
	if k := o.ControlKey; k != nil {
		switch k.Kind {
		case vpn.ControlCryptV2:
			line("tls-crypt-v2 %s-control.key", g.name)
		case vpn.ControlCrypt:
			line("tls-crypt %s-control.key", g.name)
		case vpn.ControlAuth:
			line("tls-auth %s-control.key%s", g.name,
				map[string]string{"0": " 1", "1": " 0"}[k.Direction])
		}
	}
	if len(o.Ciphers) > 0 {
		line("data-ciphers %s", strings.Join(o.Ciphers, ":"))
	}
	if o.Digest != "" {
		line("auth %s", o.Digest)
	}
	if o.MinTLS != "" {
		line("tls-version-min %s", o.MinTLS)
	}
	seconds := o.Keepalive
	if seconds == 0 {
		seconds = 10
	}
	line("keepalive %d %d", seconds, 6*seconds)
	line("verify-client-cert %s", client)
	line("remote-cert-eku %q", "TLS Web Client Authentication")
	line("duplicate-cn") // devices of one person sign in side by side
	if client == "none" {
		line("username-as-common-name")
	}
	if password || g.routes {
		line("script-security 2")
	}
	if g.routes {
		line("client-connect ./%s-route", g.name)
		for _, site := range g.Sites {
			for _, text := range site.Networks {
				if p, err := netip.ParsePrefix(text); err == nil && p.Addr().Is4() {
					line("route %s %s", p.Masked().Addr(), mask(p))
				}
			}
		}
	}
	if password {
		line("auth-user-pass-verify ./%s-check via-file", g.name)
	}
	g.pushed(line)
	g.file(name+".conf", "Daemon of the TLS tunnel; goes to /etc/openvpn/server", b.String(), false)
}

// pushed is what the daemon tells clients.
func (g *gatewaySide) pushed(line func(string, ...any)) {
	for _, text := range g.Gateway.Routes {
		p, err := netip.ParsePrefix(text)
		switch {
		case err != nil:
		case p.Addr().Is4():
			line("push \"route %s %s\"", p.Masked().Addr(), mask(p))
		default:
			line("push \"route-ipv6 %s\"", p.Masked())
		}
	}
	if len(g.Gateway.Routes) == 0 {
		line("push \"redirect-gateway def1\"")
	}
	for _, a := range g.Gateway.DNS {
		line("push \"dhcp-option DNS %s\"", a)
	}
	for _, d := range g.Gateway.Domains {
		line("push \"dhcp-option DOMAIN %s\"", d)
	}
}

func mask(p netip.Prefix) string { return net.IP(net.CIDRMask(p.Bits(), 32)).String() }
