package powershell

import (
	"strings"

	"wardicon/core/format"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

var oldInstall, oldRemove = body("windows7-install"), body("windows7-remove")

// old is the first release of PowerShell that the scripts run on: that of Windows 7, which
// has no cmdlets for connections.
const old = "#Requires -Version 2.0\n"

// BesidePhoneBook makes the scripts that set up what a phone book
// cannot hold, by the means that every Windows from 7 on
// has: certificates, services, the value for a gateway behind NAT and the pre-shared key.
func BesidePhoneBook(title string, c vpn.Connection, entry string) ([]format.File, error) {
	m, err := materialOf(title, c)
	if err != nil {
		return nil, err
	}
	var b, r block
	b.text("Id", strings.ToUpper(c.UUID))
	b.text("Name", c.Name)
	b.text("Tunnel", tunnels[c.Protocol])
	b.text("PreSharedKey", c.PSK().Reveal())
	m.into(&b)
	b.flag("GatewayBehindNat", c.L2TP != nil && c.L2TP.BehindNAT)
	b.list("Entry", strings.Split(strings.TrimRight(entry, "\r\n"), "\r\n"))
	r.text("Id", strings.ToUpper(c.UUID))
	r.text("Name", c.Name)
	return []format.File{
		{
			Name: format.FileName(
				c.Name,
				"-install.ps1",
			),
			MediaType: "text/plain; charset=utf-8",
			Private:   true,
			Purpose:   "Install script: run it in PowerShell as administrator",
			Content:   script("Sets up a VPN connection. Safe to run twice.", old, &b, oldInstall),
		},
		{
			Name:      format.FileName(c.Name, "-remove.ps1"),
			MediaType: "text/plain; charset=utf-8",
			Purpose:   "Removal script: takes away all that the install script made",
			Content: script(
				"Removes a VPN connection and all that its install script made.",
				old,
				&r,
				oldRemove,
			),
		},
	}, nil
}

// Beside reads out of a script that stands beside a phone book what it sets up for the entry of a
// name: the pre-shared key, authorities, and the certificate with its key. It is false for any
// other script.
func Beside(name string, data []byte) (c vpn.Connection, ok bool) {
	head, rest, found := strings.Cut(strings.ReplaceAll(
		strings.TrimPrefix(string(data), bom), "\r\n", "\n"), blockStart)
	if !found || !strings.HasSuffix(head, old+"\n") || len(data) > format.MaxFile {
		return c, false
	}
	var r format.Reading
	scan := &scanner{src: []rune(rest), line: 1, column: 1}
	values, err := scan.block(&r)
	if err != nil || string(scan.src[scan.pos:]) != oldInstall {
		return c, false
	}
	s := &settler{Reading: &r, values: values}
	if s.text("Name") != name {
		return c, false
	}
	s.certificates(&c)
	if s.text("Tunnel") == tunnels[vpn.L2TP] {
		c.L2TP = &vpn.L2TPSetting{
			PSK: secret.New(s.text("PreSharedKey")), BehindNAT: values["GatewayBehindNat"].flag,
		}
	}
	return c, true
}
