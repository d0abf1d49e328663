package check

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"wardicon/core/pki"
	"wardicon/core/plan"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// protocolRules look at what only some protocols have.
var protocolRules = []Rule{
	{
		Code:     "auth-nothing-shared",
		Title:    "No common authentication method",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldAuth},
		Why:      "The device does not support what the gateway requires.",
		Fix: "Enable another authentication method at the gateway, or use another protocol " +
			"for this device.",
		Source: "see the platform table",
		Bad: Example{"a pre-shared key alone, for IKEv2 on Windows", func(s *Subject) {
			*s = *soundBy(vpn.IKEv2, vpn.Windows, "11")
			s.Connection.IKEv2.Auth = vpn.IKEv2PSK
			s.setKey("kelp-4497-Harbor-mizzen-93-osprey")
		}},
		Good: Example{
			"login and password by EAP, on Windows",
			func(s *Subject) { *s = *soundBy(vpn.IKEv2, vpn.Windows, "11") },
		},
		run: func(s *Subject) []Hit {
			if s.Ability == nil || !s.Ability.Support.Usable() {
				return nil
			}
			miss := func(auth string) []Hit {
				return []Hit{
					{
						Field: vpn.FieldAuth,
						Found: fmt.Sprintf(
							"%s, which %s cannot do with %s",
							auth,
							s.Release.Title,
							s.Connection.Protocol.Title(),
						),
					},
				}
			}
			c := s.Connection
			switch {
			case c.IKEv2 != nil && c.IKEv2.Auth == "": // the file says what is not read
			case c.IKEv2 != nil && !slices.Contains(s.Ability.IKEv2, c.IKEv2.Auth):
				return miss(string(c.IKEv2.Auth))
			case c.TLS != nil && !slices.Contains(s.Ability.TLS, c.TLS.Auth):
				return miss(string(c.TLS.Auth))
			case c.L2TP != nil && !slices.Contains(s.Ability.Machine, c.L2TP.Auth):
				return miss(string(c.L2TP.Auth))
			}
			return nil
		},
	},
	{
		Code:     "identity-missing",
		Title:    "Device certificate is missing",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldIdentity},
		Why:      "The gateway requires a certificate, and the device has none.",
		Fix: "Import the device's certificate and key, or enable login and password at the " +
			"gateway.",
		Source: "RFC 7296 §2.15, RFC 5216 §2",
		Bad: Example{
			"IKEv2 by certificate, without one",
			func(s *Subject) { s.by(vpn.IKEv2); s.Connection.IKEv2.Auth = vpn.IKEv2Certificate },
		},
		Good: Example{"IKEv2 by login and password", func(s *Subject) { s.by(vpn.IKEv2) }},
		run: func(s *Subject) []Hit {
			if s.Connection.NeedsIdentity() && s.Connection.Identity == nil &&
				!slices.Contains(s.Apart, vpn.FieldIdentity) && !s.unread(vpn.FieldIdentity) {
				return []Hit{{Field: vpn.FieldIdentity, Found: "none"}}
			}
			return nil
		},
	},
	{
		Code:     "authority-missing",
		Title:    "CA of the gateway's certificate is missing",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldAuthority},
		Why: "The TLS tunnel trusts only the CA in its file; without it the gateway is " +
			"rejected, or any gateway is trusted.",
		Fix:    "Add the CA certificate to the gateway's offer.",
		Source: "openvpn(8), option ca",
		Bad: Example{
			"a TLS tunnel without an authority",
			func(s *Subject) { s.by(vpn.TLS); s.Connection.Authority = "" },
		},
		Good: Example{"a TLS tunnel with one", func(s *Subject) { s.by(vpn.TLS) }},
		run: func(s *Subject) []Hit {
			if s.Connection.TLS != nil && s.Connection.Authority == "" &&
				!slices.Contains(s.Apart, vpn.FieldAuthority) && !s.unread(vpn.FieldAuthority) {
				return []Hit{{Field: vpn.FieldAuthority, Found: "none"}}
			}
			return nil
		},
	},
	{
		Code:     "authority-assumed",
		Title:    "CA of the gateway is not in the file",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldAuthority},
		Why:      "Unless the gateway's certificate is from a public CA, the device rejects it.",
		Fix:      "Add the CA certificate to the offer, unless devices already trust it.",
		Source:   "RFC 7296 §3.6",
		Bad: Example{
			"IKEv2 without an authority",
			func(s *Subject) { s.by(vpn.IKEv2); s.Connection.Authority = "" },
		},
		Good: Example{"IKEv2 with one", func(s *Subject) { s.by(vpn.IKEv2) }},
		run: func(s *Subject) []Hit {
			c := s.Connection
			if anchors, _ := s.anchors(); len(anchors) == 0 &&
				!slices.Contains(s.Apart, vpn.FieldAuthority) &&
				(c.SSTP != nil || c.IKEv2 != nil && c.IKEv2.Auth != vpn.IKEv2PSK) {
				return []Hit{{Field: vpn.FieldAuthority, Found: "none in the connection"}}
			}
			return nil
		},
	},
	{
		Code:     "authority-unread",
		Title:    "CA certificate cannot be read",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldAuthority},
		Why:      "The device has no CA to trust, and rejects the gateway.",
		Fix:      "Import the CA certificate again, as PEM.",
		Source:   "RFC 7468 §5",
		Bad: Example{
			"text that is no certificate",
			func(s *Subject) { s.by(vpn.TLS); s.Connection.Authority = "-----BEGIN NOTHING-----" },
		},
		Good: Example{"an authority's certificate", func(s *Subject) { s.by(vpn.TLS) }},
		run: func(s *Subject) []Hit {
			if s.Connection.Authority == "" {
				return nil
			}
			if _, err := pki.Certificates(s.Connection.Authority); err != nil {
				return []Hit{{Field: vpn.FieldAuthority, Found: err.Error()}}
			}
			return nil
		},
	},
	{
		Code:     "name-is-number",
		Title:    "IP address is used, but the certificate is checked by name",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldServer},
		Why:      "Certificates rarely contain the IP address, and people then disable the check.",
		Fix:      "Use the gateway's name, or set the name in its certificate.",
		Source:   "RFC 9525 §6",
		Bad: Example{
			"SSTP to an IP address",
			func(s *Subject) { s.by(vpn.SSTP); s.Connection.Server = "198.51.100.7" },
		},
		Good: Example{"SSTP to a name", func(s *Subject) { s.by(vpn.SSTP) }},
		run: func(s *Subject) []Hit {
			c := s.Connection
			_, number := s.server()
			if number &&
				(c.SSTP != nil && c.SSTP.ServerName == "" || c.IKEv2 != nil &&
					c.IKEv2.Auth != vpn.IKEv2PSK && c.IKEv2.RemoteID == c.Server) {
				return []Hit{{Field: vpn.FieldServer, Found: c.Server}}
			}
			return nil
		},
	},
	{
		Code:     "remote-id-differs",
		Title:    "Remote identity differs from the server name",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldRemoteID},
		Why: "Devices that check the address they connect to, such as Windows, reject the " +
			"gateway's certificate unless it has both names.",
		Fix: "Make sure that the gateway's certificate has both names, or use the same name " +
			"for both.",
		Source: "RFC 7296 §3.5; practice",
		Bad: Example{"another name as identity", func(s *Subject) {
			s.by(vpn.IKEv2)
			s.Connection.IKEv2.RemoteID = "vpn.skerryline.example"
		}},
		Good: Example{"the server's name", func(s *Subject) { s.by(vpn.IKEv2) }},
		run: func(s *Subject) []Hit {
			i := s.Connection.IKEv2
			if expected, _ := vpn.HostProblem(s.Connection.Server); i != nil && expected == "" &&
				i.Auth != vpn.IKEv2PSK && i.RemoteID != "" &&
				!strings.EqualFold(i.RemoteID, s.Connection.Server) {
				return []Hit{
					{
						Field: vpn.FieldRemoteID,
						Found: quote(i.RemoteID) + ", server " + quote(s.Connection.Server),
					},
				}
			}
			return nil
		},
	},
	{
		Code:     "aggressive-mode",
		Title:    "Pre-shared key in IKEv1 aggressive mode",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldGroup},
		Why:      "The gateway sends data that allows offline guessing of the key to anybody.",
		Fix:      "Enable main mode or IKEv2 at the gateway.",
		Source:   "RFC 2409 §5.4; CVE-2002-1623",
		Bad: Example{
			"aggressive mode",
			func(s *Subject) { s.Connection.L2TP.Aggressive = true },
		},
		Good: Example{"main mode", func(s *Subject) { s.Connection.L2TP.Aggressive = false }},
		run: func(s *Subject) []Hit {
			if l := s.Connection.L2TP; l != nil && l.Aggressive &&
				l.Auth != vpn.MachineCertificate {
				return []Hit{
					{Field: vpn.FieldGroup, Found: "aggressive mode, group " + quote(l.Group)},
				}
			}
			return nil
		},
	},
	{
		Code:     "psk-shared",
		Title:    "Pre-shared key is shared by all users of the gateway",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldPSK},
		Why:      "Whoever knows the key can impersonate the gateway.",
		Fix:      "Use certificates, or login and password with EAP.",
		Source:   "RFC 7296 §2.15",
		Bad: Example{"IKEv2 by a pre-shared key alone", func(s *Subject) {
			s.by(vpn.IKEv2)
			s.Connection.IKEv2.Auth = vpn.IKEv2PSK
			s.setKey("kelp-4497-Harbor-mizzen-93-osprey")
		}},
		Good: Example{"IKEv2 by login and password", func(s *Subject) { s.by(vpn.IKEv2) }},
		run: func(s *Subject) []Hit {
			if i := s.Connection.IKEv2; i != nil && i.Auth == vpn.IKEv2PSK {
				return []Hit{{Field: vpn.FieldPSK, Found: "IKEv2 by a pre-shared key"}}
			}
			return nil
		},
	},
	{
		Code:     "pptp-outdated",
		Title:    "PPTP is no longer secure",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldProtocol},
		Why: "A recorded MS-CHAPv2 sign-in reveals the password with little effort, and with " +
			"it all traffic.",
		Fix:    "Use another protocol; keep PPTP only for devices that support nothing else.",
		Source: "RFC 3079 §4; practice since 2012",
		Bad: Example{
			"a connection by PPTP",
			func(s *Subject) { s.by(vpn.PPTP) },
		},
		Good: Example{"a connection by IKEv2", func(s *Subject) { s.by(vpn.IKEv2) }},
		run: func(s *Subject) []Hit {
			if s.Connection.PPTP != nil {
				return []Hit{{Field: vpn.FieldProtocol, Found: "PPTP", Fix: instead(s)}}
			}
			return nil
		},
	},
	{
		Code:     "mppe-missing",
		Title:    "PPTP link without encryption",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldMPPE},
		Why:      "All traffic is sent unencrypted.",
		Fix:      "Enable MS-CHAPv2 with 128-bit MPPE at the gateway.",
		Source:   "RFC 3078, RFC 3079 §3",
		Bad: Example{
			"no strength of MPPE",
			func(s *Subject) { s.by(vpn.PPTP); s.Connection.PPTP.MPPE = nil },
		},
		Good: Example{"128 bits", func(s *Subject) { s.by(vpn.PPTP) }},
		run: func(s *Subject) []Hit {
			if p := s.Connection.PPTP; p != nil && len(p.MPPE) == 0 {
				return []Hit{{Field: vpn.FieldMPPE, Found: "no MPPE"}}
			}
			return nil
		},
	},
	{
		Code:     "mppe-without-keys",
		Title:    "PPP method provides no keys for MPPE",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldPPP},
		Why:      "The link is rejected, or established without encryption.",
		Fix:      "Allow only MS-CHAPv2 or EAP.",
		Source:   "RFC 3079 §3",
		Bad: Example{
			"CHAP with MPPE",
			func(s *Subject) {
				s.by(vpn.PPTP)
				s.Connection.PPTP.PPP = []suite.PPPMethod{suite.CHAP}
			},
		},
		Good: Example{"MS-CHAPv2 with MPPE", func(s *Subject) { s.by(vpn.PPTP) }},
		run: func(s *Subject) []Hit {
			if p := s.Connection.PPTP; p != nil && len(p.MPPE) > 0 {
				hits := s.pppMethods(func(f suite.PPPFact) bool { return !f.Keys }, "makes no keys")
				if len(hits) < len(s.Connection.PPP()) { // the gateway may demand another of them
					for i := range hits {
						hits[i].Severity = vpn.Warning
					}
				}
				return hits
			}
			return nil
		},
	},
	{
		Code:     "mppe-short",
		Title:    "MPPE with short keys",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldMPPE},
		Why:      "Keys of 40 and 56 bits can be found by brute force.",
		Fix:      "Allow only 128 bits.",
		Source:   "RFC 3078 §1",
		Bad: Example{
			"40 bits",
			func(s *Subject) { s.by(vpn.PPTP); s.Connection.PPTP.MPPE = []suite.MPPE{"128", "40"} },
		},
		Good: Example{"128 bits", func(s *Subject) { s.by(vpn.PPTP) }},
		run: func(s *Subject) []Hit {
			if p := s.Connection.PPTP; p != nil {
				for _, m := range p.MPPE {
					if m != "128" {
						return []Hit{{Field: vpn.FieldMPPE, Found: string(m) + " bits"}}
					}
				}
			}
			return nil
		},
	},
	{
		Code:     "tls-version-old",
		Title:    "Outdated TLS versions are allowed",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldMinTLS},
		Why:      "TLS 1.0 and 1.1 are deprecated.",
		Fix:      "Set the minimum version to 1.2.",
		Source:   "RFC 8996",
		Bad: Example{
			"1.0",
			func(s *Subject) { s.by(vpn.TLS); s.Connection.TLS.MinTLS = "1.0" },
		},
		Good: Example{"1.2", func(s *Subject) { s.by(vpn.TLS) }},
		run: func(s *Subject) []Hit {
			if t := s.Connection.TLS; t != nil && (t.MinTLS == "1.0" || t.MinTLS == "1.1") {
				return []Hit{{Field: vpn.FieldMinTLS, Found: "TLS " + t.MinTLS}}
			}
			return nil
		},
	},
	{
		Code:     "cipher-weak",
		Title:    "Weak data cipher or digest",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldCiphers, vpn.FieldDigest},
		Why:      "64-bit block ciphers, MD5 and the like can be broken by a determined attacker.",
		Fix:      "Use AES-256-GCM, or AES-256-CBC with SHA256.",
		Source:   "CVE-2016-6329, RFC 6151",
		Bad: Example{
			"BF-CBC",
			func(s *Subject) {
				s.by(vpn.TLS)
				s.Connection.TLS.Ciphers = []string{"AES-256-GCM", "BF-CBC"}
			},
		},
		Good: Example{"AES-256-GCM", func(s *Subject) { s.by(vpn.TLS) }},
		run:  eachCipher(suite.Weak),
	},
	{
		Code:     "cipher-broken",
		Title:    "Broken data cipher or digest",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldCiphers, vpn.FieldDigest},
		Why:      "The traffic can be read.",
		Fix:      "Use AES-256-GCM, or AES-256-CBC with SHA256.",
		Source:   "practice",
		Bad: Example{
			"none",
			func(s *Subject) { s.by(vpn.TLS); s.Connection.TLS.Ciphers = []string{"none"} },
		},
		Good: Example{"AES-256-GCM", func(s *Subject) { s.by(vpn.TLS) }},
		run:  eachCipher(suite.Broken),
	},
	{
		Code:     "server-unchecked",
		Title:    "Any certificate of the CA is accepted as the gateway's",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldServerName},
		Why:      "Another server with a certificate of the same CA could impersonate the gateway.",
		Fix:      "Set the name in the gateway's certificate.",
		Source:   "openvpn(8), option verify-x509-name",
		Bad: Example{
			"no name",
			func(s *Subject) { s.by(vpn.TLS); s.Connection.TLS.ServerName = "" },
		},
		Good: Example{"a name", func(s *Subject) { s.by(vpn.TLS) }},
		run: func(s *Subject) []Hit {
			if t := s.Connection.TLS; t != nil && t.ServerName == "" &&
				!slices.Contains(s.Apart, vpn.FieldServerName) {
				return []Hit{{Field: vpn.FieldServerName, Found: "no name is checked"}}
			}
			return nil
		},
	},
	{
		Code:     "control-unwrapped",
		Title:    "Control channel is not protected by a key",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldControl},
		Why:      "The gateway responds to everybody, and TLS vulnerabilities are exposed.",
		Fix:      "Add a control-channel key to gateway and offer.",
		Source:   "openvpn(8), option tls-crypt",
		Bad: Example{
			"no key",
			func(s *Subject) { s.by(vpn.TLS); s.Connection.TLS.Control = nil },
		},
		Good: Example{"a key", func(s *Subject) { s.by(vpn.TLS) }},
		run: func(s *Subject) []Hit {
			if t := s.Connection.TLS; t != nil && t.Control == nil &&
				!slices.Contains(s.Apart, vpn.FieldControl) {
				return []Hit{{Field: vpn.FieldControl, Found: "none"}}
			}
			return nil
		},
	},
	{
		Code:     "control-direction",
		Title:    "Control-channel key without direction",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldControl},
		Why: "Gateways usually use the key with a direction (0 there, 1 on the client); " +
			"without it each side drops the other's packets.",
		Fix:    "Set the direction to 1, unless the gateway uses none.",
		Source: "openvpn(8), option key-direction",
		Bad: Example{"an auth key without a direction", func(s *Subject) {
			s.by(vpn.TLS)
			s.Connection.TLS.Control.Kind = vpn.ControlAuth
		}},
		Good: Example{"an auth key with direction 1", func(s *Subject) {
			s.by(vpn.TLS)
			s.Connection.TLS.Control.Kind, s.Connection.TLS.Control.Direction = vpn.ControlAuth, "1"
		}},
		run: func(s *Subject) []Hit {
			if t := s.Connection.TLS; t != nil && t.Control != nil &&
				t.Control.Kind == vpn.ControlAuth &&
				t.Control.Direction == "" {
				return []Hit{{Field: vpn.FieldControl, Found: "both ways"}}
			}
			return nil
		},
	},
	{
		Code:     "tls-over-tcp",
		Title:    "Tunnel over TCP only",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldRemotes},
		Why:      "TCP inside TCP stalls on poor connections: both layers retransmit.",
		Fix:      "Offer UDP as well, and prefer it.",
		Source:   "practice",
		Bad: Example{
			"one remote, TCP",
			func(s *Subject) { s.by(vpn.TLS); s.Connection.TLS.Remotes[0].Transport = vpn.TCP },
		},
		Good: Example{"one remote, UDP", func(s *Subject) { s.by(vpn.TLS) }},
		run: func(s *Subject) []Hit {
			t := s.Connection.TLS
			if t == nil || len(t.Remotes) == 0 ||
				slices.ContainsFunc(
					t.Remotes,
					func(r vpn.Remote) bool { return r.Transport == vpn.UDP },
				) {
				return nil
			}
			return []Hit{
				{
					Field: vpn.FieldRemotes,
					Found: fmt.Sprintf("%d remotes, all over TCP", len(t.Remotes)),
				},
			}
		},
	},
	{
		Code:     "proposals-unset",
		Title:    "Client's weak default proposals are used",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldIKE},
		Why: "The built-in proposals of Windows for IKEv2 reach only group 2, which a " +
			"properly configured gateway rejects.",
		Fix: "Prefer proposals that Windows supports, such as aes256-sha256-modp2048, at the " +
			"gateway.",
		Source: "Microsoft: Set-VpnConnectionIPsecConfiguration",
		Bad: Example{"no proposals, on Windows", func(s *Subject) {
			*s = *soundBy(vpn.IKEv2, vpn.Windows, "11")
			s.Connection.IKEv2.IKE, s.Connection.IKEv2.ESP = nil, nil
		}},
		Good: Example{
			"proposals, on Windows",
			func(s *Subject) { *s = *soundBy(vpn.IKEv2, vpn.Windows, "11") },
		},
		run: func(s *Subject) []Hit {
			if i := s.Connection.IKEv2; i != nil && s.Device != nil &&
				s.Device.Platform == vpn.Windows &&
				len(i.IKE) == 0 {
				return []Hit{{Field: vpn.FieldIKE, Found: "none are set"}}
			}
			return nil
		},
	},
	{
		Code:     "past-the-tunnel",
		Title:    "IPv6 traffic bypasses the tunnel",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldIPv6},
		Why: "With an IPv4-only full tunnel, IPv6 destinations are reached outside the " +
			"tunnel, from the device's own address.",
		Fix:    "Assign IPv6 addresses at the gateway, or block IPv6 with a pattern.",
		Source: "RFC 7359 §3",
		Bad: Example{"a full tunnel without IPv6", func(s *Subject) {
			s.by(vpn.TLS)
			s.Connection.Tunnel, s.Connection.IPv6 = vpn.TunnelFull, ""
		}},
		Good: Example{"one that refuses it", func(s *Subject) {
			s.by(vpn.TLS)
			s.Connection.Tunnel, s.Connection.IPv6 = vpn.TunnelFull, vpn.IPv6Refused
		}},
		run: func(s *Subject) []Hit {
			c := s.Connection
			if (c.TLS != nil || c.IKEv2 != nil) && c.Tunnel == vpn.TunnelFull && c.IPv6 == "" {
				return []Hit{{Field: vpn.FieldIPv6, Found: "full tunnel, IPv6 left outside"}}
			}
			return nil
		},
	},
}

// setKey sets the pre-shared key of IKEv2.
func (s *Subject) setKey(v string) { s.Connection.IKEv2.PSK = secret.New(v) }

func eachCipher(worth suite.Worth) func(*Subject) []Hit {
	return func(s *Subject) []Hit {
		t := s.Connection.TLS
		if t == nil {
			return nil
		}
		var hits []Hit
		aead := true
		for _, name := range t.Ciphers {
			c, ok := suite.FindCipher(suite.DataCiphers, name)
			aead = aead && c.AEAD
			if ok && c.Worth == worth {
				hits = append(hits, Hit{Field: vpn.FieldCiphers, Found: c.Name})
			}
		}
		if d, ok := suite.FindCipher(suite.Digests, t.Digest); ok && d.Worth == worth && !aead {
			hits = append(hits, Hit{Field: vpn.FieldDigest, Found: d.Name})
		}
		return hits
	}
}

// connectRules look at when and how a device connects.
var connectRules = []Rule{
	{
		Code:     "pattern-unmet",
		Title:    "Device does not support what the pattern sets",
		Severity: vpn.Warning,
		Fields: []vpn.Field{
			vpn.FieldConnect,
			vpn.FieldDemand,
			vpn.FieldIPv6,
			vpn.FieldReconnect,
			vpn.FieldUnmetered,
			vpn.FieldProxy,
			vpn.FieldSite,
			vpn.FieldRoutes,
			vpn.FieldDomains,
			vpn.FieldAuthority,
			vpn.FieldIdentity,
			vpn.FieldNAT,
		},
		Why: "The connection is set up without it, and behaves differently from other devices.",
		Fix: "Create a separate pattern for such devices, or choose another protocol or file " +
			"format for this one.",
		Source: "see the table of formats",
		Bad: Example{"on demand, for a keyfile", func(s *Subject) {
			s.Unmet = []plan.Unmet{
				{Field: vpn.FieldConnect, Wanted: "on-demand", Reason: "a keyfile cannot say it"},
			}
		}},
		Good: Example{"by hand, for a keyfile", func(s *Subject) { s.Unmet = nil }},
		run: func(s *Subject) []Hit {
			var hits []Hit
			for _, u := range s.Unmet {
				if u.Field != vpn.FieldPasswordMode { // save-lacking says so
					hits = append(
						hits,
						Hit{Field: u.Field, Found: fmt.Sprintf("%s; %s", u.Wanted, u.Reason)},
					)
				}
			}
			return hits
		},
	},
	{
		Code:     "connects-and-asks",
		Title:    "Connects automatically, but prompts for a password",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldConnect},
		Why:      "The device interrupts people with prompts, or stays disconnected.",
		Fix:      "Save the password, use a certificate, or let people connect manually.",
		Source:   "practice",
		Bad: Example{"always, with a password that is prompted for", func(s *Subject) {
			s.Connection.Connect, s.Connection.PasswordMode = vpn.Always, vpn.PasswordPrompted
		}},
		Good: Example{
			"always, with a saved one",
			func(s *Subject) {
				s.Connection.Connect, s.Connection.PasswordMode = vpn.Always,
					vpn.PasswordSaved
			},
		},
		run: func(s *Subject) []Hit {
			c := s.Connection
			if c.Connect != "" && c.Connect != vpn.ByHand && c.NeedsPassword() &&
				c.PasswordMode == vpn.PasswordPrompted &&
				!slices.Contains(s.Apart, vpn.FieldPassword) {
				return []Hit{
					{Field: vpn.FieldConnect, Found: string(c.Connect) + ", password asked"},
				}
			}
			return nil
		},
	},
	{
		Code:     "probe-outside",
		Title:    "Probe URL responds everywhere",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldDemand},
		Why: "While the probe URL responds, the device stays disconnected; a public URL " +
			"always responds.",
		Fix:    "Use a URL that responds only on the internal network.",
		Source: "Apple: Device Management, URLStringProbe",
		Bad: Example{"the gateway's own public name", func(s *Subject) {
			s.Connection.Connect, s.Connection.Demand = vpn.OnDemand, &vpn.Demand{
				Probe: "https://" + s.Connection.Server + "/",
			}
		}},
		Good: Example{"a page inside", func(s *Subject) {
			s.Connection.Connect, s.Connection.Demand = vpn.OnDemand, &vpn.Demand{
				Probe: "https://timetable.inside.skerryline.example/",
			}
		}},
		run: func(s *Subject) []Hit {
			d := s.Connection.Demand
			if d == nil || d.Probe == "" {
				return nil
			}
			rest := d.Probe[strings.Index(d.Probe, "//")+2:]
			host := strings.FieldsFunc(rest, func(r rune) bool { return r == '/' || r == ':' })
			if len(host) == 0 {
				return nil
			}
			a, err := netip.ParseAddr(host[0])
			if strings.EqualFold(host[0], s.Connection.Server) || err == nil && !a.IsPrivate() {
				return []Hit{{Field: vpn.FieldDemand, Found: quote(d.Probe)}}
			}
			return nil
		},
	},
}
