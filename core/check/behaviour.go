package check

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"wardicon/core/format"
	"wardicon/core/plan"
	"wardicon/core/vpn"
)

// severalAtOnce are the platforms that hold several tunnels side by side; there only
// overlapping routes do harm, which another rule finds.
var severalAtOnce = []vpn.Platform{vpn.Linux, vpn.LinuxDesktop, vpn.OpenWrt}

var reverseDNS = regexp.MustCompile(`^[A-Za-z0-9-]+(\.[A-Za-z0-9-]+)+$`)

// behaviourRules look at when a connection is made, and how its file travels.
var behaviourRules = []Rule{
	{
		Code:     "fallback-missing",
		Title:    "Fallback gateway has no connection on the device",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldFallback},
		Why:      "If the first gateway does not respond, the device has no other connection.",
		Fix: "Add a profile for the second gateway and set it as fallback, or roll the " +
			"pattern out again.",
		Source: "practice",
		Bad: Example{"Tallholm as the second, and no profile to it", func(s *Subject) {
			s.Fallback, s.OwnFile = &vpn.Gateway{
				Meta: vpn.Meta{ID: "g-2"},
				Name: "Tallholm",
			}, "a file for L2TP/IPsec holds one gateway"
		}},
		Good: Example{"the same, with a profile to it", func(s *Subject) {
			s.Fallback, s.OwnFile = &vpn.Gateway{
				Meta: vpn.Meta{ID: "g-2"},
				Name: "Tallholm",
			}, "a file for L2TP/IPsec holds one gateway"
			s.Siblings = []Sibling{{Name: "Skerry Line Tallholm (2)", GatewayID: "g-2"}}
		}},
		run: func(s *Subject) []Hit {
			if s.Fallback == nil || s.OwnFile == "" ||
				slices.ContainsFunc(
					s.Siblings,
					func(o Sibling) bool { return o.GatewayID == s.Fallback.ID },
				) {
				return nil
			}
			return []Hit{{Field: vpn.FieldFallback, Found: s.Fallback.Name + ": " + s.OwnFile}}
		},
	},
	{
		Code:     "demand-empty",
		Title:    "On-demand connection without a condition",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldDemand},
		Why: "The device never connects automatically, or tries to everywhere, depending on " +
			"the system.",
		Fix: "Set the domains or networks for which it connects, or let people connect " +
			"manually.",
		Source: "practice",
		Bad: Example{
			"on demand and nothing else",
			func(s *Subject) { s.by(vpn.IKEv2); s.Connection.Connect = vpn.OnDemand },
		},
		Good: Example{
			"on demand for an internal domain",
			onDemand(vpn.Demand{Domains: []string{"inside.skerryline.example"}}),
		},
		run: func(s *Subject) []Hit {
			if s.Connection.Connect == vpn.OnDemand && s.Connection.Demand.Empty() &&
				len(s.Connection.DemandRules) == 0 {
				return []Hit{{Field: vpn.FieldDemand, Found: "no condition"}}
			}
			return nil
		},
	},
	{
		Code:     "demand-contradicts",
		Title:    "Contradictory on-demand conditions",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldDemand},
		Why:      "The device connects in a loop or not at all.",
		Fix: "Exclude the gateway's name from the triggers, and set conditions only for " +
			"on-demand connections.",
		Source: "practice",
		Bad: Example{
			"the gateway's own name triggers the connection",
			onDemand(vpn.Demand{Domains: []string{"skerryline.example"}}),
		},
		Good: Example{
			"an internal domain triggers it",
			onDemand(vpn.Demand{Domains: []string{"inside.skerryline.example"}}),
		},
		run: func(s *Subject) []Hit {
			d := s.Connection.Demand
			if d.Empty() {
				return nil
			}
			for _, domain := range d.Domains {
				if under(s.Connection.Server, domain) {
					return []Hit{
						{
							Field: vpn.FieldDemand,
							Found: fmt.Sprintf(
								"%s is looked up in %s, which triggers the connection",
								quote(s.Connection.Server),
								quote(domain),
							),
						},
					}
				}
			}
			if c := s.Connection.Connect; c == vpn.ByHand || c == vpn.AtSignIn {
				return []Hit{
					{
						Field: vpn.FieldDemand,
						Found: "conditions, while it connects " + strings.ReplaceAll(
							string(c),
							"-",
							" ",
						),
					},
				}
			}
			return nil
		},
	},
	fileRule(
		format.DemandLacking,
		"Protocol does not support on-demand connections",
		vpn.Warning,
		"The device ignores the rules; people wait for a connection that never comes.",
		"Use IKEv2, which connects on demand, or let people connect manually.",
		"Apple: Device Management, VPN payload reference",
		"OnDemandRules beside L2TP",
		"OnDemandRules with IKEv2",
	),
	fileRule(
		format.DemandUnreached,
		"On-demand rule is never reached",
		vpn.Warning,
		"The device takes the first rule that matches; one without conditions matches every "+
			"network.",
		"Move the rule without conditions to the end.",
		"Apple: Device Management, VPN.OnDemandRulesElement",
		"a rule behind one without conditions",
		"the rule without conditions last",
	),
	{
		Code:     "always-twice",
		Title:    "Two always-on connections on the device",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldConnect},
		Why:      "They replace each other's routes, and the device keeps switching between them.",
		Fix:      "Set one of them to connect manually or on demand.",
		Source:   "practice",
		Bad: Example{"two that are always on, on a phone", func(s *Subject) {
			*s = *soundBy(vpn.IKEv2, vpn.IOS, "18")
			s.Connection.Connect = vpn.Always
			s.Siblings = []Sibling{{Name: "Skerry Line Tallholm", Connect: vpn.Always}}
		}},
		Good: Example{"one always, one by hand", func(s *Subject) {
			*s = *soundBy(vpn.IKEv2, vpn.IOS, "18")
			s.Connection.Connect = vpn.Always
			s.Siblings = []Sibling{{Name: "Skerry Line Tallholm", Connect: vpn.ByHand}}
		}},
		run: func(s *Subject) []Hit {
			alone := []vpn.Connect{vpn.Always, vpn.AtSignIn}
			if !slices.Contains(alone, s.Connection.Connect) ||
				s.Release != nil && slices.Contains(severalAtOnce, s.Release.Row.Platform) {
				return nil
			}
			for _, other := range s.Siblings {
				if slices.Contains(alone, other.Connect) {
					return []Hit{{Field: vpn.FieldConnect, Found: "as is " + quote(other.Name)}}
				}
			}
			return nil
		},
	},
	{
		Code:     "save-lacking",
		Title:    "Device does not save the password",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldPasswordMode},
		Why:      "People are prompted for it although it was meant to be saved.",
		Fix:      "Give people the password, or choose a file format that contains it.",
		Source:   "see the platform table",
		Bad: Example{
			"a password to be saved on Windows 7",
			func(s *Subject) {
				s.onto(vpn.Windows,
					"7")
				s.Connection.PasswordMode = vpn.PasswordSaved
			},
		},
		Good: Example{
			"one that is prompted for there",
			func(s *Subject) {
				s.onto(vpn.Windows,
					"7")
				s.Connection.PasswordMode = vpn.PasswordPrompted
			},
		},
		run: func(s *Subject) []Hit {
			if i := slices.IndexFunc(
				s.Unmet,
				func(u plan.Unmet) bool { return u.Field == vpn.FieldPasswordMode },
			); i >= 0 {
				return []Hit{
					{
						Field: vpn.FieldPasswordMode,
						Found: s.Unmet[i].Wanted + "; " + s.Unmet[i].Reason,
					},
				}
			}
			if s.Ability != nil && s.Ability.Support.Usable() && !s.Ability.SavePassword &&
				s.Connection.PasswordMode == vpn.PasswordSaved &&
				s.Connection.NeedsPassword() {
				return []Hit{
					{
						Field: vpn.FieldPasswordMode,
						Found: "saved, which " + s.Release.Title + " does not do by a file",
					},
				}
			}
			return nil
		},
	},
	{
		Code:     "protocol-going",
		Title:    "Protocol is deprecated",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldProtocol},
		Why:      "A future release of the system removes it, and the connection with it.",
		Fix:      "Plan the change to another protocol now.",
		Source:   "see the platform table",
		Bad: Example{
			"L2TP on Windows 11",
			func(s *Subject) { s.onto(vpn.Windows, "11") },
		},
		Good: Example{
			"IKEv2 on Windows 11",
			func(s *Subject) { *s = *soundBy(vpn.IKEv2, vpn.Windows, "11") },
		},
		run: func(s *Subject) []Hit {
			if s.Ability == nil || s.Ability.Going == "" || !s.Ability.Support.Usable() {
				return nil
			}
			return []Hit{{Field: vpn.FieldProtocol, Found: s.Ability.Going}}
		},
	},
	fileRule(
		format.PasswordAtSignIn,
		"Password is in a script",
		vpn.Error,
		"The password is visible to everybody who can read the script or the process list.",
		"Store the password in the system, and let the script only start the connection.",
		"practice",
		"rasdial with a password in a script that runs at sign-in",
		"rasdial with the name of the connection alone",
	),
	{
		Code:     "identifier-form",
		Title:    "Identifier of the profile is not in reverse-DNS form",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldIdentifier},
		Why: "Systems distinguish profiles by it; one with the same identifier would be " +
			"replaced.",
		Fix:    "Start it with your domain in reverse order.",
		Source: "Apple: Configuration Profile reference, PayloadIdentifier",
		Bad: Example{
			"an identifier without a domain",
			func(s *Subject) { s.Connection.Identifier = "my profile" },
		},
		Good: Example{
			"one that begins with the domain",
			func(s *Subject) { s.Connection.Identifier = "example.skerryline.vpn.norrvik" },
		},
		run: func(s *Subject) []Hit {
			if id := s.Connection.Identifier; id != "" && !reverseDNS.MatchString(id) {
				return []Hit{{Field: vpn.FieldIdentifier, Found: quote(id)}}
			}
			return nil
		},
	},
	fileRule(
		format.IdentifierTwice,
		"Identifier is used twice",
		vpn.Error,
		"The device rejects the profile, or the second part replaces the first one.",
		"Give each part its own identifier and UUID.",
		"Apple: Device Management, common payload keys, PayloadIdentifier and PayloadUUID",
		"two payloads with one PayloadUUID",
		"a PayloadIdentifier for each",
	),
	fileRule(
		format.KeyMissing,
		"Required key is missing",
		vpn.Error,
		"The device rejects the profile.",
		"Add the key.",
		"Apple: Device Management, common payload keys and VPN.IKEv2",
		"a payload without PayloadVersion",
		"a payload with all the keys that are required",
	),
	removalRule(),
	fileRule(
		format.IssuerUnknown,
		"Issuer is not in the file",
		vpn.Error,
		"The device accepts only a gateway certificate of an issuer by this name, and no CA in "+
			"the "+
			"file has it.",
		"Enter the common name of the CA that issued the gateway's certificate.",
		"Apple: Device Management, VPN.IKEv2, ServerCertificateIssuerCommonName",
		"the common name of another CA",
		"the common name of the CA in the file",
	),
	fileRule(
		format.SeveralProtocols,
		"Several protocols are tried in turn",
		vpn.Warning,
		"The device may connect by the weakest of them, or wait for each to fail.",
		"Set the one protocol that the gateway offers.",
		"Microsoft: RASENTRY, dwVpnStrategy",
		"VpnStrategy=2 in a phone book",
		"VpnStrategy=7",
	),
	fileRule(
		format.SecretElsewhere,
		"Secret is for another connection",
		vpn.Error,
		"The client looks for a secret by login or identity, finds none and cannot sign in.",
		"Enter the secret under the login or identity that the connection uses.",
		"swanctl.conf(5), secrets; pppd(8), AUTHENTICATION",
		"an EAP secret for another login",
		"an EAP secret for the login of the connection",
	),
	fileRule(
		format.Unsigned,
		"Profile is not signed",
		vpn.Note,
		"The device shows it as unsigned, and changes in transit cannot be detected.",
		"Sign it, or hand it over through a trusted channel.",
		"Apple: Configuration Profile reference, Sign and encrypt profiles",
		"an Apple profile without a signature",
		"a signed one",
	),
	fileRule(
		format.OpenToOthers,
		"File with a secret is readable by others",
		vpn.Warning,
		"Everybody with an account on this computer can read the secret.",
		"Restrict it to its owner: chmod 600.",
		"practice",
		"a keyfile with a password and mode 0644",
		"one of mode 0600",
	),
	{
		Code:     "parcel-outdated",
		Title:    "Parcel is outdated",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldFile},
		Why: "The device's profile no longer matches the record, and may have stopped " +
			"working.",
		Fix:    "Rebuild the parcel and hand it over.",
		Source: "practice",
		Bad: Example{
			"a parcel from before a change of the key",
			func(s *Subject) { s.Outdated = true },
		},
		Good: Example{"one that was built since", func(s *Subject) { s.Outdated = false }},
		run: func(s *Subject) []Hit {
			if s.Outdated {
				return []Hit{
					{
						Field: vpn.FieldFile,
						Found: "building now would give another parcel than the last one",
					},
				}
			}
			return nil
		},
	},
}

func onDemand(d vpn.Demand) func(*Subject) {
	return func(s *Subject) {
		s.by(vpn.IKEv2)
		s.Connection.Connect, s.Connection.Demand = vpn.OnDemand, &d
	}
}

// under tells whether a name lies in a domain.
func under(name, domain string) bool {
	name, domain = strings.ToLower(
		strings.TrimSuffix(name, "."),
	), strings.ToLower(
		strings.Trim(domain, ".*"),
	)
	return domain != "" && (name == domain || strings.HasSuffix(name, "."+domain))
}

// removalRule tells of profiles that the device removes by itself, the harder the sooner.
func removalRule() Rule {
	r := fileRule(
		format.RemovesItself,
		"Profile removes itself",
		vpn.Error,
		"The device deletes the profile on that day, and the connection with it.",
		"Remove the date, or set a later one.",
		"Apple: Device Management, TopLevel, RemovalDate",
		"a RemovalDate that has passed",
		"a profile without a RemovalDate",
	)
	r.Bad.set = func(s *Subject) {
		s.Notes = []format.Note{{
			Kind:  format.RemovesItself,
			Found: "RemovalDate 2020-01-31",
			At:    format.Position{File: "norrvik.mobileconfig", Line: 9, Column: 1},
			When:  time.Date(2020, time.January, 31, 0, 0, 0, 0, time.UTC),
		}}
	}
	r.run = func(s *Subject) []Hit {
		var hits []Hit
		for _, n := range s.Notes {
			if n.Kind != format.RemovesItself {
				continue
			}
			hit := Hit{Field: vpn.FieldFile, Found: n.Found, At: &n.At, Severity: vpn.Note}
			switch left := n.When.Sub(s.Now); {
			case s.Now.IsZero():
			case n.When.IsZero():
				hit.Severity = vpn.Warning
			case left < 0:
				hit.Severity = vpn.Error
			case left < 30*24*time.Hour:
				hit.Severity = vpn.Warning
			}
			hits = append(hits, hit)
		}
		return hits
	}
	return r
}
