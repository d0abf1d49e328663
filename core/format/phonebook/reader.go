package phonebook

import (
	"cmp"
	"encoding/hex"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"wardicon/core/format"
	"wardicon/core/format/powershell"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// Detect tells a phone book by its name or by two of its keys.
func Detect(name string, data []byte) bool {
	head := string(data[:min(len(data), 8192)])
	return strings.EqualFold(filepath.Ext(name), ".pbk") ||
		strings.Contains(head, "VpnStrategy=") && strings.Contains(head, "MEDIA=")
}

type entry struct {
	name   string
	at     format.Position
	values map[string]string
	places map[string]format.Position
	read   map[string]bool
}

func (e *entry) text(key string) string {
	e.read[key] = true
	return e.values[key]
}

// Read takes a phone book apart, entry by entry. It always answers; what is wrong is in the notes.
// Keys are many and differ by release; unknown ones are carried nowhere, and not remarked.
func Read(name string, data []byte, beside format.Beside) format.Reading {
	var r format.Reading
	var entries []*entry
	ok := r.Lines(name, data, func(at format.Position, line string) bool {
		switch trimmed := strings.TrimSpace(line); {
		case trimmed == "" || strings.HasPrefix(trimmed, ";"):
		case strings.HasPrefix(trimmed, "[") && strings.HasSuffix(trimmed, "]"):
			entries = append(
				entries,
				&entry{
					trimmed[1 : len(trimmed)-1],
					at,
					map[string]string{},
					map[string]format.Position{},
					map[string]bool{},
				},
			)
		default:
			key, v, is := strings.Cut(trimmed, "=")
			if !is || len(entries) == 0 {
				r.Note(format.Unreadable, at, "neither an entry nor key=value inside one")
				return false
			}
			e := entries[len(entries)-1]
			at.Path = e.name + "." + key
			if _, twice := e.values[key]; twice && key != "MEDIA" && key != "DEVICE" &&
				key != "Port" &&
				key != "Device" {
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
		e.settle(&r, beside)
	}
	return r
}

// installed adds what the script beside the phone book sets up for an entry.
func installed(c *vpn.Connection, beside format.Beside) {
	data, ok := beside.Get(format.FileName(c.Name, "-install.ps1"))
	if !ok {
		return
	}
	more, ok := powershell.Beside(c.Name, data)
	if !ok {
		return
	}
	c.Authority, c.Identity = more.Authority, more.Identity
	if c.L2TP != nil && more.L2TP != nil {
		c.L2TP.PSK, c.L2TP.BehindNAT = more.L2TP.PSK, more.L2TP.BehindNAT
	}
}

func (e *entry) number(r *format.Reading, key string) int {
	v := strings.TrimSpace(e.text(key))
	if v == "" {
		return 0
	}
	n, err := strconv.Atoi(v)
	if err != nil {
		r.Note(format.KeyMalformed, e.places[key], "%s is %q, expected a number", key, v)
	}
	return n
}

func (e *entry) settle(r *format.Reading, beside format.Beside) {
	if kind := e.number(r, "Type"); kind != 2 {
		r.Note(format.Unrelated, e.at, "an entry of the type %d", kind)
		r.Left(fmt.Sprintf("an entry of the type %d", kind), e.at)
		return
	}
	c := vpn.Connection{
		Name:         e.name,
		Server:       e.text("PhoneNumber"),
		PasswordMode: vpn.PasswordPrompted,
		Scope:        vpn.ScopePerson,
		Tunnel:       vpn.TunnelSplit,
		Reconnect:    e.number(r, "RedialOnLinkFailure") == 1,
		Routes:       []string{},
		DNS:          []string{},
		Domains:      []string{},
	}
	if e.number(r, "IpPrioritizeRemote") == 1 {
		c.Tunnel = vpn.TunnelFull
	}
	if v := e.text("Guid"); v != "" {
		raw, err := hex.DecodeString(v)
		if err != nil || len(raw) != 16 {
			r.Note(format.KeyMalformed, e.places["Guid"], "Guid is not 32 hexadecimal digits")
		} else {
			id, _ := uuid.FromBytes(turn(raw)) // 16 bytes
			c.UUID = strings.ToUpper(id.String())
		}
	}
	for _, key := range []string{"IpDnsAddress", "IpDns2Address"} {
		if v := e.text(key); v != "" && v != "0.0.0.0" && e.number(r, "IpNameAssign") == 2 {
			c.DNS = append(c.DNS, v)
		}
	}
	if v := e.text("IpDnsSuffix"); v != "" {
		c.Domains = append(c.Domains, v)
	}
	strategy, auth := e.number(r, "VpnStrategy"), e.number(r, "AuthRestrictions")
	for p, n := range strategies {
		if n == strategy || n+1 == strategy { // the one alone, or before all others
			c.Protocol = p
		}
	}
	if strategy < 0 || strategy > 14 {
		r.Note(
			format.KeyMalformed,
			e.places["VpnStrategy"],
			"VpnStrategy=%d, expected 1 to 14",
			strategy,
		)
		return
	}
	if _, known := e.values["VpnStrategy"]; strategy%2 == 0 && (strategy != 0 || known) {
		r.Note(format.SeveralProtocols, e.places["VpnStrategy"], "VpnStrategy=%d: %s", strategy,
			cmp.Or(c.Protocol.Title(), "whichever works")+" first, then others")
		r.Left(fmt.Sprintf("VpnStrategy=%d, several protocols", strategy), e.places["VpnStrategy"])
	}
	if e.number(r, "DisableIKENameEkuCheck") == 1 {
		r.Fixable(format.CheckSwitchedOff, e.places["DisableIKENameEkuCheck"],
			"DisableIKENameEkuCheck=0", "DisableIKENameEkuCheck=1")
	}
	ppp := []suite.PPPMethod{}
	for _, one := range restrictions {
		if auth&one.bit != 0 {
			ppp = append(ppp, one.method)
		}
	}
	if at, ok := e.places["DataEncryption"]; ok {
		switch n := e.number(r, "DataEncryption"); n {
		case 0, optional:
			r.Fixable(format.EncryptionOptional, at, "DataEncryption=256", "DataEncryption=%d", n)
		case required, strongest:
		default:
			r.Note(format.KeyMalformed, at, "DataEncryption=%d, expected 256 or 512", n)
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
	case vpn.SSTP:
		c.SSTP = &vpn.SSTPSetting{PPP: ppp, Port: 443}
		if host, port, ok := vpn.SplitPort(c.Server); ok {
			c.Server, c.SSTP.Port = host, port
		}
	case vpn.IKEv2:
		c.IKEv2 = &vpn.IKEv2Setting{
			IKEv2Options: vpn.IKEv2Options{NoMOBIKE: e.number(r, "DisableMobility") == 1},
		}
		switch custom := e.number(r, "CustomAuthKey"); {
		case auth == machineCertificate:
			c.IKEv2.Auth = vpn.IKEv2Certificate
		case custom == eapTLS:
			c.IKEv2.Auth = vpn.IKEv2EAPTLS
		case custom == eapMSCHAP:
			c.IKEv2.Auth = vpn.IKEv2MSCHAPv2
		default:
			r.OtherEAP(custom, e.at)
		}
	default:
		r.Note(format.NotYetRead, e.at, "VpnStrategy=%d: no protocol by itself", strategy)
		return
	}
	installed(&c, beside)
	positions := map[vpn.Field]format.Position{}
	for field, key := range map[vpn.Field]string{
		vpn.FieldName:     "Type",
		vpn.FieldServer:   "PhoneNumber",
		vpn.FieldProtocol: "VpnStrategy",
		vpn.FieldPPP:      "AuthRestrictions",
		vpn.FieldAuth:     "AuthRestrictions",
		vpn.FieldMPPE:     "DataEncryption",
		vpn.FieldTunnel:   "IpPrioritizeRemote",
		vpn.FieldDNS:      "IpDnsAddress",
		vpn.FieldDomains:  "IpDnsSuffix",
		vpn.FieldLogin:    "Type",
		vpn.FieldPassword: "Type",
		vpn.FieldPSK:      "IpSecFlags",
	} {
		positions[field] = e.at
		if at, ok := e.places[key]; ok {
			positions[field] = at
		}
	}
	r.Add(
		format.Located{
			Connection: c,
			Positions:  positions,
			Apart:      []vpn.Field{vpn.FieldIdentity, vpn.FieldPSK, vpn.FieldRoutes},
		},
	)
	e.account(r)
}
