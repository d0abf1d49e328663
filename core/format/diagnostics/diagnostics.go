// Package diagnostics writes scripts that look at a device where a connection does not work, and
// change nothing: services, stores, names, routes, and what answers inside. What they print goes to
// whoever explains the failure.
package diagnostics

import (
	"crypto/sha1"
	_ "embed"
	"fmt"
	"net/netip"
	"regexp"
	"strings"

	"wardicon/core/format"
	"wardicon/core/format/powershell"
	"wardicon/core/format/shell"
	"wardicon/core/pki"
	"wardicon/core/vpn"
)

//go:embed diagnose.body.ps1
var windowsBody string

//go:embed diagnose.body.sh
var shellBody string

// Purpose of the script among the files of a parcel.
const Purpose = "Diagnostic script: finds out why it does not connect, changes nothing"

// Subject is what is looked at.
type Subject struct {
	Connection vpn.Connection
	BehindNAT  bool
	Hosts      []string // inside hosts worth trying
	// web address that tells which address the world sees; empty where there is none
	WhereAmI string
}

// hostName and prefix are what may stand in a list of words.
var hostName = regexp.MustCompile(`^[0-9A-Za-z][0-9A-Za-z.:-]*$`)

// Script makes the one for a platform; false where there is none.
func Script(platform vpn.Platform, s Subject) (format.File, bool) {
	switch platform {
	case vpn.Windows:
		return format.File{
			Name: format.FileName(
				s.Connection.Name,
				"-diagnose.ps1",
			),
			MediaType: "text/plain; charset=utf-8",
			Purpose:   Purpose,
			Content:   []byte("\uFEFF" + strings.ReplaceAll(windows(s), "\n", "\r\n")),
		}, true
	case vpn.Linux, vpn.LinuxDesktop:
		return format.File{
			Name: format.FileName(
				s.Connection.Name,
				"-diagnose.sh",
			),
			MediaType: "text/x-shellscript; charset=utf-8",
			Purpose:   Purpose,
			Content:   []byte(linux(s, platform)),
		}, true
	}
	return format.File{}, false
}

// words are the members of a list that are what they should be.
func words(list []string) (kept []string) {
	for _, w := range list {
		if _, err := netip.ParsePrefix(w); err == nil || hostName.MatchString(w) {
			kept = append(kept, w)
		}
	}
	return kept
}

// windowsServices are those that a protocol needs.
var windowsServices = map[vpn.Protocol][]string{
	vpn.L2TP: {
		"IKEEXT",
		"PolicyAgent",
		"RasMan",
	},
	vpn.IKEv2: {"IKEEXT", "PolicyAgent", "RasMan"},
	vpn.PPTP:  {"RasMan"},
	vpn.SSTP:  {"RasMan", "SstpSvc"},
}

func windows(s Subject) string {
	c := s.Connection
	var b strings.Builder
	b.WriteString(
		"# Looks why a VPN connection does not work, and changes nothing. Run it in PowerShell, " +
			"and send what it prints.\n$Look = @{\n",
	)
	line := func(key, value string) { fmt.Fprintf(&b, "    %-11s = %s\n", key, value) }
	list := func(key string, texts []string) {
		quoted := make([]string, len(texts))
		for i, t := range texts {
			quoted[i] = powershell.Quote(t)
		}
		line(key, "@("+strings.Join(quoted, ", ")+")")
	}
	line("Name", powershell.Quote(c.Name))
	line("Server", powershell.Quote(c.Server))
	list("Services", windowsServices[c.Protocol])
	line("BehindNat", truth(s.BehindNAT && c.Protocol == vpn.L2TP))
	list("Authorities", thumbprints(c.Authority))
	var own []string
	if c.Identity != nil {
		own = thumbprints(c.Identity.Certificate)
	}
	list("Identities", own[:min(len(own), 1)])
	list("Routes", words(c.Routes))
	line("Split", truth(c.Tunnel == vpn.TunnelSplit))
	list("Hosts", words(s.Hosts))
	line("WhereAmI", powershell.Quote(s.WhereAmI))
	b.WriteString("}\n")
	return b.String() + windowsBody
}

// thumbprints name certificates as the stores of Windows do.
func thumbprints(text string) (list []string) {
	certificates, err := pki.Certificates(text)
	if err != nil {
		return nil
	}
	for _, c := range certificates {
		list = append(list, fmt.Sprintf("%X", sha1.Sum(c.Raw)))
	}
	return list
}

func truth(v bool) string {
	if v {
		return "$true"
	}
	return "$false"
}

// plugins of NetworkManager, and what else a protocol needs on Linux.
var (
	plugins = map[vpn.Protocol]string{
		vpn.L2TP:  "nm-l2tp-service.name",
		vpn.IKEv2: "nm-strongswan-service.name",
		vpn.PPTP:  "nm-pptp-service.name",
		vpn.SSTP:  "nm-sstp-service.name",
		vpn.TLS:   "nm-openvpn-service.name",
	}
	services = map[vpn.Protocol]string{vpn.L2TP: "strongswan xl2tpd", vpn.IKEv2: "strongswan"}
	devices  = map[vpn.Protocol]string{
		vpn.L2TP: "/dev/ppp",
		vpn.PPTP: "/dev/ppp",
		vpn.SSTP: "/dev/ppp",
		vpn.TLS:  "/dev/net/tun",
	}
)

func linux(s Subject, platform vpn.Platform) string {
	c := s.Connection
	var b strings.Builder
	b.WriteString(
		"#!/bin/sh\n# Looks why a VPN connection does not work, and changes nothing. Run it with " +
			"sh, and send what it prints.\n",
	)
	set := func(key, value string) { fmt.Fprintf(&b, "%s=%s\n", key, shell.Quote(value)) }
	set("name", c.Name)
	set("server", c.Server)
	plugin, daemons := plugins[c.Protocol], ""
	if platform == vpn.Linux {
		plugin, daemons = "", services[c.Protocol]
	}
	set("plugin", plugin)
	set("services", daemons)
	set("devices", devices[c.Protocol])
	set("routes", strings.Join(words(c.Routes), " "))
	set("split", map[bool]string{true: "yes", false: "no"}[c.Tunnel == vpn.TunnelSplit])
	set("hosts", strings.Join(words(s.Hosts), " "))
	set("whereami", s.WhereAmI)
	return b.String() + shellBody
}
