// Package uci writes and reads batches for OpenWrt's unified configuration interface
// (uci batch): L2TP, PPTP, SSTP and the TLS tunnel, with a firewall zone for the tunnel.
// The IPsec half of L2TP and the TLS tunnel's own file stand beside.
package uci

import (
	"bytes"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"wardicon/core/format"
	"wardicon/core/format/daemons"
	"wardicon/core/format/shell"
	"wardicon/core/platform"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

const (
	title     = "OpenWrt UCI batch"
	pppFolder = "/etc/ppp/certs/"

	tunnelFolder = "/etc/openvpn/"
)

var protocols = []vpn.Protocol{vpn.TLS, vpn.SSTP, vpn.L2TP, vpn.PPTP}

// Codec is the format.
var Codec = format.Codec{
	Name:      platform.UCI,
	Title:     title,
	Protocols: protocols,
	Write:     Write,
	Carried:   Carried,
	Detect:    Detect,
	Read:      Read,
}

// Carried reduces a connection to what the batch says.
func Carried(c vpn.Connection) vpn.Connection {
	whole := c
	if c.TLS != nil {
		c = daemons.Carried(c)
		c.Reconnect = whole.Reconnect
	} else {
		c = format.Bare(c)
		c.Organisation, c.Identifier, c.Scope, c.DNS, c.Routes =
			"", "", vpn.ScopeMachine, format.FourFirst(
				c.DNS,
			), format.FourFirst(
				c.Routes,
			)
		if whole.IPv6 == vpn.IPv6Carried {
			c.IPv6 = vpn.IPv6Carried
		}
	}
	if whole.Connect == vpn.Always {
		c.Connect = vpn.Always
	}
	c.Site, c.RouterFilter = whole.Site.Clone(), false
	if l := c.L2TP; l != nil {
		l.PPP, l.BehindNAT = format.Methods(l.PPP), false
		half := daemons.Carried(whole)
		l.RemoteID, c.Addresses = half.L2TP.RemoteID, half.Addresses
	}
	if s := c.PPTP; s != nil {
		s.PPP, s.MPPE = format.Methods(s.PPP), format.Strengths(s.MPPE)
		if len(s.MPPE) == 0 {
			s.MPPE = systemMPPE
		}
	}
	if s := c.SSTP; s != nil {
		s.PPP, s.ServerName = format.Methods(s.PPP), ""
	}
	return c
}

// batch is a list of commands in the making.
type batch struct{ strings.Builder }

// Quote writes a value in single quotes, as the batch's own parser reads them.
func Quote(v string) string { return "'" + strings.ReplaceAll(v, "'", `'\''`) + "'" }

func (b *batch) section(path, kind string) { fmt.Fprintf(b, "set %s=%s\n", path, kind) }

func (b *batch) set(path, v string) { fmt.Fprintf(b, "set %s=%s\n", path, Quote(v)) }

func (b *batch) list(path string, values []string) {
	for _, v := range values {
		fmt.Fprintf(b, "add_list %s=%s\n", path, Quote(v))
	}
}

func flag(v bool) string {
	if v {
		return "1"
	}
	return "0"
}

// Write makes the batch, the files beside it, and the scripts.
func Write(c vpn.Connection) ([]format.File, error) {
	if err := format.Sound(title, c, protocols); err != nil {
		return nil, err
	}
	if err := format.NoMPPE56(title, c); err != nil {
		return nil, err
	}
	if c.TLS == nil {
		if err := format.Host(title, vpn.FieldServer, c.Server); err != nil {
			return nil, err
		}
	}
	id := strings.ToLower(strings.ReplaceAll(c.UUID, "-", ""))
	if len(id) != 32 {
		return nil, format.NoUUID(title)
	}
	c = format.Ask(c)
	x := "w" + id[:8] // names of interfaces and zones are short
	var b batch
	files, places, ask, err := beside(c)
	if err != nil {
		return nil, err
	}
	sections := []string{"firewall." + x, "firewall." + x + "_lan"}
	if c.TLS != nil {
		sections = append(sections, "openvpn."+x)
		b.section("openvpn."+x, "openvpn")
		b.set("openvpn."+x+".enabled", flag(c.Connect == vpn.Always))
		b.set("openvpn."+x+".config", tunnelFolder+format.FileName(c.Name, ".conf"))
	} else {
		sections = append(sections, "network."+x)
		sections = append(sections, b.network(c, "network."+x)...)
	}
	b.section("firewall."+x, "zone")
	b.set("firewall."+x+".name", x)
	if c.TLS != nil {
		b.list("firewall."+x+".device", []string{"tun+"})
	} else {
		b.list("firewall."+x+".network", []string{x})
	}
	for _, o := range [][2]string{{"input", "REJECT"}, {"output", "ACCEPT"}, {"forward", "REJECT"},
		{"masq", flag(c.Site == nil || c.Site.Masquerade)}, {"mtu_fix", "1"}} {
		b.set("firewall."+x+"."+o[0], o[1])
	}
	if c.Site != nil && c.Site.Masquerade {
		b.list("firewall."+x+".masq_src", c.Site.Networks)
	}
	b.section("firewall."+x+"_lan", "forwarding")
	b.set("firewall."+x+"_lan.src", "lan")
	b.set("firewall."+x+"_lan.dest", x)
	if c.Site != nil && !c.Site.Masquerade {
		sections = append(sections, "firewall."+x+"_in")
		b.inward("firewall."+x+"_in", x, c.Site.Networks)
	}
	for _, config := range []string{"network", "openvpn", "firewall"} {
		if strings.Contains(b.String(), "set "+config+".") {
			b.WriteString("commit " + config + "\n")
		}
	}
	main := format.File{
		Name: format.FileName(
			c.Name,
			".uci",
		),
		MediaType: "text/plain; charset=utf-8",
		Private:   true,
		Purpose:   "Batch for uci: the install script runs it",
		Content:   []byte(b.String()),
	}
	job := shell.Job{
		Connection: c.Name,
		ID:         c.UUID,
		Placements: places,
		Ask:        ask,
		Done:       "The connection is set up.",
	}
	for _, s := range sections {
		job.Apply = append(job.Apply, "uci -q delete "+s+" || true")
	}
	job.Revoke = slices.Clone(job.Apply)
	reload := []string{"/etc/init.d/network reload", "/etc/init.d/firewall reload"}
	job.Apply = append(job.Apply, `uci batch < "$here/`+main.Name+`"`)
	if ask != nil && ask.Path == "" {
		job.Apply = append(
			job.Apply,
			`printf "set network.`+x+`.password='%s'\ncommit network\n" "$password" | uci batch`,
		)
	}
	if c.TLS != nil && len(c.DNS) > 0 && len(c.Domains) > 0 {
		set, unset := resolvers(c)
		job.Apply, job.Revoke = slices.Concat(job.Apply, unset, set), append(job.Revoke, unset...)
		reload = append(reload, "/etc/init.d/dnsmasq reload")
	}
	if c.L2TP != nil {
		job.Programs = []shell.Program{
			{
				Name:     "swanctl",
				Packages: "strongswan-default strongswan-swanctl strongswan-mod-eap-mschapv2",
			},
			{Name: "xl2tpd", Packages: "xl2tpd"},
		}
		reload = slices.Concat([]string{"/etc/init.d/firewall reload"}, daemons.LoadIKE, reload[:1])
		job.Revoke = append(
			job.Revoke,
			"swanctl --terminate --ike "+format.FileName(c.Name, "")+" > /dev/null 2>&1 || true",
		)
	}
	job.Apply = slices.Concat(job.Apply, reload)
	job.Revoke = slices.Concat(
		job.Revoke,
		[]string{"uci commit", "/etc/init.d/network reload", "/etc/init.d/firewall reload"},
	)
	files = append([]format.File{main}, files...)
	return append(files, shell.Scripts(job, files)...), nil
}

// inward lets what is behind the gateway begin connections to the site, and to nothing else.
func (b *batch) inward(at, zone string, networks []string) {
	b.section(at, "rule")
	for _, o := range [][2]string{{"name", zone + " to the site"}, {"src", zone}, {"dest", "lan"},
		{"proto", "all"}, {"target", "ACCEPT"}} {
		b.set(at+"."+o[0], o[1])
	}
	b.list(at+".dest_ip", networks)
}

// beside makes the files that the batch names.
func beside(c vpn.Connection) ([]format.File, []shell.Placement, *shell.Ask, error) {
	switch {
	case c.TLS != nil:
		return daemons.Tunnel(c, tunnelFolder, false)
	case c.L2TP != nil:
		main, more, places, err := daemons.IPsec(c)
		gate, gates := daemons.Gate(c)
		return slices.Concat(
				[]format.File{main},
				more,
				gate,
			), append(
				places,
				gates...), daemons.Asks(
				c,
			), err
	}
	var places []shell.Placement
	files := format.PEMFiles(c)
	for _, f := range files {
		places = append(
			places,
			shell.Placement{File: f.Name, Path: pppFolder + f.Name, Mode: "0644"},
		)
	}
	return files, places, daemons.Asks(c), nil
}

// resolvers are the commands that let the router's own resolver ask the inside ones for
// names inside, and those that take that back.
func resolvers(c vpn.Connection) (set, unset []string) {
	change := func(option, v string) {
		set = append(set, "uci add_list dhcp.@dnsmasq[0]."+option+"="+shell.Quote(v))
		unset = append(
			unset,
			"uci -q del_list dhcp.@dnsmasq[0]."+option+"="+shell.Quote(v)+" || true",
		)
	}
	for _, d := range c.Domains {
		for _, s := range c.DNS {
			change("server", "/"+d+"/"+s)
		}
		change("rebind_domain", "/"+d+"/")
	}
	return append(set, "uci commit dhcp"), append(unset, "uci commit dhcp")
}

// network writes the interface with its routes, and returns the sections of those.
func (b *batch) network(c vpn.Connection, at string) []string {
	b.section(at, "interface")
	b.set(at+".proto", string(c.Protocol))
	b.set(at+".title", c.Name)
	b.set(at+".uuid", strings.ToUpper(c.UUID))
	server := c.Server
	if c.SSTP != nil && c.SSTP.Port != 443 {
		server = vpn.JoinPort(c.Server, c.SSTP.Port)
	}
	b.set(at+".server", server)
	b.set(at+".username", c.Login)
	if c.PasswordMode == vpn.PasswordSaved {
		b.set(at+".password", c.Password.Reveal())
	}
	b.set(at+".auto", flag(c.Connect == vpn.Always))
	b.set(at+".defaultroute", flag(c.Tunnel == vpn.TunnelFull))
	b.set(at+".ipv6", flag(c.IPv6 == vpn.IPv6Carried))
	b.set(at+".peerdns", flag(len(c.DNS) == 0))
	b.list(at+".dns", format.FourFirst(c.DNS))
	b.list(at+".dns_search", c.Domains)
	if options := daemons.PPPOptions(c); len(options) > 0 {
		b.set(at+".pppd_options", strings.Join(options, " "))
	}
	if c.SSTP != nil && c.Authority != "" {
		b.set(
			at+".sstp_options",
			"--ca-cert "+pppFolder+format.FileName(c.Name, format.AuthorityFile),
		)
	}
	var sections []string
	if c.Tunnel == vpn.TunnelSplit {
		for i, r := range format.FourFirst(c.Routes) {
			kind := "route"
			if strings.Contains(r, ":") {
				kind = "route6"
			}
			s := fmt.Sprintf("%s_r%d", at, i+1)
			b.section(s, kind)
			b.set(s+".interface", strings.TrimPrefix(at, "network."))
			b.set(s+".target", r)
			sections = append(sections, s)
		}
	}
	return sections
}

// stanzas are the sections of a file in /etc/config that say something of connections.
var stanzas = format.NewSign(
	`^config[ \t]+'?(?:interface|openvpn|globals)'?(?:[ \t]+['"]?\w+['"]?)?[ \t]*\r?$`,
	"config ", "config\t",
)

// systemMPPE is what the system demands of every PPTP connection, in its own /etc/ppp/options.pptp.
var systemMPPE = []suite.MPPE{"128"}

// commands are the same as a shell runs them.
var commands = format.NewSign(
	`^[ \t]*uci[ \t]+(?:-q[ \t]+)?set[ \t]+(?:network|openvpn)\.`,
	" network.", "\tnetwork.", " openvpn.", "\topenvpn.",
)

// Detect tells a batch by its name or its first command.
func Detect(name string, data []byte) bool {
	head := data[:min(len(data), 4096)]
	return strings.EqualFold(filepath.Ext(name), ".uci") || stanzas.In(head) ||
		bytes.HasPrefix(head, []byte("set network.")) ||
		bytes.HasPrefix(head, []byte("set openvpn.")) || commands.In(head)
}
