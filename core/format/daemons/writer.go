// Package daemons writes and reads what Linux without a desktop takes: swanctl.conf(5)
// for the IKE daemon, a section for the L2TP daemon (xl2tpd.conf(5)), options and peers
// for pppd(8), and the file of the TLS tunnel with what lets its name servers take effect.
package daemons

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"wardicon/core/format"
	"wardicon/core/format/ovpn"
	"wardicon/core/format/shell"
	"wardicon/core/platform"
	"wardicon/core/vpn"
)

const (
	title      = "configuration of Linux daemons"
	pppFile    = "-ppp.conf"
	l2tpFile   = "-l2tp.conf"
	routesFile = "-routes"
	gateFile   = "-gate.nft"
	unitFile   = ".service"
	retryFile  = "-retry.conf"
	pppFolder  = "/etc/ppp/certs/"
)

var protocols = []vpn.Protocol{vpn.IKEv2, vpn.SSTP, vpn.L2TP, vpn.PPTP, vpn.TLS}

// Codec is the format.
var Codec = format.Codec{
	Name:      platform.Daemons,
	Title:     title,
	Protocols: protocols,
	Write:     Write,
	Carried:   Carried,
	Detect:    Detect,
	Read:      Read,
}

// Carried reduces a connection to what the files say. DNS servers and domains come from
// the gateway, but for the TLS tunnel. What is always there connects again by itself.
func Carried(c vpn.Connection) vpn.Connection {
	whole := c
	if c.TLS != nil {
		c = ovpn.Carried(c)
		c.Login, c.Scope = whole.Login, vpn.ScopeMachine
		if !whole.NeedsPassword() {
			c.Login = ""
		}
	} else {
		c = format.Bare(c)
		c.Identifier, c.Organisation, c.Scope, c.DNS, c.Domains =
			"", "", vpn.ScopeMachine, []string{}, []string{}
	}
	if whole.Connect == vpn.Always || c.IKEv2 != nil && starts[whole.Connect] != "" {
		c.Connect = whole.Connect
	}
	c.Reconnect = whole.Reconnect || whole.Connect == vpn.Always
	c.Site, c.RouterFilter = whole.Site.Clone(), whole.RouterFilter && c.IKEv2 != nil
	switch {
	case c.IKEv2 != nil:
		if c.Reconnect {
			c.IKEv2.DPD = cmp.Or(c.IKEv2.DPD, keepalive)
		}
		if whole.IPv6 == vpn.IPv6Carried {
			c.IPv6 = vpn.IPv6Carried
		}
	case c.L2TP != nil:
		c.L2TP.PPP, c.L2TP.BehindNAT = format.Methods(c.L2TP.PPP), false
		c.Routes = format.FourFirst(c.Routes)
		switch {
		case c.L2TP.Auth == vpn.MachineCertificate:
			c.L2TP.RemoteID = whole.L2TP.RemoteID
		case !c.L2TP.Aggressive && !whole.L2TP.PSK.IsZero():
			c.Addresses = slices.DeleteFunc(
				slices.Clone(whole.Addresses),
				func(a string) bool { return a == whole.Server },
			)
		}
	case c.PPTP != nil:
		c.PPTP.PPP, c.PPTP.MPPE = format.Methods(c.PPTP.PPP), format.Strengths(c.PPTP.MPPE)
		c.Routes = format.FourFirst(c.Routes)
	case c.SSTP != nil:
		c.SSTP.PPP, c.SSTP.ServerName = format.Methods(c.SSTP.PPP), ""
		c.Routes = format.FourFirst(c.Routes)
	}
	return c
}

// Write makes the files and the scripts that put them into their places.
func Write(c vpn.Connection) ([]format.File, error) {
	if err := format.Sound(title, c, protocols, enrolling(c)...); err != nil {
		return nil, err
	}
	if err := format.NoMPPE56(title, c); err != nil {
		return nil, err
	}
	if err := translatable(c); err != nil {
		return nil, err
	}
	c = format.Ask(c)
	if c.TLS != nil {
		return tunnel(c)
	}
	name := format.FileName(c.Name, "")
	job := shell.Job{
		Connection: c.Name,
		ID:         c.UUID,
		Done:       "The connection is set up.",
		Ask:        asks(c),
	}
	var files []format.File
	if c.IKEv2 != nil || c.L2TP != nil {
		main, beside, places, err := IPsec(c)
		if err != nil {
			return nil, err
		}
		files, job.Placements = append([]format.File{main}, beside...), places
		job.Programs = []shell.Program{
			{
				Name: "swanctl",
				Packages: "strongswan-swanctl charon-systemd libcharon-extauth-plugins " +
					"libstrongswan-standard-plugins",
			},
		}
		job.Apply = LoadIKE
		job.Revoke = []string{"swanctl --terminate --ike " + name + " > /dev/null 2>&1 || true"}
		job.Gone = []string{"swanctl --load-all --noprompt > /dev/null 2>&1 || true"}
		if i := c.Identity; c.NeedsIdentity() && i.Enrol != nil {
			files = append(files, enrols(c, *i.Enrol, &job)...)
		}
	}
	if c.IKEv2 == nil {
		more, places, err := links(c)
		if err != nil {
			return nil, err
		}
		files, job.Placements = append(files, more...), append(job.Placements, places...)
		job.Programs = append(job.Programs, programs[c.Protocol]...)
	}
	files = append(files, withSite(c, &job)...)
	switch {
	case c.L2TP != nil:
		job.Programs = append(job.Programs, shell.Program{Name: "nft", Packages: "nftables"})
		gate, place, unit := gate(c, name)
		files, job.Placements = append(files, gate...), append(job.Placements, place...)
		job.Units = append(job.Units, unit)
		job.Apply = slices.Concat(
			[]string{"nft -f " + gatePath(name)},
			job.Apply,
			[]string{"if [ -d /run/systemd/system ]; then systemctl try-restart xl2tpd; fi"},
		)
		job.Revoke = append(
			job.Revoke,
			"nft delete table inet "+gateTable(name)+" > /dev/null 2>&1 || true",
		)
	case c.Connect == vpn.Always && c.IKEv2 != nil:
		f := format.File{
			Name:      format.FileName(c.Name, retryFile),
			MediaType: "text/plain; charset=utf-8",
			Purpose:   "Lets the IKE daemon try again where a name cannot be looked up yet",
			Content:   []byte("charon {\n\tretry_initiate_interval = 15\n}\n"),
		}
		files, job.Placements = append(
			files,
			f,
		), append(
			job.Placements,
			shell.Placement{File: f.Name, Path: "/etc/strongswan.d/" + f.Name, Mode: "0644"},
		)
	case c.Connect == vpn.Always:
		f := format.File{
			Name:      format.FileName(c.Name, unitFile),
			MediaType: "text/plain; charset=utf-8",
			Purpose:   "Unit that connects with the system",
			Content:   []byte(unit(c.Name, "/usr/sbin/pppd call "+name+" nodetach")),
		}
		files, job.Placements = append(
			files,
			f,
		), append(
			job.Placements,
			shell.Placement{File: f.Name, Path: units + f.Name, Mode: "0644"},
		)
		job.Units = append(job.Units, f.Name)
	}
	return append(files, shell.Scripts(job, files)...), nil
}

// units is the folder of the service manager's units.
const units = "/etc/systemd/system/"

// LoadIKE are the commands that let the IKE daemon take a configuration up: with the
// system's start, and now.
var LoadIKE = []string{
	"if [ -d /run/systemd/system ]; then systemctl enable --now strongswan > /dev/null 2>&1; fi",
	"if [ -x /etc/init.d/swanctl ]; then /etc/init.d/swanctl enable; /etc/init.d/swanctl start; " +
		"sleep 1; fi",
	"swanctl --load-all --noprompt",
}

// programs are what a link needs, with Debian's packages.
var programs = map[vpn.Protocol][]shell.Program{
	vpn.L2TP: {{Name: "xl2tpd", Packages: "xl2tpd"}, {Name: "pppd", Packages: "ppp"}},
	vpn.PPTP: {{Name: "pptp", Packages: "pptp-linux"}, {Name: "pppd", Packages: "ppp"}},
	vpn.SSTP: {{Name: "sstpc", Packages: "sstp-client"}, {Name: "pppd", Packages: "ppp"}},
}

// unit is a unit that runs a command as long as the system does, and starts it again.
func unit(name, command string) string {
	return "[Unit]\nDescription=VPN connection " + format.FileName(
		name,
		"",
	) + "\nWants=network-online.target\nAfter=network-online.target\n\n[Service]\nExecStart=" +
		command +
		"\nRestart=always\nRestartSec=15\n\n[Install]\nWantedBy=multi-user.target\n"
}

// Asks is the question for a password that a router cannot ask for when it connects; the
// command that stands in Apply takes it.
func Asks(c vpn.Connection) *shell.Ask {
	a := asks(c)
	if a != nil {
		a.Path, a.Quote = "", shell.Single
	}
	return a
}

// asks is the question for a password that no daemon can ask for when it connects.
func asks(c vpn.Connection) *shell.Ask {
	if !c.NeedsPassword() || c.PasswordMode == vpn.PasswordSaved {
		return nil
	}
	name := format.FileName(c.Name, "")
	a := &shell.Ask{Prompt: "Password of " + c.Login + " for " + c.Name}
	switch {
	case c.IKEv2 != nil:
		s := &section{}
		s.open("secrets")
		s.open("eap-" + name)
		s.text("id", c.Login)
		a.Path, a.Quote = "/etc/swanctl/conf.d/"+name+"-password.conf", shell.Backslashed
		a.Before, a.After = s.String()+"\t\tsecret = \"", "\"\n\t}\n}\n"
	case c.TLS != nil:
		a.Before, a.After = c.Login+"\n", "\n"
	default:
		a.Path, a.Quote, a.Before, a.After = passwordOf(
			name,
		), shell.Backslashed, `password "`, "\"\n"
	}
	return a
}

// passwordOf is where pppd finds a password that was asked for.
func passwordOf(name string) string { return "/etc/ppp/" + name + "-password" }

// links makes the files of pppd and of what stands below it.
func links(c vpn.Connection) ([]format.File, []shell.Placement, error) {
	if err := format.Host(title, vpn.FieldServer, c.Server); err != nil {
		return nil, nil, err
	}
	name := format.FileName(c.Name, "")
	var files []format.File
	var places []shell.Placement
	add := func(p shell.Placement, purpose string, private bool, content string) {
		files = append(
			files,
			format.File{
				Name:      p.File,
				MediaType: "text/plain; charset=utf-8",
				Purpose:   purpose,
				Private:   private,
				Content:   []byte(content),
			},
		)
		places = append(places, p)
	}
	ppp := format.FileName(c.Name, pppFile)
	if c.L2TP != nil {
		add(
			shell.Placement{File: ppp, Path: "/etc/ppp/options." + name, Mode: "0600"},
			"Options of pppd",
			true,
			options(c, name),
		)
		l2tp := format.FileName(c.Name, l2tpFile)
		add(
			shell.Placement{File: l2tp, Path: "/etc/xl2tpd/xl2tpd.conf", Mode: "0644", Merge: name},
			"Section for the L2TP daemon",
			false,
			lacSection(c, name),
		)
	} else {
		add(
			shell.Placement{File: ppp, Path: "/etc/ppp/peers/" + name, Mode: "0600"},
			"Peer of pppd: connect with pppd call "+name,
			true,
			options(c, name),
		)
		for _, f := range format.PEMFiles(c) {
			add(
				shell.Placement{File: f.Name, Path: pppFolder + f.Name, Mode: "0644"},
				f.Purpose,
				f.Private,
				string(f.Content),
			)
		}
	}
	if c.Tunnel == vpn.TunnelSplit && len(c.Routes) > 0 {
		routes := format.FileName(c.Name, routesFile)
		add(
			shell.Placement{File: routes, Path: "/etc/ppp/ip-up.d/" + routes, Mode: "0755"},
			"Networks that are reached through the connection",
			false,
			routeScript(c, name),
		)
	}
	return files, places, nil
}

// gateTable is the table of the packet filter that keeps a connection's L2TP within IPsec.
func gateTable(name string) string { return "l2tp_" + strings.ReplaceAll(name, "-", "_") }

func gatePath(name string) string { return "/etc/" + name + gateFile }

// GateRule lets no packet of L2TP leave that IPsec does not take (RFC 3193 §5): without it
// sign-in and data would go in clear where the association is not there, or no more.
func GateRule(server string) string {
	to := ""
	if a, err := netip.ParseAddr(server); err == nil {
		family := "ip"
		if a.Is6() {
			family = "ip6"
		}
		to = family + " daddr " + a.String() + " "
	}
	return to + "udp dport 1701 rt ipsec missing drop"
}

// Gate makes the filter for a router, whose own packet filter takes it up: fw4 the rules,
// the older one the command.
func Gate(c vpn.Connection) (files []format.File, places []shell.Placement) {
	name := format.FileName(c.Name, "")
	add := func(ending, content string, p shell.Placement) {
		p.File, p.Mode = format.FileName(c.Name, ending), "0644"
		files = append(
			files,
			format.File{
				Name:      p.File,
				MediaType: "text/plain; charset=utf-8",
				Purpose:   "Filter that keeps L2TP within IPsec",
				Content:   []byte(content),
			},
		)
		places = append(places, p)
	}
	add(
		gateFile,
		fmt.Sprintf(
			"chain %s {\n\ttype filter hook output priority filter; policy accept;\n\t%s\n}\n",
			gateTable(name),
			GateRule(c.Server),
		),
		shell.Placement{Path: "/etc/nftables.d/" + name + gateFile},
	)
	rule := "OUTPUT -p udp --dport 1701 -m policy --dir out --pol none -j DROP"
	add(
		"-gate.user",
		fmt.Sprintf(
			"# begin %s\niptables -C %s 2> /dev/null || iptables -I %s\n# end %s\n",
			name,
			rule,
			rule,
			name,
		),
		shell.Placement{Path: "/etc/firewall.user", Merge: name, Sign: "#"},
	)
	return files, places
}

// gate makes the filter, and the unit that sets it before anything can be dialled.
func gate(
	c vpn.Connection,
	name string,
) (files []format.File, places []shell.Placement, unit string) {
	rules := fmt.Sprintf(
		"#!/usr/sbin/nft -f\n# L2TP of the connection %[1]s leaves through IPsec or not at "+
			"all.\nadd table inet %[2]s\nflush table inet %[2]s\ntable inet %[2]s {\n\tchain "+
			"leaving {\n\t\ttype filter hook output priority filter\n\t\t%[3]s\n\t}\n}\n",
		name,
		gateTable(name),
		GateRule(c.Server),
	)
	unit = format.FileName(c.Name, "-gate"+unitFile)
	text := "[Unit]\nDescription=L2TP of " + name + " leaves through IPsec or not at " +
		"all\nBefore=xl2tpd.service " +
		"network-pre.target\nWants=network-pre.target\n\n[Service]\nType=oneshot\n" +
		"RemainAfterExit=yes\nExecStart=/usr/sbin/nft -f " + gatePath(
		name,
	) + "\n\n[Install]\nWantedBy=multi-user.target\n"
	for _, f := range []struct{ name, path, purpose, content string }{
		{format.FileName(c.Name, gateFile), gatePath(name), "Filter that keeps L2TP within IPsec",
			rules},
		{unit, units + unit, "Unit that sets the filter with the system", text},
	} {
		files = append(
			files,
			format.File{
				Name:      f.name,
				MediaType: "text/plain; charset=utf-8",
				Purpose:   f.purpose,
				Content:   []byte(f.content),
			},
		)
		places = append(places, shell.Placement{File: f.name, Path: f.path, Mode: "0644"})
	}
	return files, places, unit
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
	if c.Reconnect || c.Connect == vpn.Always {
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
	if c.PasswordMode == vpn.PasswordSaved {
		line("password %s", quote(c.Password.Reveal()))
	} else {
		line("file %s", passwordOf(name))
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
	if c.Reconnect || c.Connect == vpn.Always {
		line("persist")
		line("maxfail 0")
		line("lcp-echo-interval %d", keepalive)
		line("lcp-echo-failure 4")
	}
	return b.String()
}

func routeScript(c vpn.Connection, name string) string {
	var b strings.Builder
	fmt.Fprintf(
		&b,
		"#!/bin/sh\n# Networks behind the connection %s; pppd runs this when a link comes up.\n[ "+
			"\"$6\" = %s ] || exit 0\n",
		name,
		name,
	)
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
