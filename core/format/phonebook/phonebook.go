// Package phonebook writes and reads entries of the Windows phone book (.pbk), which
// reaches releases whose PowerShell has no VPN cmdlets. A phone book holds no secrets.
package phonebook

import (
	"encoding/hex"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"wardicon/core/format"
	"wardicon/core/format/powershell"
	"wardicon/core/platform"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

const title = "Windows phone book"

var protocols = []vpn.Protocol{vpn.IKEv2, vpn.SSTP, vpn.L2TP, vpn.PPTP}

// Codec is the format.
var Codec = format.Codec{Name: platform.PhoneBook, Title: title, Protocols: protocols, Write: Write, Carried: Carried, Detect: Detect, Read: Read}

// strategies are the values of VpnStrategy that stand for one protocol only.
var strategies = map[vpn.Protocol]int{vpn.PPTP: 1, vpn.L2TP: 3, vpn.SSTP: 5, vpn.IKEv2: 7}

var ports = map[vpn.Protocol]string{vpn.PPTP: "PPTP", vpn.L2TP: "L2TP", vpn.SSTP: "SSTP", vpn.IKEv2: "IKEv2"}

// restrictions are the bits of AuthRestrictions.
var restrictions = []struct {
	method suite.PPPMethod
	bit    int
}{{suite.EAP, 128}, {suite.MSCHAPv2, 512}, {suite.MSCHAP, 64}, {suite.CHAP, 32}, {suite.PAP, 8}}

// Further values of AuthRestrictions, CustomAuthKey and DataEncryption.
const (
	machineCertificate = 2048
	eapTLS, eapMSCHAP  = 13, 26
	optional           = 8
	required           = 256
	strongest          = 512
)

// Carried reduces a connection to what the entry says: no sign-in, no key, no
// certificates, no single networks, two DNS servers of IPv4 and one domain.
func Carried(c vpn.Connection) vpn.Connection {
	whole := c
	c = format.Bare(c)
	c.Login, c.Password, c.PasswordMode, c.Identifier, c.Organisation, c.Authority, c.Identity = "", secret.Text{}, vpn.PasswordPrompted, "", "", "", nil
	c.Scope, c.Routes, c.Reconnect = vpn.ScopePerson, []string{}, whole.Reconnect
	four, _ := format.Families(c.DNS)
	c.DNS, c.Domains = four[:min(2, len(four))], c.Domains[:min(1, len(c.Domains))]
	if l := c.L2TP; l != nil {
		c.L2TP = &vpn.L2TPSetting{Auth: l.Auth, PPP: format.Methods(l.PPP)}
	}
	if s := c.PPTP; s != nil {
		c.PPTP = &vpn.PPTPSetting{PPP: format.Methods(s.PPP), MPPE: strengths(encryption(whole))}
	}
	if s := c.SSTP; s != nil {
		c.SSTP = &vpn.SSTPSetting{PPP: format.Methods(s.PPP), Port: s.Port}
	}
	if s := c.IKEv2; s != nil {
		c.IKEv2 = &vpn.IKEv2Setting{Auth: s.Auth, NoMOBIKE: s.NoMOBIKE}
	}
	return c
}

func encryption(c vpn.Connection) int {
	if c.PPTP == nil {
		return required
	}
	switch list := c.PPTP.MPPE; {
	case len(list) == 0:
		return optional
	case len(list) == 1 && list[0] == "128":
		return strongest
	}
	return required
}

func strengths(encryption int) []suite.MPPE {
	switch encryption {
	case strongest:
		return []suite.MPPE{"128"}
	case required:
		return slices.Clone(suite.MPPEs)
	}
	return []suite.MPPE{}
}

// Write makes a phone book with one entry.
func Write(c vpn.Connection) ([]format.File, error) {
	if err := format.Sound(title, c, protocols); err != nil {
		return nil, err
	}
	if err := format.MainMode(title, c); err != nil {
		return nil, err
	}
	if err := format.Host(title, vpn.FieldServer, c.Server); err != nil {
		return nil, err
	}
	if c.Name == "" || strings.ContainsAny(c.Name, `\/:*?"<>|[]`) || strings.TrimSpace(c.Name) != c.Name || len(c.Name) > 256 {
		return nil, &format.UnfitError{Format: title, Field: vpn.FieldName, Found: fmt.Sprintf("%q", c.Name), Expected: `a name without \ / : * ? " < > | [ ] and leading or trailing spaces`}
	}
	auth, custom := 0, 0
	for _, r := range restrictions {
		if slices.Contains(c.PPP(), r.method) {
			auth |= r.bit
		}
	}
	if auth&128 != 0 {
		custom = eapMSCHAP
	}
	if s := c.IKEv2; s != nil {
		switch s.Auth {
		case vpn.IKEv2MSCHAPv2:
			auth, custom = 128, eapMSCHAP
		case vpn.IKEv2EAPTLS:
			auth, custom = 128, eapTLS
		case vpn.IKEv2Certificate:
			auth = machineCertificate
		default:
			return nil, &format.UnfitError{Format: title, Field: vpn.FieldAuth, Found: string(s.Auth), Expected: "eap-mschapv2, eap-tls or certificate"}
		}
	}
	server := c.Server
	if c.SSTP != nil && c.SSTP.Port != 443 {
		server = vpn.JoinPort(c.Server, c.SSTP.Port)
	}
	var b strings.Builder
	set := func(key string, v any) { fmt.Fprintf(&b, "%s=%v\r\n", key, v) }
	flag := func(key string, v bool) { set(key, map[bool]int{true: 1}[v]) }
	fmt.Fprintf(&b, "[%s]\r\n", c.Name)
	set("Encoding", 1)
	set("Type", 2)
	set("VpnStrategy", strategies[c.Protocol])
	set("DataEncryption", encryption(c))
	if id, err := uuid.Parse(c.UUID); err == nil {
		set("Guid", strings.ToUpper(hex.EncodeToString(turn(id[:]))))
	}
	set("AuthRestrictions", auth)
	if custom != 0 {
		set("CustomAuthKey", custom)
	}
	if c.L2TP != nil {
		flag("IpSecFlags", c.L2TP.Auth == vpn.MachinePSK)
	}
	if c.IKEv2 != nil {
		flag("DisableMobility", c.IKEv2.NoMOBIKE)
	}
	flag("IpPrioritizeRemote", c.Tunnel == vpn.TunnelFull)
	carried := Carried(c)
	if len(carried.DNS) > 0 {
		set("IpNameAssign", 2)
		for i, v := range carried.DNS {
			set([]string{"IpDnsAddress", "IpDns2Address"}[i], v)
		}
	}
	if len(carried.Domains) > 0 {
		if err := format.Host(title, vpn.FieldDomains, carried.Domains[0]); err != nil {
			return nil, err
		}
		set("IpDnsSuffix", carried.Domains[0])
	}
	flag("RedialOnLinkFailure", c.Reconnect)
	b.WriteString("\r\nMEDIA=rastapi\r\n")
	set("Port", "VPN1-0")
	set("Device", fmt.Sprintf("WAN Miniport (%s)", ports[c.Protocol]))
	b.WriteString("\r\nDEVICE=vpn\r\n")
	set("PhoneNumber", server)
	more, err := powershell.BesidePhoneBook(title, c, b.String())
	if err != nil {
		return nil, err
	}
	return append([]format.File{{
		Name: format.FileName(c.Name, ".pbk"), MediaType: "text/plain; charset=utf-8",
		Purpose: "Phone book: what the install script enters into that of the computer", Content: []byte(b.String()),
	}}, more...), nil
}

// turn turns a UUID into the byte order of Windows, and back.
func turn(id []byte) []byte {
	id = slices.Clone(id)
	slices.Reverse(id[0:4])
	slices.Reverse(id[4:6])
	slices.Reverse(id[6:8])
	return id
}

// Detect tells a phone book by its name or by two of its keys.
func Detect(name string, data []byte) bool {
	head := string(data[:min(len(data), 8192)])
	return strings.EqualFold(filepath.Ext(name), ".pbk") || strings.Contains(head, "VpnStrategy=") && strings.Contains(head, "MEDIA=")
}

type entry struct {
	name   string
	at     format.Position
	values map[string]string
	places map[string]format.Position
}

// Read takes a phone book apart, entry by entry. It always answers; what is wrong is in
// the notes. Keys are many and of no harm; unknown ones are not remarked.
func Read(name string, data []byte, _ format.Beside) format.Reading {
	var r format.Reading
	var entries []*entry
	ok := r.Lines(name, data, func(at format.Position, line string) bool {
		switch trimmed := strings.TrimSpace(line); {
		case trimmed == "" || strings.HasPrefix(trimmed, ";"):
		case strings.HasPrefix(trimmed, "[") && strings.HasSuffix(trimmed, "]"):
			entries = append(entries, &entry{trimmed[1 : len(trimmed)-1], at, map[string]string{}, map[string]format.Position{}})
		default:
			key, v, is := strings.Cut(trimmed, "=")
			if !is || len(entries) == 0 {
				r.Note(format.Unreadable, at, "neither an entry nor key=value inside one")
				return false
			}
			e := entries[len(entries)-1]
			at.Path = e.name + "." + key
			if _, twice := e.values[key]; twice && key != "MEDIA" && key != "DEVICE" && key != "Port" && key != "Device" {
				r.Note(format.KeyTwice, at, "%s", key)
			}
			e.values[key], e.places[key] = v, at
		}
		return true
	})
	if !ok {
		return r
	}
	if len(entries) == 0 {
		r.Note(format.Unreadable, format.Position{File: name, Line: 1, Column: 1}, "no entry")
	}
	for _, e := range entries {
		e.settle(&r)
	}
	return r
}

func (e *entry) number(r *format.Reading, key string) int {
	v, ok := e.values[key]
	if !ok {
		return 0
	}
	n, err := strconv.Atoi(v)
	if err != nil {
		r.Note(format.KeyMalformed, e.places[key], "%s is %q, expected a number", key, v)
	}
	return n
}

func (e *entry) settle(r *format.Reading) {
	if kind := e.number(r, "Type"); kind != 2 {
		r.Note(format.Unrelated, e.at, "an entry of the type %d", kind)
		return
	}
	c := vpn.Connection{
		Name: e.name, Server: e.values["PhoneNumber"], PasswordMode: vpn.PasswordPrompted, Scope: vpn.ScopePerson, Tunnel: vpn.TunnelSplit, Reconnect: e.number(r, "RedialOnLinkFailure") == 1,
		Routes: []string{}, DNS: []string{}, Domains: []string{},
	}
	if e.number(r, "IpPrioritizeRemote") == 1 {
		c.Tunnel = vpn.TunnelFull
	}
	if v := e.values["Guid"]; v != "" {
		raw, err := hex.DecodeString(v)
		if err != nil || len(raw) != 16 {
			r.Note(format.KeyMalformed, e.places["Guid"], "Guid is not 32 hexadecimal digits")
		} else {
			id, _ := uuid.FromBytes(turn(raw)) // 16 bytes
			c.UUID = strings.ToUpper(id.String())
		}
	}
	for _, key := range []string{"IpDnsAddress", "IpDns2Address"} {
		if v := e.values[key]; v != "" && v != "0.0.0.0" && e.number(r, "IpNameAssign") == 2 {
			c.DNS = append(c.DNS, v)
		}
	}
	if v := e.values["IpDnsSuffix"]; v != "" {
		c.Domains = append(c.Domains, v)
	}
	strategy, auth := e.number(r, "VpnStrategy"), e.number(r, "AuthRestrictions")
	for p, n := range strategies {
		if n == strategy {
			c.Protocol = p
		}
	}
	ppp := []suite.PPPMethod{}
	for _, one := range restrictions {
		if auth&one.bit != 0 {
			ppp = append(ppp, one.method)
		}
	}
	switch c.Protocol {
	case vpn.L2TP:
		c.L2TP = &vpn.L2TPSetting{Auth: vpn.MachineCertificate, PPP: ppp}
		if e.number(r, "IpSecFlags") == 1 {
			c.L2TP.Auth = vpn.MachinePSK
		}
	case vpn.PPTP:
		c.PPTP = &vpn.PPTPSetting{PPP: ppp, MPPE: strengths(e.number(r, "DataEncryption"))}
		if n := e.number(r, "DataEncryption"); n == optional {
			r.Note(format.EncryptionOptional, e.places["DataEncryption"], "DataEncryption=%d", n)
		}
	case vpn.SSTP:
		c.SSTP = &vpn.SSTPSetting{PPP: ppp, Port: 443}
		if host, port, ok := vpn.SplitPort(c.Server); ok {
			c.Server, c.SSTP.Port = host, port
		}
	case vpn.IKEv2:
		c.IKEv2 = &vpn.IKEv2Setting{NoMOBIKE: e.number(r, "DisableMobility") == 1}
		switch custom := e.number(r, "CustomAuthKey"); {
		case auth == machineCertificate:
			c.IKEv2.Auth = vpn.IKEv2Certificate
		case custom == eapTLS:
			c.IKEv2.Auth = vpn.IKEv2EAPTLS
		case custom == eapMSCHAP:
			c.IKEv2.Auth = vpn.IKEv2MSCHAPv2
		default:
			r.Note(format.KeyMalformed, e.at, "neither a machine certificate nor EAP of the type 13 or 26")
		}
	default:
		r.Note(format.NotYetRead, e.at, "VpnStrategy %d tries several protocols", strategy)
		return
	}
	positions := map[vpn.Field]format.Position{}
	for field, key := range map[vpn.Field]string{
		vpn.FieldName: "Type", vpn.FieldServer: "PhoneNumber", vpn.FieldProtocol: "VpnStrategy", vpn.FieldPPP: "AuthRestrictions", vpn.FieldAuth: "AuthRestrictions", vpn.FieldMPPE: "DataEncryption",
		vpn.FieldTunnel: "IpPrioritizeRemote", vpn.FieldDNS: "IpDnsAddress", vpn.FieldDomains: "IpDnsSuffix", vpn.FieldLogin: "Type", vpn.FieldPassword: "Type", vpn.FieldPSK: "IpSecFlags",
	} {
		positions[field] = e.at
		if at, ok := e.places[key]; ok {
			positions[field] = at
		}
	}
	r.Add(format.Located{Connection: c, Positions: positions, Apart: []vpn.Field{vpn.FieldIdentity, vpn.FieldPSK, vpn.FieldRoutes}})
}
