package check

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"wardicon/core/vpn"
)

// fitRules compare a connection with what its gateway offers by the record. A planned
// connection fits by itself; one that was read from a file may be old or wrong.
var fitRules = []Rule{
	{
		Code:     "auth-not-offered",
		Title:    "Authentication method is not offered by the gateway",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldAuth},
		Why:      "The gateway requires another authentication method than the device uses.",
		Fix:      "Rebuild the parcel from the gateway's record, or correct the record.",
		Source:   "RFC 7296 §2.15",
		Bad: Example{
			"EAP-TLS at a gateway that takes login and password",
			func(s *Subject) { s.by(vpn.IKEv2); s.Connection.IKEv2.Auth = vpn.IKEv2EAPTLS },
		},
		Good: Example{"login and password there", func(s *Subject) { s.by(vpn.IKEv2) }},
		run: func(s *Subject) []Hit {
			g := s.record()
			if g == nil {
				return nil
			}
			c, o := s.Connection, g.Offers
			switch {
			case c.IKEv2 != nil && o.IKEv2 != nil:
				return miss(vpn.FieldAuth, c.IKEv2.Auth, o.IKEv2.Auth)
			case c.TLS != nil && o.TLS != nil:
				return miss(vpn.FieldAuth, c.TLS.Auth, o.TLS.Auth)
			case c.L2TP != nil && o.L2TP != nil:
				return miss(vpn.FieldAuth, c.L2TP.Auth, o.L2TP.Auth)
			}
			return nil
		},
	},
	{
		Code:     "protocol-not-offered",
		Title:    "Gateway does not offer the protocol",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldProtocol},
		Why:      "The gateway does not respond.",
		Fix:      "Use a protocol that the gateway offers, or add the offer to its record.",
		Source:   "practice",
		Bad: Example{
			"PPTP to a gateway that no longer has it",
			func(s *Subject) { s.by(vpn.PPTP); s.Gateway.Offers.PPTP = nil },
		},
		Good: Example{"a protocol that it offers", func(s *Subject) { s.by(vpn.IKEv2) }},
		run: func(s *Subject) []Hit {
			g := s.record()
			if g == nil || s.Connection.Protocol == "" || g.Offers.Has(s.Connection.Protocol) ||
				offered(g) == "" {
				return nil
			}
			return []Hit{
				{
					Field: vpn.FieldProtocol,
					Found: fmt.Sprintf(
						"%s, and %s offers %s",
						s.Connection.Protocol.Title(),
						g.Name,
						offered(g),
					),
				},
			}
		},
	},
	{
		Code:     "remote-id-not-gateways",
		Title:    "Remote identity differs from the gateway's",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldRemoteID},
		Why:      "The device expects a different identity, and disconnects.",
		Fix:      "Use the identity of the gateway's record.",
		Source:   "RFC 7296 §3.5",
		Bad: Example{
			"an identity of another gateway",
			func(s *Subject) {
				s.by(vpn.IKEv2)
				s.Connection.IKEv2.RemoteID = "tallholm.skerryline.example"
			},
		},
		Good: Example{"the gateway's", func(s *Subject) { s.by(vpn.IKEv2) }},
		run: func(s *Subject) []Hit {
			i, g := s.Connection.IKEv2, s.record()
			if i == nil || i.RemoteID == "" || g == nil || g.Offers.IKEv2 == nil {
				return nil
			}
			want := cmp.Or(g.Offers.IKEv2.RemoteID, g.Address)
			if strings.EqualFold(want, i.RemoteID) {
				return nil
			}
			return []Hit{
				{
					Field: vpn.FieldRemoteID,
					Found: fmt.Sprintf(
						"%s, and the gateway's is %s",
						quote(i.RemoteID),
						quote(want),
					),
				},
			}
		},
	},
	{
		Code:     "remote-not-gateways",
		Title:    "Port or transport differs from the gateway's",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldRemotes, vpn.FieldPort},
		Why:      "The device connects to a port that does not respond.",
		Fix:      "Use port and transport of the gateway's record.",
		Source:   "practice",
		Bad: Example{
			"TCP at a gateway that has UDP",
			func(s *Subject) { s.by(vpn.TLS); s.Connection.TLS.Remotes[0].Transport = vpn.TCP },
		},
		Good: Example{"the gateway's transport", func(s *Subject) { s.by(vpn.TLS) }},
		run: func(s *Subject) []Hit {
			g := s.record()
			if g == nil {
				return nil
			}
			c, o := s.Connection, g.Offers
			if c.SSTP != nil && o.SSTP != nil && c.SSTP.Port != port(o.SSTP.Port) {
				return []Hit{
					{
						Field: vpn.FieldPort,
						Found: fmt.Sprintf(
							"port %d, and the gateway has %d",
							c.SSTP.Port,
							port(o.SSTP.Port),
						),
					},
				}
			}
			if c.TLS == nil || o.TLS == nil {
				return nil
			}
			var hits []Hit
			there := o.TLS.Remotes
			if f := s.Fallback; f != nil && f.Offers.TLS != nil && s.OwnFile == "" {
				there = append(slices.Clone(there), f.Offers.TLS.Remotes...)
			}
			for _, r := range c.TLS.Remotes {
				if !slices.ContainsFunc(
					there,
					func(g vpn.Remote) bool {
						return g.Port == r.Port &&
							g.Transport == r.Transport
					},
				) {
					hits = append(
						hits,
						Hit{
							Field: vpn.FieldRemotes,
							Found: fmt.Sprintf(
								"%s port %d, which the gateway does not have",
								r.Transport,
								r.Port,
							),
						},
					)
				}
			}
			return hits
		},
	},
	{
		Code:     "control-not-gateways",
		Title:    "Control-channel key type differs from the gateway's",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldControl},
		Why:      "The gateway drops the first packet and seems unreachable.",
		Fix:      "Use type and direction of the gateway: if it has direction 0, the client has 1.",
		Source:   "openvpn(8), options tls-auth and tls-crypt",
		Bad: Example{
			"tls-auth at a gateway with tls-crypt",
			func(s *Subject) { s.by(vpn.TLS); s.Connection.TLS.Control.Kind = vpn.ControlAuth },
		},
		Good: Example{"the gateway's kind", func(s *Subject) { s.by(vpn.TLS) }},
		run: func(s *Subject) []Hit {
			t, g := s.Connection.TLS, s.record()
			if t == nil || g == nil || g.Offers.TLS == nil {
				return nil
			}
			name := func(kind vpn.ControlKind, direction string) string {
				if kind == "" {
					return "none"
				}
				return strings.TrimSpace(string(kind) + " " + direction)
			}
			mine, its := "none", "none"
			if w := t.Control; w != nil {
				mine = name(w.Kind, w.Direction)
			}
			if k := g.Offers.TLS.ControlKey; k != nil {
				its = name(k.Kind, k.Direction)
			}
			if mine == its {
				return nil
			}
			return []Hit{
				{
					Field: vpn.FieldControl,
					Found: fmt.Sprintf("%s, and the gateway's record says %s", mine, its),
				},
			}
		},
	},
	{
		Code:     "pfs-not-offered",
		Title:    "PFS group differs from the gateway's",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldESP},
		Why:      "The connection is established but fails at the first rekeying, hours later.",
		Fix:      "Use a PFS group that both sides support.",
		Source:   "RFC 7296 §1.3.1; RFC 2409 §5.5",
		Bad: Example{"ecp384 for children at a gateway with ecp256", func(s *Subject) {
			s.by(vpn.IKEv2)
			s.Connection.IKEv2.ESP = []string{"aes256gcm16-ecp384"}
		}},
		Good: Example{"the gateway's group", func(s *Subject) { s.by(vpn.IKEv2) }},
		run: func(s *Subject) []Hit {
			for _, p := range s.parts() {
				if mine, its, ok := p.later(); ok {
					return []Hit{
						{
							Field: vpn.FieldESP,
							Found: fmt.Sprintf("%s, and the gateway has %s", mine.Group, its.Group),
							Fix: fmt.Sprintf(
								"Set %s on the device, or add %s at the gateway.",
								its.Group,
								mine.Group,
							),
						},
					}
				}
			}
			return nil
		},
	},
}

// cipherRule finds tunnels whose two sides share no data cipher.
var cipherRule = Rule{
	Code:     "cipher-nothing-shared",
	Title:    "No common data cipher",
	Severity: vpn.Error,
	Fields:   []vpn.Field{vpn.FieldCiphers},
	Why:      "The sign-in succeeds, then the tunnel is closed.",
	Fix:      "Enable AES-256-GCM on both sides.",
	Source:   "openvpn(8), option data-ciphers",
	Bad: Example{
		"AES-128-CBC at a gateway with AES-256-GCM",
		func(s *Subject) { s.by(vpn.TLS); s.Connection.TLS.Ciphers = []string{"AES-128-CBC"} },
	},
	Good: Example{"AES-256-GCM there", func(s *Subject) { s.by(vpn.TLS) }},
	run: func(s *Subject) []Hit {
		if s.Connection.TLS == nil {
			return nil
		}
		for _, a := range s.Agreements() {
			if a.Field == vpn.FieldCiphers && a.Chosen == "" {
				return []Hit{
					{
						Field: vpn.FieldCiphers,
						Found: "the device has " + a.Device + ", the gateway " + a.Gateway,
						Fix:   a.Change,
					},
				}
			}
		}
		return nil
	},
}

func miss[T ~string](field vpn.Field, has T, offered []T) []Hit {
	if len(offered) == 0 || slices.Contains(offered, has) {
		return nil
	}
	var names []string
	for _, o := range offered {
		names = append(names, string(o))
	}
	return []Hit{
		{
			Field: field,
			Found: fmt.Sprintf("%s, and the gateway takes %s", has, strings.Join(names, ", ")),
		},
	}
}

// offered names the protocols that a gateway offers.
func offered(g *vpn.Gateway) string {
	var names []string
	for _, p := range vpn.Protocols {
		if g.Offers.Has(p) {
			names = append(names, p.Title())
		}
	}
	return strings.Join(names, ", ")
}

func port(n int) int {
	if n == 0 {
		return 443
	}
	return n
}
