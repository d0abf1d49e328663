package check

import (
	"fmt"
	"slices"
	"strings"

	"wardicon/core/format"
	"wardicon/core/pki"
	"wardicon/core/vpn"
)

// sideRules look at what only the gateway's side can tell: whom it trusts, and where its own
// name is looked up.
var sideRules = []Rule{
	{
		Code:     "client-authority-other",
		Title:    "Gateway does not trust the CA of the device certificate",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldIdentity},
		Why: "The gateway checks devices' certificates against the authorities on its " +
			"record, and none of them issued this one: the sign-in is rejected.",
		Fix: "Issue a certificate of a CA that the gateway trusts, or configure the gateway " +
			"to trust this CA and add it to its record (client_authority).",
		Source: "RFC 7296 §3.6; RFC 5246 §7.4.4",
		Bad: Example{
			"a gateway that trusts another authority",
			withClientAuthority(&sampleOtherPEM),
		},
		Good: Example{
			"a gateway that trusts the one that issued it",
			withClientAuthority(&sampleAuthority),
		},
		run: func(s *Subject) []Hit {
			if g := s.record(); g != nil && g.ClientAuthority != "" {
				return s.untrusted(g.ClientAuthority)
			}
			return nil
		},
	},
	{
		Code:     "client-authority-unknown",
		Title:    "Unknown whether the gateway trusts the device certificate",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldIdentity},
		Why: "The record does not say which authorities the gateway checks devices' " +
			"certificates against, and the authority of its own certificate did not issue this " +
			"one.",
		Fix:    "Add the CAs that the gateway trusts to its record (client_authority).",
		Source: "practice",
		Bad: Example{
			"an authority of the gateway's that did not issue the device's certificate",
			func(s *Subject) {
				withClientAuthority(&sampleOtherPEM)(s)
				s.Gateway.ClientAuthority, s.Gateway.Offers.IKEv2.Authority = "", sampleOtherPEM
			},
		},
		Good: Example{"the same authority for both", func(s *Subject) {
			withClientAuthority(&sampleAuthority)(s)
			s.Gateway.ClientAuthority, s.Gateway.Offers.IKEv2.Authority = "", sampleAuthority
		}},
		run: func(s *Subject) []Hit {
			if g := s.record(); g != nil && g.ClientAuthority == "" &&
				g.Offers.Authority(s.Connection.Protocol) != "" {
				return s.untrusted(g.Offers.Authority(s.Connection.Protocol))
			}
			return nil
		},
	},
	{
		Code:     "gateway-name-inside",
		Title:    "Gateway's name is in an internal domain",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldDomains},
		Why: "Names of that domain are looked up by the internal DNS servers, which are " +
			"reachable only through the connection: after an interruption the gateway's name no " +
			"longer resolves.",
		Fix: "Use a more specific internal domain, such as inside.skerryline.example, or a " +
			"gateway name outside of it.",
		Source: "RFC 8598 §3; practice",
		Bad: Example{
			"norrvik.skerryline.example and the internal domain skerryline.example",
			func(s *Subject) { s.Connection.Domains = []string{"skerryline.example"} },
		},
		Good: Example{
			"the internal domain inside.skerryline.example",
			func(s *Subject) { s.Connection.Domains = []string{"inside.skerryline.example"} },
		},
		run: func(s *Subject) []Hit {
			// The scripts for Windows except the gateway's name.
			if len(s.Connection.DNS) == 0 ||
				s.Release != nil && s.Release.Row.Platform == vpn.Windows {
				return nil
			}
			i := slices.IndexFunc(
				s.Connection.Domains,
				func(d string) bool { return under(s.Connection.Server, d) },
			)
			if i < 0 {
				return nil
			}
			return []Hit{
				{
					Field: vpn.FieldDomains,
					Found: fmt.Sprintf(
						"%s lies in %s",
						quote(s.Connection.Server),
						quote(s.Connection.Domains[i]),
					),
				},
			}
		},
	},
	{
		Code:     "realm-near-host",
		Title:    "Realm and the gateway's domain differ by one character",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldRealm},
		Why:      "One of them is mistyped, or they will be confused.",
		Fix:      "Compare both with the gateway's configuration.",
		Source:   "practice",
		Bad: Example{
			"skerrylin.example and norrvik.skerryline.example",
			func(s *Subject) { s.Gateway.SignIn.Realm = "skerrylin.example" },
		},
		Good: Example{
			"crew.skerryline.example",
			func(s *Subject) { s.Gateway.SignIn.Realm = "crew.skerryline.example" },
		},
		run: func(s *Subject) []Hit {
			g := s.record()
			if g == nil || g.SignIn.Realm == "" || g.SignIn.Form == vpn.LoginPlain {
				return nil
			}
			realm, host := strings.ToLower(g.SignIn.Realm), strings.ToLower(g.Address)
			for domain := host; domain != ""; _, domain, _ = strings.Cut(domain, ".") {
				if strings.Contains(domain, ".") && format.OneApart(realm, domain) {
					return []Hit{
						{
							Field: vpn.FieldRealm,
							Found: fmt.Sprintf("%s and %s", quote(g.SignIn.Realm), quote(domain)),
						},
					}
				}
			}
			return nil
		},
	},
}

// withClientAuthority lets a sound IKEv2 connection by certificate meet a gateway that trusts
// an authority.
func withClientAuthority(authority *string) func(*Subject) {
	return func(s *Subject) {
		s.by(vpn.IKEv2)
		s.Connection.IKEv2.Auth = vpn.IKEv2Certificate
		s.Connection.Identity = &vpn.Identity{Certificate: sampleClientPEM}
		s.Gateway.Offers.IKEv2.Auth = []vpn.IKEv2Auth{vpn.IKEv2Certificate}
		s.Gateway.ClientAuthority = *authority
	}
}

// untrusted tells that the device's certificate leads to none of some authorities.
func (s *Subject) untrusted(authorities string) []Hit {
	c := s.Connection
	if !c.NeedsIdentity() || c.Identity == nil {
		return nil
	}
	chain, err := pki.Certificates(c.Identity.Certificate)
	if err != nil || len(chain) == 0 {
		return nil // said elsewhere
	}
	anchors, err := pki.Certificates(authorities)
	if err != nil {
		return nil
	}
	if links, broken := pki.Path(
		chain[0],
		append(chain[1:], anchors...),
		anchors,
	); broken == pki.IssuerMissing ||
		broken == pki.IssuerWrong {
		last := links[len(links)-1]
		return []Hit{
			{
				Field: vpn.FieldIdentity,
				Found: fmt.Sprintf(
					"%s is issued by %s",
					quote(last.Subject.CommonName),
					quote(last.Issuer.CommonName),
				),
			},
		}
	}
	return nil
}
