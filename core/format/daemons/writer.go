// Package daemons writes and reads what Linux without a desktop takes: swanctl.conf(5)
// for the IKE daemon, a section for the L2TP daemon (xl2tpd.conf(5)), and options and
// peers for pppd(8).
package daemons

import (
	"fmt"
	"net/netip"
	"strings"

	"wardicon/core/format"
	"wardicon/core/format/shell"
	"wardicon/core/platform"
	"wardicon/core/vpn"
)

const (
	title      = "configuration of Linux daemons"
	pppFile    = "-ppp.conf"
	l2tpFile   = "-l2tp.conf"
	routesFile = "-routes"
	pppFolder  = "/etc/ppp/certs/"
)

var protocols = []vpn.Protocol{vpn.IKEv2, vpn.SSTP, vpn.L2TP, vpn.PPTP}

// Codec is the format.
var Codec = format.Codec{Name: platform.Daemons, Title: title, Protocols: protocols, Write: Write, Carried: Carried, Detect: Detect, Read: Read}

// Carried reduces a connection to what the files say. DNS servers and domains come from
// the gateway.
func Carried(c vpn.Connection) vpn.Connection {
	whole := c
	c = format.Bare(c)
	c.Identifier, c.Organisation, c.Scope, c.DNS, c.Domains = "", "", vpn.ScopeMachine, []string{}, []string{}
	switch {
	case c.IKEv2 != nil:
		c.Reconnect = whole.Reconnect
		if starts[whole.Connect] != "" {
			c.Connect = whole.Connect
		}
		if whole.IPv6 == vpn.IPv6Carried {
			c.IPv6 = vpn.IPv6Carried
		}
	case c.L2TP != nil:
		c.L2TP.PPP, c.L2TP.BehindNAT, c.Reconnect = format.Methods(c.L2TP.PPP), false, whole.Reconnect
		if whole.Connect == vpn.Always {
			c.Connect = vpn.Always
		}
		c.Routes = format.FourFirst(c.Routes)
	case c.PPTP != nil:
		c.PPTP.PPP, c.PPTP.MPPE, c.Reconnect = format.Methods(c.PPTP.PPP), format.Strengths(c.PPTP.MPPE), whole.Reconnect
		c.Routes = format.FourFirst(c.Routes)
	case c.SSTP != nil:
		c.SSTP.PPP, c.SSTP.ServerName, c.Reconnect = format.Methods(c.SSTP.PPP), "", whole.Reconnect
		c.Routes = format.FourFirst(c.Routes)
	}
	return c
}

// Write makes the files and the scripts that put them into their places.
func Write(c vpn.Connection) ([]format.File, error) {
	if err := format.Sound(title, c, protocols); err != nil {
		return nil, err
	}
	if err := format.NoMPPE56(title, c); err != nil {
		return nil, err
	}
	c = format.Ask(c)
	name := format.FileName(c.Name, "")
	job := shell.Job{Connection: c.Name, Done: "The connection is set up."}
	var files []format.File
	if c.IKEv2 != nil || c.L2TP != nil {
		main, beside, places, err := IPsec(c)
		if err != nil {
			return nil, err
		}
		files, job.Placements = append([]format.File{main}, beside...), places
		job.Apply = []string{"swanctl --load-all"}
		job.Revoke = []string{"swanctl --terminate --ike " + name + " > /dev/null 2>&1 || true"}
	}
	if c.IKEv2 == nil {
		more, places, err := links(c)
		if err != nil {
			return nil, err
		}
		files, job.Placements = append(files, more...), append(job.Placements, places...)
	}
	if c.L2TP != nil {
		job.Apply = append(job.Apply, "systemctl try-restart xl2tpd > /dev/null 2>&1 || true")
	}
	return append(files, shell.Scripts(job, files)...), nil
}

// links makes the files of pppd and of what stands below it.
func links(c vpn.Connection) ([]format.File, []shell.Placement, error) {
	if err := format.Host(title, vpn.FieldServer, c.Server); err != nil {
		return nil, nil, err
	}
	name := format.FileName(c.Name, "")
	var files []format.File
	var places []shell.Placement
	add := func(p shell.Placement, purpose string, private bool, content string) {
		files = append(files, format.File{Name: p.File, MediaType: "text/plain; charset=utf-8", Purpose: purpose, Private: private, Content: []byte(content)})
		places = append(places, p)
	}
	ppp := format.FileName(c.Name, pppFile)
	if c.L2TP != nil {
		add(shell.Placement{File: ppp, Path: "/etc/ppp/options." + name, Mode: "0600"}, "Options of pppd", true, options(c, name))
		l2tp := format.FileName(c.Name, l2tpFile)
		add(shell.Placement{File: l2tp, Path: "/etc/xl2tpd/xl2tpd.conf", Mode: "0644", Merge: name}, "Section for the L2TP daemon", false, lacSection(c, name))
	} else {
		add(shell.Placement{File: ppp, Path: "/etc/ppp/peers/" + name, Mode: "0600"}, "Peer of pppd: connect with pppd call "+name, true, options(c, name))
		for _, f := range format.PEMFiles(c) {
			add(shell.Placement{File: f.Name, Path: pppFolder + f.Name, Mode: "0644"}, f.Purpose, f.Private, string(f.Content))
		}
	}
	if c.Tunnel == vpn.TunnelSplit && len(c.Routes) > 0 {
		routes := format.FileName(c.Name, routesFile)
		add(shell.Placement{File: routes, Path: "/etc/ppp/ip-up.d/" + routes, Mode: "0755"}, "Networks that are reached through the connection", false, routeScript(c, name))
	}
	return files, places, nil
}

// lacSection is the section of xl2tpd.conf.
func lacSection(c vpn.Connection, name string) string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("; begin %s", name)
	line("[lac %s]", name)
	line("lns = %s", c.Server)
	line("pppoptfile = /etc/ppp/options.%s", name)
	line("length bit = yes")
	if c.Connect == vpn.Always {
		line("autodial = yes")
	}
	if c.Reconnect {
		line("redial = yes")
		line("redial timeout = 15")
	}
	line("; end %s", name)
	return b.String()
}

// quote writes a word for pppd: in double quotes, backslashes and quotes with a
// backslash before (pppd(8), OPTIONS FILES).
func quote(v string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(v) + `"`
}

func options(c vpn.Connection, name string) string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("# name = %s", c.Name)
	line("# uuid = %s", strings.ToUpper(c.UUID))
	switch {
	case c.PPTP != nil:
		line("pty %s", quote("pptp "+c.Server+" --nolaunchpppd"))
	case c.SSTP != nil:
		command := "sstpc --ipparam " + name + " --nolaunchpppd"
		if c.Authority != "" {
			command += " --ca-cert " + pppFolder + format.FileName(c.Name, format.AuthorityFile)
		}
		line("pty %s", quote(command+" "+vpn.JoinPort(c.Server, c.SSTP.Port)))
		line("plugin sstp-pppd-plugin.so")
		line("sstp-sock /run/sstpc/sstpc-%s", name)
	}
	line("user %s", quote(c.Login))
	if c.Keep == vpn.KeepSaved {
		line("password %s", quote(c.Password.Reveal()))
	}
	line("noauth")
	for _, option := range PPPOptions(c) {
		line("%s", option)
	}
	line("ipparam %s", name)
	line("mtu 1400")
	line("usepeerdns")
	if c.Tunnel == vpn.TunnelFull {
		line("defaultroute")
		line("replacedefaultroute")
	} else {
		line("nodefaultroute")
	}
	if c.Reconnect {
		line("persist")
	}
	return b.String()
}

func routeScript(c vpn.Connection, name string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "#!/bin/sh\n# Networks behind the connection %s; pppd runs this when a link comes up.\n[ \"$6\" = %s ] || exit 0\n", name, name)
	for _, r := range format.FourFirst(c.Routes) {
		p, _ := netip.ParsePrefix(r) // looked at before
		family := "-4"
		if p.Addr().Is6() {
			family = "-6"
		}
		fmt.Fprintf(&b, "ip %s route replace %s dev \"$1\"\n", family, p)
	}
	return b.String()
}
