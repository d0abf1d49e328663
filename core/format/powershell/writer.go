// Package powershell writes and reads scripts that set a VPN connection up on Windows
// with the operating system's own cmdlets (module VpnClient), and scripts that remove
// it. A script is one block of data, in which every value is a quoted literal, and a
// body that is the same in every script.
package powershell

import (
	_ "embed"
	"fmt"
	"strings"

	"wardicon/core/format"
	"wardicon/core/platform"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

const title = "PowerShell script"

// Codec is the format.
var Codec = format.Codec{Name: platform.PowerShell, Title: title, Write: Write, Carried: Carried, Detect: Detect, Read: Read}

//go:embed install.body.ps1
var installBody string

//go:embed remove.body.ps1
var removeBody string

const (
	bom        = "\uFEFF" // without it Windows PowerShell 5 reads the file in the local code page
	requires   = "#Requires -Version 4.0\n#Requires -RunAsAdministrator\n"
	blockStart = "$Connection = @{\n"
	blockEnd   = "}\n"
)

// methods are the names of PPP methods in the cmdlets.
var methods = map[suite.PPPMethod]string{suite.EAP: "Eap", suite.MSCHAPv2: "MSChapv2", suite.CHAP: "Chap", suite.PAP: "Pap"}

// Carried reduces a connection to what the scripts say: Windows has its own proposals
// for L2TP/IPsec.
func Carried(c vpn.Connection) vpn.Connection {
	c = format.Ask(c.Clone())
	c.Identifier = ""
	if c.L2TP != nil {
		c.L2TP.IKE, c.L2TP.ESP = []string{}, []string{}
	}
	return c
}

// Write makes the install script and the removal script.
func Write(c vpn.Connection) ([]format.File, error) {
	if err := format.Printable(title, c); err != nil {
		return nil, err
	}
	if c.L2TP == nil {
		return nil, &format.UnfitError{Format: title, Field: vpn.FieldProtocol, Found: "no L2TP/IPsec settings", Expected: "an L2TP/IPsec connection"}
	}
	c = format.Ask(c)
	authentication := make([]string, len(c.L2TP.PPP))
	encryption := "Optional" // PAP and CHAP make no keys; IPsec around them encrypts
	for i, m := range c.L2TP.PPP {
		name, ok := methods[m]
		if !ok {
			return nil, &format.UnfitError{Format: title, Field: vpn.FieldPPP, Found: string(m), Expected: "eap, mschapv2, chap or pap"}
		}
		authentication[i] = name
		if suite.PPPFacts[m].Keys {
			encryption = "Required"
		}
	}
	for _, long := range []struct {
		field vpn.Field
		value string
		limit int
	}{{vpn.FieldLogin, c.Login, 256}, {vpn.FieldPassword, c.Password.Reveal(), 256}, {vpn.FieldName, c.Name, 256}} {
		if n := units(long.value); n > long.limit {
			return nil, &format.UnfitError{Format: title, Field: long.field, Found: fmt.Sprintf("%d UTF-16 units", n), Expected: fmt.Sprintf("at most %d (lmcons.h, ras.h)", long.limit)}
		}
	}
	var b block
	b.text("Id", strings.ToUpper(c.UUID))
	b.text("Organisation", c.Organisation)
	b.text("Name", c.Name)
	b.text("ServerAddress", c.Server)
	b.text("PreSharedKey", c.L2TP.PSK.Reveal())
	b.list("Authentication", authentication)
	b.text("Encryption", encryption)
	b.text("Login", c.Login)
	b.flag("Remember", c.Keep == vpn.KeepSaved)
	b.text("Password", c.Password.Reveal())
	b.flag("AllUsers", c.Scope == vpn.ScopeMachine)
	b.flag("SplitTunnel", c.Tunnel == vpn.TunnelSplit)
	b.list("Routes", c.Routes)
	b.list("DnsServers", c.DNS)
	b.list("Domains", c.Domains)
	b.flag("GatewayBehindNat", c.L2TP.BehindNAT)

	var r block
	r.text("Id", strings.ToUpper(c.UUID))
	r.text("Name", c.Name)
	r.flag("AllUsers", c.Scope == vpn.ScopeMachine)
	return []format.File{
		{
			Name: format.FileName(c.Name, "-install.ps1"), MediaType: "text/plain; charset=utf-8", Private: true,
			Purpose: "Install script: run it in PowerShell as administrator", Content: script("Sets up a VPN connection. Safe to run twice.", &b, installBody),
		},
		{
			Name: format.FileName(c.Name, "-remove.ps1"), MediaType: "text/plain; charset=utf-8",
			Purpose: "Removal script: takes away all that the install script made", Content: script("Removes a VPN connection and all that its install script made.", &r, removeBody),
		},
	}, nil
}

func script(what string, b *block, body string) []byte {
	text := "# " + what + "\n" + requires + "\n" + blockStart + b.String() + blockEnd + body
	return []byte(bom + strings.ReplaceAll(text, "\n", "\r\n"))
}

// units counts UTF-16 code units, which is what Windows counts.
func units(v string) int {
	n := 0
	for _, r := range v {
		n++
		if r > 0xFFFF {
			n++
		}
	}
	return n
}

// block is the data of a script: one key a line.
type block struct{ strings.Builder }

func (b *block) text(key, v string) { fmt.Fprintf(b, "    %-16s = %s\n", key, Quote(v)) }

func (b *block) flag(key string, v bool) { fmt.Fprintf(b, "    %-16s = $%t\n", key, v) }

func (b *block) list(key string, values []string) {
	quoted := make([]string, len(values))
	for i, v := range values {
		quoted[i] = Quote(v)
	}
	fmt.Fprintf(b, "    %-16s = @(%s)\n", key, strings.Join(quoted, ", "))
}

// single tells the characters that PowerShell takes for a single quote; each is
// escaped by doubling it (about_Quoting_Rules; language specification §2.3.5.2).
func single(r rune) bool { return r == '\'' || r >= 0x2018 && r <= 0x201B }

// Quote writes a PowerShell verbatim string: nothing in it is expanded.
func Quote(v string) string {
	var b strings.Builder
	b.WriteByte('\'')
	for _, r := range v {
		if single(r) {
			b.WriteRune(r)
		}
		b.WriteRune(r)
	}
	b.WriteByte('\'')
	return b.String()
}
