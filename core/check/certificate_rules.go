package check

import (
	"crypto"
	"crypto/rsa"
	"crypto/x509"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"wardicon/core/pki"
	"wardicon/core/vpn"
)

var both = []vpn.Field{vpn.FieldAuthority, vpn.FieldIdentity, vpn.FieldServer}

var certificateRules = []Rule{
	{
		Code:     "certificate-expired",
		Title:    "Certificate has expired",
		Severity: vpn.Error,
		Fields:   both,
		Why:      "The other side rejects the connection.",
		Fix:      "Renew it, and rebuild the parcel.",
		Source:   "RFC 5280 §4.1.2.5",
		Bad: certificateExample("a client certificate of last year", func() []Held {
			return []Held{
				authority(sampleRoot()),
				client(
					altered(
						sampleClient,
						func(c *x509.Certificate) { c.NotAfter = sampleNow.AddDate(0, -1, 0) },
					),
				),
			}
		}),
		Good: certificateExample(
			"one that is valid for months",
			func() []Held { return []Held{authority(sampleRoot()), client(sampleClient())} },
		),
		run: each(func(s *Subject, h Held, c *x509.Certificate) []Hit {
			if !s.Now.IsZero() && s.Now.After(c.NotAfter) {
				return []Hit{h.hit(c, "expired on %s", day(c.NotAfter))}
			}
			return nil
		}),
	},
	{
		Code:     "certificate-not-yet",
		Title:    "Certificate is not valid yet",
		Severity: vpn.Error,
		Fields:   both,
		Why:      "It is rejected until its first day; often a clock is wrong.",
		Fix:      "Wait for that day, or correct the issuer's clock and reissue it.",
		Source:   "RFC 5280 §4.1.2.5",
		Bad: certificateExample("a certificate that begins next month", func() []Held {
			return []Held{
				authority(sampleRoot()),
				client(
					altered(
						sampleClient,
						func(c *x509.Certificate) { c.NotBefore = sampleNow.AddDate(0, 1, 0) },
					),
				),
			}
		}),
		Good: certificateExample(
			"one that has begun",
			func() []Held { return []Held{authority(sampleRoot()), client(sampleClient())} },
		),
		run: each(func(s *Subject, h Held, c *x509.Certificate) []Hit {
			if !s.Now.IsZero() && s.Now.Before(c.NotBefore) {
				return []Hit{h.hit(c, "begins on %s", day(c.NotBefore))}
			}
			return nil
		}),
	},
	{
		Code:     "certificate-expiring",
		Title:    "Certificate expires within 30 days",
		Severity: vpn.Warning,
		Fields:   both,
		Why:      "On that day the connection stops working without warning.",
		Fix:      "Renew it now and hand over the rebuilt parcel.",
		Source:   "practice",
		Bad: certificateExample("a certificate with ten days left", func() []Held {
			return []Held{
				authority(sampleRoot()),
				client(
					altered(
						sampleClient,
						func(c *x509.Certificate) { c.NotAfter = sampleNow.AddDate(0, 0, 10) },
					),
				),
			}
		}),
		Good: certificateExample(
			"one with months left",
			func() []Held { return []Held{authority(sampleRoot()), client(sampleClient())} },
		),
		run: each(func(s *Subject, h Held, c *x509.Certificate) []Hit {
			if left := c.NotAfter.Sub(s.Now); !s.Now.IsZero() && left >= 0 && left < expiringSoon {
				return []Hit{
					h.hit(c, "expires on %s, in %d days", day(c.NotAfter), int(left.Hours()/24)),
				}
			}
			return nil
		}),
	},
	{
		Code:     "issuer-expires-first",
		Title:    "Issuer expires before the certificate",
		Severity: vpn.Warning,
		Fields:   both,
		Why:      "When the issuer expires, the certificate is no longer accepted.",
		Fix:      "Renew the issuer first.",
		Source:   "RFC 5280 §6.1.3",
		Bad: certificateExample("a certificate that outlives its authority", func() []Held {
			return []Held{
				authority(
					altered(
						sampleRoot,
						func(c *x509.Certificate) { c.NotAfter = sampleNow.AddDate(0, 2, 0) },
					),
				),
				client(sampleClient()),
			}
		}),
		Good: certificateExample(
			"an authority that outlives it",
			func() []Held { return []Held{authority(sampleRoot()), client(sampleClient())} },
		),
		run: leaves(func(s *Subject, h Held) []Hit {
			links, _ := s.path(h)
			for i := 1; i < len(links); i++ {
				if links[i].NotAfter.Before(links[i-1].NotAfter) {
					return []Hit{
						h.hit(
							links[i],
							"expires on %s, %s on %s",
							day(links[i].NotAfter),
							called(links[i-1]),
							day(links[i-1].NotAfter),
						),
					}
				}
			}
			return nil
		}, pki.ForClient, pki.ForServer, pki.ForAny),
	},
	{
		Code:     "name-not-certified",
		Title:    "Gateway's certificate does not cover the name that devices connect to",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldServer},
		Why: "Devices compare the names and reject the gateway, or people learn to disable " +
			"the check.",
		Fix: "Have the certificate issued with this subject alternative name, or connect to " +
			"a name that it has.",
		Source: "RFC 9525 §6.3",
		Bad: certificateExample("a certificate for another name", func() []Held {
			return []Held{
				authority(sampleRoot()),
				server(
					altered(
						sampleServer,
						func(c *x509.Certificate) {
							c.DNSNames = []string{"tallholm.skerryline.example"}
						},
					),
				),
			}
		}),
		Good: certificateExample(
			"one with the gateway's name",
			func() []Held { return []Held{authority(sampleRoot()), server(sampleServer())} },
		),
		run: leaves(func(s *Subject, h Held) []Hit {
			c := h.leaf()
			if len(pki.Names(c)) == 0 {
				return nil // common-name-only says so
			}
			for _, name := range s.servers() {
				if !pki.Covers(c, name) {
					return []Hit{
						h.hit(
							c,
							"is good for %s, not for %s",
							strings.Join(pki.Names(c), ", "),
							quote(name),
						),
					}
				}
			}
			return nil
		}, pki.ForServer),
	},
	{
		Code:     "common-name-only",
		Title:    "Certificate without subject alternative names",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldServer, vpn.FieldIdentity},
		Why:      "Current systems ignore the common name; for them the certificate has no name.",
		Fix:      "Have it issued with its names as subjectAltName.",
		Source:   "RFC 9525 §2; RFC 7296 §3.5",
		Bad: certificateExample("a gateway's certificate with a common name alone", func() []Held {
			return []Held{
				authority(sampleRoot()),
				server(
					altered(
						sampleServer,
						func(c *x509.Certificate) { c.DNSNames, c.IPAddresses = nil, nil },
					),
				),
			}
		}),
		Good: certificateExample(
			"one with alternative names",
			func() []Held { return []Held{authority(sampleRoot()), server(sampleServer())} },
		),
		run: leaves(func(_ *Subject, h Held) []Hit {
			if len(pki.Names(h.leaf())) == 0 {
				return []Hit{h.hit(h.leaf(), "has no alternative name")}
			}
			return nil
		}, pki.ForServer),
	},
	{
		Code:     "server-usage-missing",
		Title:    "Certificate lacks the server usage",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldServer},
		Why:      "Devices require the usage serverAuth and reject the gateway.",
		Fix:      "Have it issued with the extended key usage serverAuth.",
		Source:   "RFC 5280 §4.2.1.12",
		Bad: certificateExample("a client's certificate at the gateway", func() []Held {
			return []Held{
				authority(sampleRoot()),
				server(
					altered(
						sampleServer,
						func(c *x509.Certificate) {
							c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}
						},
					),
				),
			}
		}),
		Good: certificateExample(
			"one for servers",
			func() []Held { return []Held{authority(sampleRoot()), server(sampleServer())} },
		),
		run: leaves(
			func(_ *Subject, h Held) []Hit {
				return usage(h,
					x509.ExtKeyUsageServerAuth, "serverAuth")
			},
			pki.ForServer,
		),
	},
	{
		Code:     "client-usage-missing",
		Title:    "Certificate lacks the client usage",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldIdentity},
		Why:      "Gateways that require the usage clientAuth reject the device.",
		Fix:      "Have it issued with the extended key usage clientAuth.",
		Source:   "RFC 5280 §4.2.1.12",
		Bad: certificateExample("a server's certificate on a device", func() []Held {
			return []Held{
				authority(sampleRoot()),
				client(
					altered(
						sampleClient,
						func(c *x509.Certificate) {
							c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}
						},
					),
				),
			}
		}),
		Good: certificateExample(
			"one for clients",
			func() []Held { return []Held{authority(sampleRoot()), client(sampleClient())} },
		),
		run: leaves(
			func(_ *Subject, h Held) []Hit {
				return usage(h,
					x509.ExtKeyUsageClientAuth, "clientAuth")
			},
			pki.ForClient,
		),
	},
	{
		Code:     "key-usage-missing",
		Title:    "Key usage does not fit the purpose",
		Severity: vpn.Warning,
		Fields:   both,
		Why:      "Strict peers check the key usage and reject it.",
		Fix:      "Have it issued with digitalSignature, a CA certificate with keyCertSign.",
		Source:   "RFC 5280 §4.2.1.3",
		Bad: certificateExample("a client certificate for encipherment alone", func() []Held {
			return []Held{
				authority(sampleRoot()),
				client(
					altered(
						sampleClient,
						func(c *x509.Certificate) { c.KeyUsage = x509.KeyUsageKeyEncipherment },
					),
				),
			}
		}),
		Good: certificateExample(
			"one for signatures",
			func() []Held { return []Held{authority(sampleRoot()), client(sampleClient())} },
		),
		run: each(func(_ *Subject, h Held, c *x509.Certificate) []Hit {
			want, name := x509.KeyUsageDigitalSignature, "digitalSignature"
			if c.IsCA {
				want, name = x509.KeyUsageCertSign, "keyCertSign"
			}
			if c.KeyUsage != 0 && c.KeyUsage&want == 0 {
				return []Hit{h.hit(c, "has a key usage without %s", name)}
			}
			return nil
		}),
	},
	{
		Code:     "chain-incomplete",
		Title:    "Certificate chain is incomplete",
		Severity: vpn.Error,
		Fields:   both,
		Why:      "The other side cannot build the chain to a CA that it trusts.",
		Fix:      "Add the intermediate certificates, from the leaf upwards.",
		Source:   "RFC 5280 §6.1; RFC 7296 §3.6",
		Bad: certificateExample("a server's certificate without its authority", func() []Held {
			return []Held{
				authority(
					altered(
						sampleRoot,
						func(c *x509.Certificate) { c.RawSubject = []byte("another") },
					),
				),
				server(sampleServer()),
			}
		}),
		Good: certificateExample(
			"one with its authority",
			func() []Held { return []Held{authority(sampleRoot()), server(sampleServer())} },
		),
		run: leaves(func(s *Subject, h Held) []Hit {
			if anchors, _ := s.anchors(); len(anchors) == 0 {
				return nil
			}
			if links, broken := s.path(h); broken == pki.IssuerMissing {
				if h.Usage == pki.ForClient && len(links) == len(h.Chain) {
					return nil // the gateway knows its own authorities; the device's may be another
				}
				end := links[len(links)-1]
				return []Hit{
					h.hit(end, "is by %s, which is not there", quote(end.Issuer.CommonName)),
				}
			}
			return nil
		}, pki.ForClient, pki.ForServer),
	},
	{
		Code:     "authority-wrong",
		Title:    "CA of that name did not sign the certificate",
		Severity: vpn.Error,
		Fields:   both,
		Why: "The CA has the same name but did not sign the certificate, and the connection " +
			"is rejected.",
		Fix: "Use the CA that issued it; after a renewal of the CA this is often the older " +
			"one.",
		Source: "RFC 5280 §6.1.3",
		Bad: certificateExample(
			"an authority that was made again under its old name",
			func() []Held { return []Held{authority(sampleOther()), client(sampleClient())} },
		),
		Good: certificateExample(
			"the authority that made it",
			func() []Held { return []Held{authority(sampleRoot()), client(sampleClient())} },
		),
		run: broken(
			pki.IssuerWrong,
			"is by %s, and the one of that name that is here did not sign it",
		),
	},
	{
		Code:     "leaf-as-authority",
		Title:    "End-entity certificate given as CA",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldAuthority},
		Why: "It must not issue certificates; devices reject it as a CA, or prompt people to " +
			"trust it manually.",
		Fix:    "Use the certificate of the CA that issued it.",
		Source: "RFC 5280 §4.2.1.9",
		Bad: certificateExample(
			"the gateway's own certificate as authority",
			func() []Held { return []Held{authority(sampleServer())} },
		),
		Good: certificateExample(
			"its authority",
			func() []Held { return []Held{authority(sampleRoot())} },
		),
		run: leaves(func(_ *Subject, h Held) []Hit {
			if c := h.leaf(); !c.IsCA &&
				(len(c.ExtKeyUsage) > 0 || c.KeyUsage != 0 &&
					c.KeyUsage&x509.KeyUsageCertSign == 0) {
				return []Hit{h.hit(c, "is for %s", pki.UsageOf(c))}
			}
			return nil
		}, pki.ForAuthority),
	},
	{
		Code:     "authority-without-flag",
		Title:    "CA certificate without the CA flag",
		Severity: vpn.Error,
		Fields:   both,
		Why: "A certificate without the basic constraint CA must not issue certificates; " +
			"current systems reject what it signed.",
		Fix:    "Reissue the CA certificate with basicConstraints CA:TRUE.",
		Source: "RFC 5280 §4.2.1.9",
		Bad: certificateExample("an authority without basic constraints", func() []Held {
			return []Held{
				authority(
					altered(
						sampleRoot,
						func(c *x509.Certificate) {
							c.IsCA, c.BasicConstraintsValid,
								c.KeyUsage = false, false, 0
						},
					),
				),
			}
		}),
		Good: certificateExample(
			"an authority with them",
			func() []Held { return []Held{authority(sampleRoot())} },
		),
		run: func(s *Subject) []Hit {
			var hits []Hit
			for _, h := range s.held() {
				if c := h.leaf(); h.Usage == pki.ForAuthority && !c.IsCA &&
					len(c.ExtKeyUsage) == 0 &&
					(c.KeyUsage == 0 || c.KeyUsage&x509.KeyUsageCertSign != 0) {
					hits = append(hits, h.hit(c, "has no basic constraint CA"))
				}
			}
			return append(
				hits,
				broken(
					pki.NotAuthority,
					"is issued by %s, which must not issue certificates",
				)(
					s,
				)...)
		},
	},
	{
		Code:     "path-too-long",
		Title:    "Path length constraint is exceeded",
		Severity: vpn.Error,
		Fields:   both,
		Why:      "A CA above limits the number of CAs below it; there are more.",
		Fix: "Issue from a CA closer to the root, or reissue the upper CA with a greater " +
			"path length.",
		Source: "RFC 5280 §4.2.1.9",
		Bad: certificateExample("two authorities below one that allows none", func() []Held {
			return []Held{
				{
					Usage: pki.ForAuthority,
					Field: vpn.FieldAuthority,
					Chain: []*x509.Certificate{sampleDeep()[2]},
				},
				client(sampleDeep()[0], sampleDeep()[1]),
			}
		}),
		Good: certificateExample(
			"a certificate right below its authority",
			func() []Held { return []Held{authority(sampleRoot()), client(sampleClient())} },
		),
		run: broken(pki.PathTooLong, "is by %s, too far below its authority"),
	},
	{
		Code:     "constraint-broken",
		Title:    "Name constraint is violated",
		Severity: vpn.Error,
		Fields:   both,
		Why:      "The CA certificate has name constraints that exclude this name.",
		Fix:      "Have the certificate issued by a CA that may issue for this name.",
		Source:   "RFC 5280 §4.2.1.10",
		Bad: certificateExample("a certificate outside its authority's domain", func() []Held {
			return []Held{authority(sampleBound()[1]), client(sampleBound()[0])}
		}),
		Good: certificateExample(
			"one inside it",
			func() []Held { return []Held{authority(sampleRoot()), client(sampleClient())} },
		),
		run: broken(pki.NameConstraint, "has a name that %s must not issue for"),
	},
	{
		Code:     "rsa-short",
		Title:    "RSA key is shorter than 2048 bits",
		Severity: vpn.Error,
		Fields:   both,
		Why:      "Current systems reject such keys, and they can be broken.",
		Fix:      "Generate a new key: RSA 3072 or P-256.",
		Source:   "NIST SP 800-57-1 §5.6.1",
		Bad: certificateExample("a key of 1024 bits", func() []Held {
			return []Held{
				authority(sampleRoot()),
				client(
					altered(
						sampleClient,
						func(c *x509.Certificate) {
							c.PublicKey = &rsa.PublicKey{
								N: shortModulus,
								E: 65537,
							}
						},
					),
				),
			}
		}),
		Good: certificateExample(
			"a key on P-256",
			func() []Held { return []Held{authority(sampleRoot()), client(sampleClient())} },
		),
		run: each(func(_ *Subject, h Held, c *x509.Certificate) []Hit {
			if k, ok := c.PublicKey.(*rsa.PublicKey); ok && k.N.BitLen() < 2048 {
				return []Hit{h.hit(c, "has a key of %d bits", k.N.BitLen())}
			}
			return nil
		}),
	},
	{
		Code:     "signature-outdated",
		Title:    "Certificate is signed with SHA-1 or MD5",
		Severity: vpn.Error,
		Fields:   both,
		Why:      "Such signatures can be forged; current systems reject them.",
		Fix:      "Have it signed again with SHA-256.",
		Source:   "RFC 9155; RFC 6194",
		Bad: certificateExample("a signature with SHA-1", func() []Held {
			return []Held{
				authority(sampleRoot()),
				client(
					altered(
						sampleClient,
						func(c *x509.Certificate) { c.SignatureAlgorithm = x509.ECDSAWithSHA1 },
					),
				),
			}
		}),
		Good: certificateExample(
			"one with SHA-256",
			func() []Held { return []Held{authority(sampleRoot()), client(sampleClient())} },
		),
		run: each(func(_ *Subject, h Held, c *x509.Certificate) []Hit {
			self := c.IsCA && pki.Root(c) // nobody looks at a root's own signature
			switch c.SignatureAlgorithm {
			case x509.SHA1WithRSA,
				x509.ECDSAWithSHA1,
				x509.MD5WithRSA,
				x509.DSAWithSHA1,
				x509.MD2WithRSA:
				if !self {
					return []Hit{h.hit(c, "is signed with %s", c.SignatureAlgorithm)}
				}
			}
			return nil
		}),
	},
	{
		Code:     "key-kind-unknown",
		Title:    "Key type is not supported by the device",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldIdentity},
		Why:      "The device cannot sign with it.",
		Fix:      "Use a P-256 or RSA 3072 key.",
		Source:   "see the platform table",
		Bad: Example{"an Ed25519 key on Windows", func(s *Subject) {
			*s = *soundBy(vpn.IKEv2, vpn.Windows, "11")
			s.holds(
				authority(sampleRoot()),
				client(
					altered(
						sampleClient,
						func(c *x509.Certificate) { c.PublicKey = sampleEd25519 },
					),
				),
			)
		}},
		Good: Example{"a key on P-256 there", func(s *Subject) {
			*s = *soundBy(vpn.IKEv2, vpn.Windows, "11")
			s.holds(authority(sampleRoot()), client(sampleClient()))
		}},
		run: leaves(func(s *Subject, h Held) []Hit {
			kind := pki.KeyKind(h.leaf())
			if s.Ability == nil || len(s.Ability.KeyKinds) == 0 ||
				slices.Contains(s.Ability.KeyKinds, kind) {
				return nil
			}
			return []Hit{
				h.hit(
					h.leaf(),
					"has a key of the kind %s, and %s knows %s",
					kind,
					s.Release.Title,
					strings.Join(s.Ability.KeyKinds, ", "),
				),
			}
		}, pki.ForClient),
	},
	{
		Code:     "valid-too-long",
		Title:    "Gateway's certificate is valid for longer than devices accept",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldServer},
		Why:      "Apple's systems reject server certificates valid for more than 825 days.",
		Fix:      "Have it issued for at most two years.",
		Source:   "Apple: requirements for trusted certificates in iOS 13 and macOS 10.15",
		Bad: certificateExample("a certificate for ten years", func() []Held {
			return []Held{
				authority(sampleRoot()),
				server(
					altered(
						sampleServer,
						func(c *x509.Certificate) { c.NotAfter = c.NotBefore.AddDate(10, 0, 0) },
					),
				),
			}
		}),
		Good: certificateExample(
			"one for a year",
			func() []Held { return []Held{authority(sampleRoot()), server(sampleServer())} },
		),
		run: leaves(func(_ *Subject, h Held) []Hit {
			if c := h.leaf(); c.NotAfter.Sub(c.NotBefore) > longestSeen {
				return []Hit{
					h.hit(c, "is valid for %d days", int(c.NotAfter.Sub(c.NotBefore).Hours()/24)),
				}
			}
			return nil
		}, pki.ForServer),
	},
	{
		Code:     "certificate-revoked",
		Title:    "Certificate is revoked",
		Severity: vpn.Error,
		Fields:   both,
		Why:      "Gateways that check the CRL reject it.",
		Fix:      "Issue a new one.",
		Source:   "RFC 5280 §5",
		Bad: Example{"a certificate on its authority's list", func(s *Subject) {
			s.by(vpn.IKEv2)
			s.holds(authority(sampleRoot()), client(sampleClient()))
			s.Revoked = []*x509.RevocationList{
				{
					RawIssuer: sampleClient().RawIssuer,
					RevokedCertificateEntries: []x509.RevocationListEntry{
						{SerialNumber: sampleClient().SerialNumber, RevocationTime: sampleNow},
					},
				},
			}
		}},
		Good: Example{"one that is not on it", func(s *Subject) {
			s.by(vpn.IKEv2)
			s.holds(authority(sampleRoot()), client(sampleClient()))
			s.Revoked = []*x509.RevocationList{{RawIssuer: sampleClient().RawIssuer}}
		}},
		run: each(func(s *Subject, h Held, c *x509.Certificate) []Hit {
			for _, list := range s.Revoked {
				if string(list.RawIssuer) != string(c.RawIssuer) {
					continue
				}
				for _, e := range list.RevokedCertificateEntries {
					if e.SerialNumber.Cmp(c.SerialNumber) == 0 {
						return []Hit{h.hit(c, "was revoked on %s", day(e.RevocationTime))}
					}
				}
			}
			return nil
		}),
	},
	{
		Code:     "local-id-not-certified",
		Title:    "Local identity is not in the device's certificate",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldLocalID},
		Why: "The gateway compares the device's identity with the names in its certificate, " +
			"and rejects it.",
		Fix: "Use a name of the certificate as local identity, or have it issued with this " +
			"one.",
		Source: "RFC 7296 §3.5, §4",
		Bad: certificateIdentity(
			"another identity than the certificate's",
			"bridge.skerryline.example",
		),
		Good: certificateIdentity("the certificate's name", "ada-laptop.skerryline.example"),
		run: leaves(func(s *Subject, h Held) []Hit {
			i := s.Connection.IKEv2
			if i == nil || i.LocalID == "" || !i.Auth.NeedsIdentity() {
				return nil
			}
			c := h.leaf()
			if slices.ContainsFunc(
				pki.Names(c),
				func(n string) bool { return strings.EqualFold(n, i.LocalID) },
			) ||
				strings.EqualFold(c.Subject.String(), i.LocalID) {
				return nil
			}
			return []Hit{
				{
					Field: vpn.FieldLocalID,
					Found: fmt.Sprintf(
						"%s, while the certificate has %s",
						quote(i.LocalID),
						strings.Join(pki.Names(c), ", "),
					),
				},
			}
		}, pki.ForClient),
	},
	{
		Code:     "number-without-authority",
		Title:    "IP address is used, and no CA is given",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldServer, vpn.FieldAuthority},
		Why: "No public CA issues certificates for private IP addresses; devices reject the " +
			"gateway or prompt people to ignore the warning.",
		Fix:    "Use the gateway's name, or add the CA certificate to the offer.",
		Source: "RFC 9525 §6.4",
		Bad: Example{
			"SSTP to a number without an authority",
			func(s *Subject) {
				s.by(vpn.SSTP)
				s.Connection.Server,
					s.Connection.Authority = "198.51.100.7", ""
			},
		},
		Good: Example{
			"the same with an authority",
			func(s *Subject) { s.by(vpn.SSTP); s.Connection.Server = "198.51.100.7" },
		},
		run: func(s *Subject) []Hit {
			c := s.Connection
			if _, err := netip.ParseAddr(
				c.Server,
			); err == nil && c.Authority == "" &&
				(c.SSTP != nil || c.IKEv2 != nil && c.IKEv2.Auth != vpn.IKEv2PSK) {
				return []Hit{{Field: vpn.FieldServer, Found: c.Server + " and no authority"}}
			}
			return nil
		},
	},
	{
		Code:     "authority-key-inside",
		Title:    "Private key of the CA is in the file",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldIdentity, vpn.FieldFile},
		Why:      "Whoever has this file can issue certificates for anybody.",
		Fix:      "Remove the key immediately; if the file was passed on, replace the CA.",
		Source:   "practice",
		Bad: Example{"an identity that is the authority", func(s *Subject) {
			s.by(vpn.IKEv2)
			s.Connection.IKEv2.Auth = vpn.IKEv2Certificate
			s.holds(
				Held{
					Usage: pki.ForClient,
					Field: vpn.FieldIdentity,
					Chain: []*x509.Certificate{sampleRoot()},
				},
			)
		}},
		Good: certificateExample(
			"an identity that a device shows",
			func() []Held { return []Held{authority(sampleRoot()), client(sampleClient())} },
		),
		run: func(s *Subject) []Hit {
			var hits []Hit
			for _, h := range s.held() {
				c := h.leaf()
				if c.IsCA &&
					(h.Usage == pki.ForClient || slices.ContainsFunc(s.Keys,
						func(k crypto.Signer) bool { return pki.Belongs(c, k) })) {
					hits = append(hits, h.hit(c, "is an authority, and its private key is here"))
				}
			}
			return hits
		},
	},
}
