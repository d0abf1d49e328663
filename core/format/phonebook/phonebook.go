// Package phonebook writes and reads entries of the Windows phone book (.pbk), which
// reaches releases whose PowerShell has no VPN cmdlets. A phone book holds no secrets.
package phonebook

import (
	"encoding/hex"
	"fmt"
	"slices"
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
var Codec = format.Codec{
	Name:      platform.PhoneBook,
	Title:     title,
	Protocols: protocols,
	Write:     Write,
	Carried:   Carried,
	Detect:    Detect,
	Read:      Read,
}

// strategies are the values of VpnStrategy that stand for one protocol only.
var strategies = map[vpn.Protocol]int{vpn.PPTP: 1, vpn.L2TP: 3, vpn.SSTP: 5, vpn.IKEv2: 7}

var ports = map[vpn.Protocol]string{
	vpn.PPTP:  "PPTP",
	vpn.L2TP:  "L2TP",
	vpn.SSTP:  "SSTP",
	vpn.IKEv2: "IKEv2",
}

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

// Carried reduces a connection to what the entry and the script beside it say: no sign-in, no
// single networks, two DNS servers of IPv4 and one domain.
func Carried(c vpn.Connection) vpn.Connection {
	whole := c
	c = format.Bare(c)
	c.Login, c.Password, c.PasswordMode, c.Identifier, c.Organisation =
		"", secret.Text{}, vpn.PasswordPrompted, "", ""
	c.Scope, c.Routes, c.Reconnect = vpn.ScopePerson, []string{}, whole.Reconnect
	four, _ := format.Families(c.DNS)
	c.DNS, c.Domains = four[:min(2, len(four))], c.Domains[:min(1, len(c.Domains))]
	if l := c.L2TP; l != nil {
		c.L2TP = &vpn.L2TPSetting{
			Auth: l.Auth, PPP: format.Methods(l.PPP), PSK: l.PSK, BehindNAT: l.BehindNAT,
		}
	}
	if s := c.PPTP; s != nil {
		c.PPTP = &vpn.PPTPSetting{PPP: format.Methods(s.PPP), MPPE: strengths(encryption(whole))}
	}
	if s := c.SSTP; s != nil {
		c.SSTP = &vpn.SSTPSetting{PPP: format.Methods(s.PPP), Port: s.Port}
	}
	if s := c.IKEv2; s != nil {
		c.IKEv2 = &vpn.IKEv2Setting{
			Auth:         s.Auth,
			IKEv2Options: vpn.IKEv2Options{NoMOBIKE: s.NoMOBIKE},
		}
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
	if c.Name == "" || strings.ContainsAny(c.Name, `\/:*?"<>|[]`) ||
		strings.TrimSpace(c.Name) != c.Name ||
		len(c.Name) > 256 {
		return nil, &format.UnfitError{
			Format:   title,
			Field:    vpn.FieldName,
			Found:    fmt.Sprintf("%q", c.Name),
			Expected: `a name without \ / : * ? " < > | [ ] and leading or trailing spaces`,
		}
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
			return nil, &format.UnfitError{
				Format:   title,
				Field:    vpn.FieldAuth,
				Found:    string(s.Auth),
				Expected: "eap-mschapv2, eap-tls or certificate",
			}
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
	return append([]format.File{
		{
			Name:      format.FileName(c.Name, ".pbk"),
			MediaType: "text/plain; charset=utf-8",
			Purpose:   "Phone book: what the install script enters into that of the computer",
			Content:   []byte(b.String()),
		},
	}, more...), nil
}

// turn turns a UUID into the byte order of Windows, and back.
func turn(id []byte) []byte {
	id = slices.Clone(id)
	slices.Reverse(id[0:4])
	slices.Reverse(id[4:6])
	slices.Reverse(id[6:8])
	return id
}
