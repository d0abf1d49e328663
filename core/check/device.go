package check

import (
	"fmt"
	"strings"

	"wardicon/core/platform"
	"wardicon/core/vpn"
)

var deviceRules = []Rule{
	{
		Code:     "device-offboarded",
		Title:    "Device is offboarded",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldOffboarded},
		Why: "It is lost, or its person has left: parcels for it would get into the wrong " +
			"hands.",
		Fix:    "Use another device; or, if this one is back, set its record to “in use”.",
		Source: "practice",
		Bad: Example{
			"a laptop that was lost",
			func(s *Subject) { s.Device.Offboarded = vpn.Lost },
		},
		Good: Example{"a laptop in use", func(s *Subject) { s.Device.Offboarded = "" }},
		run: func(s *Subject) []Hit {
			if s.Device == nil || s.Device.Offboarded == "" {
				return nil
			}
			return []Hit{{
				Field: vpn.FieldOffboarded,
				Found: map[vpn.OffboardReason]string{
					vpn.Lost: s.Device.Name + " is lost",
					vpn.Left: "the person of " + s.Device.Name +
						" has left",
					vpn.Retired: s.Device.Name + " is retired",
				}[s.Device.Offboarded],
			}}
		},
	},
	{
		Code:     "offer-missing",
		Title:    "Gateway offers no protocol",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldProtocol},
		Why:      "The device has nothing to connect with.",
		Fix:      "Add an offer to the gateway.",
		Source:   "practice",
		Bad:      Example{"a gateway without an offer", func(s *Subject) { s.Offered = false }},
		Good:     Example{"a gateway with one", func(s *Subject) { s.Offered = true }},
		run: func(s *Subject) []Hit {
			if s.Gateway != nil && !s.Offered {
				found := s.Gateway.Name + " has no offer"
				if s.Gateway.Offers != (vpn.Offers{}) {
					found = s.Gateway.Name + " has no offer among the protocols that are wanted"
				}
				return []Hit{{Field: vpn.FieldProtocol, Found: found}}
			}
			return nil
		},
	},
	{
		Code:     "account-missing",
		Title:    "No account at this gateway",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldAccount},
		Why:      "The person has nothing to sign in with.",
		Fix: "Add an account, let one of the person's accounts be valid at this gateway, or " +
			"set another account.",
		Source: "practice",
		Bad:    Example{"a person without an account", func(s *Subject) { s.Account = nil }},
		Good: Example{
			"a person with one",
			func(s *Subject) { s.Account.GatewayIDs = []string{s.Gateway.ID} },
		},
		run: func(s *Subject) []Hit {
			if s.Gateway != nil && s.Account == nil &&
				(s.Connection.NeedsPassword() || !s.Connection.Settings()) {
				return []Hit{
					{
						Field: vpn.FieldAccount,
						Found: fmt.Sprintf(
							"no account of %s, or not the one that is set, is valid at %s",
							s.Person.Name,
							s.Gateway.Name,
						),
					},
				}
			}
			return nil
		},
	},
	{
		Code:     "protocol-gone",
		Title:    "Release no longer supports the protocol",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldRelease},
		Why:      "The setting no longer exists on the device.",
		Fix:      "Use another protocol for this device.",
		Source:   "Android Open Source Project: release notes of Android 12",
		Bad: Example{
			"L2TP/IPsec on Android 14",
			func(s *Subject) { s.onto(vpn.Android, "14") },
		},
		Good: Example{"L2TP/IPsec on Android 11", func(s *Subject) {
			s.onto(vpn.Android, "11")
			s.setPSK("kelp-4497-Harbor-mizzen-93-osprey")
			s.setPassword("tern-88-Gannet-orbit-luff-3497")
		}},
		run: func(s *Subject) []Hit { return s.unsupported(vpn.FieldRelease, platform.Gone) },
	},
	{
		Code:     "protocol-never",
		Title:    "Platform does not support the protocol",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldPlatform},
		Why:      "The device cannot establish such a connection without additional software.",
		Fix:      "Use another protocol for this device.",
		Source:   "vendors' references, see the platform table",
		Bad: Example{
			"L2TP/IPsec on a desk phone",
			func(s *Subject) { s.onto(vpn.DeskPhone, "1") },
		},
		Good: Example{
			"L2TP/IPsec on a Linux desktop",
			func(s *Subject) { s.onto(vpn.LinuxDesktop, "1.42") },
		},
		run: func(s *Subject) []Hit {
			return s.unsupported(vpn.FieldPlatform,
				platform.Never, platform.Rarely)
		},
	},
	{
		Code:     "release-unknown",
		Title:    "Release is unknown",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldRelease},
		Why:      "The plan is based on another release and may be wrong.",
		Fix:      "Try it on one device first; correct the release if it was mistyped.",
		Source:   "practice",
		Bad: Example{
			"Linux desktop 0.9",
			func(s *Subject) { s.onto(vpn.LinuxDesktop, "0.9") },
		},
		Good: Example{
			"Linux desktop 1.42.4",
			func(s *Subject) { s.onto(vpn.LinuxDesktop, "1.42.4") },
		},
		run: func(s *Subject) []Hit {
			if s.Release != nil && s.Release.Title != "" && !s.Release.Exact {
				hit := Hit{
					Field: vpn.FieldRelease,
					Found: fmt.Sprintf("%s, judged by %s", s.Release.Title, s.Release.By),
				}
				if s.Release.Row.Platform == vpn.LinuxDesktop ||
					s.Release.Row.Platform == vpn.Linux {
					hit.Fix = "Write the distribution with its release, such as debian 12 or " +
						"ubuntu 24.04, or the version of what connects."
				}
				return []Hit{hit}
			}
			return nil
		},
	},
	{
		Code:     "client-needed",
		Title:    "Device needs additional packages or a plugin",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldPlatform},
		Why:      "Without it the device imports the file but cannot connect.",
		Fix:      "Install the named packages before the profile.",
		Source:   "see the platform table",
		Bad: Example{
			"OpenWrt without word of its packages",
			func(s *Subject) { s.onto(vpn.OpenWrt, "23.05"); s.Device.Name = "Ticket hall router" },
		},
		Good: Example{
			"a Linux desktop, whose parcel names the plugin",
			func(s *Subject) { s.onto(vpn.LinuxDesktop, "1.42") },
		},
		run: func(s *Subject) []Hit {
			if s.Ability != nil && s.Ability.Support == platform.Packages {
				return []Hit{
					{Field: vpn.FieldPlatform, Found: s.Release.Title + " " + s.Ability.Note},
				}
			}
			return nil
		},
	},
	{
		Code:     "split-lacking",
		Title:    "Device does not support split tunnels",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldTunnel},
		Why: "With a split tunnel the device reaches only the network of its tunnel address; " +
			"other networks behind the gateway stay unreachable.",
		Fix:    "Use a full tunnel on this device, or another protocol.",
		Source: "Apple: Device Management, VPN payload reference",
		Bad: Example{
			"a split tunnel on macOS",
			func(s *Subject) { s.onto(vpn.MacOS, "14"); s.Connection.Tunnel = vpn.TunnelSplit },
		},
		Good: Example{
			"a full tunnel on macOS",
			func(s *Subject) { s.onto(vpn.MacOS, "14"); s.Connection.DNS = s.Gateway.DNS },
		},
		run: func(s *Subject) []Hit {
			if byGateway := s.Gateway == nil && s.Connection.Protocol == vpn.IKEv2; !byGateway &&
				s.Ability != nil && s.Ability.Support.Usable() &&
				s.Connection.Tunnel == vpn.TunnelSplit &&
				!s.Ability.SplitRoutes {
				return []Hit{
					{Field: vpn.FieldTunnel, Found: fmt.Sprintf("split, on %s", s.Release.Title)},
				}
			}
			return nil
		},
	},
	{
		Code:     "dns-lacking",
		Title:    "Internal DNS servers cannot be set on the device",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldDNS},
		Why: "Internal names resolve only if the gateway assigns its DNS server on " +
			"connecting.",
		Fix:    "Configure the gateway to assign its DNS servers (IPCP, RFC 1877).",
		Source: "RFC 1877 §1.1",
		Bad: Example{
			"ChromeOS with internal domains",
			func(s *Subject) { s.onto(vpn.ChromeOS, "120") },
		},
		Good: Example{
			"a Linux desktop with internal domains",
			func(s *Subject) { s.onto(vpn.LinuxDesktop, "1.42") },
		},
		run: func(s *Subject) []Hit {
			if s.Ability != nil && s.Ability.Support.Usable() && !s.Ability.SetDNS &&
				s.Gateway != nil &&
				len(s.Gateway.Domains) > 0 {
				return []Hit{
					{
						Field: vpn.FieldDNS,
						Found: fmt.Sprintf(
							"%s, with internal domains at %s",
							s.Release.Title,
							s.Gateway.Name,
						),
					},
				}
			}
			return nil
		},
	},
	{
		Code:     "nat-restart",
		Title:    "Gateway behind NAT: needs a registry setting and a restart",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldNAT},
		Why: "Windows rejects an L2TP/IPsec gateway behind NAT until a registry value is set " +
			"and the computer is restarted.",
		Fix:    "The install script sets the value; tell the person to restart once.",
		Source: "Microsoft: support article 926179",
		Bad: Example{
			"such a gateway, for Windows",
			func(s *Subject) { s.onto(vpn.Windows, "11"); s.Connection.L2TP.BehindNAT = true },
		},
		Good: Example{
			"such a gateway, for Linux",
			func(s *Subject) { s.Connection.L2TP.BehindNAT = true },
		},
		run: func(s *Subject) []Hit {
			if s.Ability != nil && s.Ability.NATSetting && s.Connection.L2TP != nil &&
				s.Connection.L2TP.BehindNAT {
				return []Hit{{Field: vpn.FieldNAT, Found: s.Release.Title + ", gateway behind NAT"}}
			}
			return nil
		},
	},
	{
		Code:     "scope-lacking",
		Title:    "Device does not support connections for all users",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldScope},
		Why:      "The file is rejected, or the connection exists for one user only.",
		Fix:      "Set the profile's scope to the person.",
		Source:   "Apple: Device Management, PayloadScope",
		Bad: Example{
			"for the machine, on iOS",
			func(s *Subject) { s.onto(vpn.IOS, "17"); s.Connection.Scope = vpn.ScopeMachine },
		},
		Good: Example{
			"for the machine, on Linux",
			func(s *Subject) { s.Connection.Scope = vpn.ScopeMachine },
		},
		run: func(s *Subject) []Hit {
			if s.Ability != nil && s.Ability.Support.Usable() &&
				s.Connection.Scope == vpn.ScopeMachine &&
				!s.Ability.MachineWide {
				return []Hit{
					{Field: vpn.FieldScope, Found: fmt.Sprintf("machine, on %s", s.Release.Title)},
				}
			}
			return nil
		},
	},
}

func (s *Subject) unsupported(field vpn.Field, kinds ...platform.Support) []Hit {
	if s.Ability == nil || s.Release == nil {
		return nil
	}
	for _, kind := range kinds {
		if s.Ability.Support == kind {
			found := fmt.Sprintf("%s and %s", s.Connection.Protocol.Title(), s.Release.Title)
			if s.Ability.Note != "" {
				found += ": " + s.Ability.Note
			}
			return []Hit{{Field: field, Found: found, Fix: instead(s)}}
		}
	}
	return nil
}

// instead names the protocols that the device has in the place of this one: those that
// the gateway offers first.
func instead(s *Subject) (fix string) {
	var here, elsewhere []string
	if s.Release == nil {
		return ""
	}
	for _, p := range s.Release.Instead(s.Connection.Protocol) {
		text := p.Title() + " (" + string(s.Release.Ability(p).Support) + ")"
		if s.Gateway != nil && s.Gateway.Offers.Has(p) {
			here = append(here, text)
		} else {
			elsewhere = append(elsewhere, text)
		}
	}
	switch {
	case len(here) > 0:
		return s.Release.Title + " has " + strings.Join(
			here,
			", ",
		) + ", which " + s.Gateway.Name + " offers; use one of them for this device."
	case len(elsewhere) > 0:
		return s.Release.Title + " has " + strings.Join(
			elsewhere,
			", ",
		) + "; use one of them for this device."
	}
	return ""
}
