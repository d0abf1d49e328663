// Package keyfile writes and reads NetworkManager connection profiles in keyfile
// form (.nmconnection), as nm-settings-keyfile(5) and the documentation of the L2TP
// plugin define them.
package keyfile

import (
	"encoding/base64"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"wardicon/core/format"
	"wardicon/core/platform"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

const (
	title   = "NetworkManager keyfile"
	service = "org.freedesktop.NetworkManager.l2tp"
)

// Codec is the format.
var Codec = format.Codec{Name: platform.Keyfile, Title: title, Write: Write, Carried: Carried, Detect: Detect, Read: Read}

// refusals are the keys that switch a PPP method off.
var refusals = []struct {
	method suite.PPPMethod
	key    string
}{
	{suite.EAP, "refuse-eap"}, {suite.MSCHAPv2, "refuse-mschapv2"}, {suite.MSCHAP, "refuse-mschap"}, {suite.CHAP, "refuse-chap"}, {suite.PAP, "refuse-pap"},
}

// Carried reduces a connection to what the keyfile says. PPP methods come in their
// own order and DNS servers and routes of IPv4 before those of IPv6, because the file
// keeps them apart. A keyfile belongs to the machine.
func Carried(c vpn.Connection) vpn.Connection {
	c = format.Ask(c.Clone())
	c.Organisation, c.Identifier, c.Scope = "", "", vpn.ScopeMachine
	four, six := families(c.DNS)
	c.DNS = append(four, six...)
	four, six = families(c.Routes)
	c.Routes = append(four, six...)
	if c.L2TP != nil {
		c.L2TP.PPP = slices.DeleteFunc(slices.Clone(suite.PPPMethods), func(m suite.PPPMethod) bool { return !slices.Contains(c.L2TP.PPP, m) })
		c.L2TP.BehindNAT = false
	}
	return c
}

// families splits addresses or networks into those of IPv4 and of IPv6.
func families(list []string) (four, six []string) {
	four, six = []string{}, []string{}
	for _, v := range list {
		if strings.Contains(v, ":") {
			six = append(six, v)
		} else {
			four = append(four, v)
		}
	}
	return four, six
}

// Write makes the keyfile.
func Write(c vpn.Connection) ([]format.File, error) {
	if err := format.Printable(title, c); err != nil {
		return nil, err
	}
	if c.L2TP == nil {
		return nil, &format.UnfitError{Format: title, Field: vpn.FieldProtocol, Found: "no L2TP/IPsec settings", Expected: "an L2TP/IPsec connection"}
	}
	for _, n := range []struct {
		field vpn.Field
		list  []string
		sound func(string) bool
		want  string
	}{
		{vpn.FieldDNS, c.DNS, func(v string) bool { _, err := netip.ParseAddr(v); return err == nil }, "an IP address"},
		{vpn.FieldRoutes, c.Routes, func(v string) bool { _, err := netip.ParsePrefix(v); return err == nil }, "a network in CIDR form"},
		{vpn.FieldIKE, c.L2TP.IKE, proposal, "a proposal such as aes256-sha256-modp2048"},
		{vpn.FieldESP, c.L2TP.ESP, proposal, "a proposal such as aes256-sha256-modp2048"},
	} {
		for _, v := range n.list {
			if !n.sound(v) {
				return nil, &format.UnfitError{Format: title, Field: n.field, Found: fmt.Sprintf("%q", v), Expected: n.want}
			}
		}
	}
	c = format.Ask(c)
	var f file
	f.group("connection")
	f.set("id", c.Name)
	f.set("uuid", strings.ToLower(c.UUID))
	f.set("type", "vpn")
	f.set("autoconnect", "false")

	f.group("vpn")
	f.set("service-type", service)
	f.set("gateway", c.Server)
	f.set("user", c.Login)
	if c.Keep == vpn.KeepSaved {
		f.set("password-flags", "0")
	} else {
		f.set("password-flags", "2") // never stored, always asked for
	}
	f.set("user-auth-type", "password")
	for _, r := range refusals {
		if !slices.Contains(c.L2TP.PPP, r.method) {
			f.set(r.key, "yes")
		}
	}
	f.set("ipsec-enabled", "yes")
	f.set("machine-auth-type", "psk")
	f.set("ipsec-psk-flags", "0")
	if len(c.L2TP.IKE) > 0 {
		f.set("ipsec-ike", proposals(c.L2TP.IKE))
	}
	if len(c.L2TP.ESP) > 0 {
		f.set("ipsec-esp", proposals(c.L2TP.ESP))
	}

	f.group("vpn-secrets")
	if psk := c.L2TP.PSK.Reveal(); psk != "" {
		// The plugin takes what follows 0s as base64: no sign in the key can go astray.
		f.set("ipsec-psk", "0s"+base64.StdEncoding.EncodeToString([]byte(psk)))
	}
	if c.Keep == vpn.KeepSaved {
		f.set("password", c.Password.Reveal())
	}

	dns4, dns6 := families(c.DNS)
	routes4, routes6 := families(c.Routes)
	f.address("ipv4", "auto", dns4, routes4, c.Domains, c.Tunnel)
	method := "ignore" // L2TP here carries IPv4; without IPv6 values the plugin's own choice stands
	if len(dns6)+len(routes6) > 0 {
		method = "auto"
	}
	f.address("ipv6", method, dns6, routes6, nil, c.Tunnel)
	return []format.File{{
		Name: format.FileName(c.Name, ".nmconnection"), MediaType: "text/plain; charset=utf-8", Private: true,
		Purpose: "Connection profile: belongs in /etc/NetworkManager/system-connections, owner root, mode 0600", Content: []byte(f.String()),
	}}, nil
}

// proposals writes a list in the dialect that the plugin hands on to the IKE daemon.
// The sign for "these and no others" is left off: one of the daemons does not know it.
func proposals(list []string) string {
	names := make([]string, len(list))
	for i, text := range list {
		p, _ := suite.Parse(text) // looked at before
		names[i] = p.In(suite.IPsecConf)
	}
	return strings.Join(names, ",")
}

func proposal(v string) bool {
	_, err := suite.Parse(v)
	return err == nil
}

// file is a keyfile in the making (GLib key-value file format).
type file struct{ strings.Builder }

func (f *file) group(name string) {
	if f.Len() > 0 {
		f.WriteByte('\n')
	}
	f.WriteString("[" + name + "]\n")
}

func (f *file) set(key, value string) { f.WriteString(key + "=" + escape(value) + "\n") }

func (f *file) list(key string, values []string) {
	if len(values) == 0 {
		return
	}
	f.WriteString(key + "=")
	for _, v := range values {
		f.WriteString(strings.ReplaceAll(escape(v), ";", `\;`) + ";")
	}
	f.WriteByte('\n')
}

func (f *file) address(group, method string, dns, routes, domains []string, tunnel vpn.Tunnel) {
	f.group(group)
	f.set("method", method)
	f.list("dns", dns)
	f.list("dns-search", domains)
	for i, r := range routes {
		f.set(fmt.Sprintf("route%d", i+1), r)
	}
	f.set("never-default", fmt.Sprint(tunnel == vpn.TunnelSplit))
}

// escape writes a value so that GLib reads it back as it is: backslashes doubled,
// blanks at the ends as \s (a reader may strip them).
func escape(v string) string {
	v = strings.ReplaceAll(v, `\`, `\\`)
	trimmed := strings.Trim(v, " ")
	if trimmed == "" {
		return strings.Repeat(`\s`, len(v))
	}
	start := strings.Index(v, trimmed)
	return strings.Repeat(`\s`, start) + trimmed + strings.Repeat(`\s`, len(v)-start-len(trimmed))
}
