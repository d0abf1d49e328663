package check

import (
	"crypto/x509"
	"slices"

	"wardicon/core/format"
	"wardicon/core/pki"
	"wardicon/core/vpn"
)

// chainRules look at what came along with a certificate, or did not.
var chainRules = []Rule{
	{
		Code:     "authority-not-root",
		Title:    "CA certificate is an intermediate without its root",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldAuthority},
		Why: "TLS clients verify up to a self-signed root; without it they reject the " +
			"gateway (\"unable to get issuer certificate\").",
		Fix:    "Add the root CA's certificate.",
		Source: "RFC 5280 §6.1; practice",
		Bad: Example{"an issuing CA alone in a TLS tunnel", func(s *Subject) {
			s.by(vpn.TLS)
			s.holds(authority(sampleDeep()[1]))
		}},
		Good: Example{"the issuing CA with its root", func(s *Subject) {
			s.by(vpn.TLS)
			s.holds(authority(sampleDeep()[1]), authority(sampleDeep()[2]))
		}},
		run: func(s *Subject) []Hit {
			// The IKE daemons take each CA that they are told of for a root.
			if s.Connection.TLS == nil && s.Connection.SSTP == nil {
				return nil
			}
			anchors, _ := s.anchors()
			if len(anchors) == 0 || slices.ContainsFunc(anchors, pki.Root) {
				return nil
			}
			var hits []Hit
			for _, h := range s.held() {
				c := h.leaf()
				if h.Usage == pki.ForAuthority && c.IsCA && slices.ContainsFunc(anchors, c.Equal) {
					hits = append(hits, h.hit(c, "is by %s, which is not there",
						quote(c.Issuer.CommonName)))
				}
			}
			return hits
		},
	},
	{
		Code:     "certificate-doubled",
		Title:    "Certificate stands twice in a chain",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldAuthority, vpn.FieldIdentity},
		Why:      "Clients take it, but each sign-in carries it twice, and strict peers reject it.",
		Fix:      "Remove the second copy.",
		Source:   "RFC 8446 §4.4.2",
		Bad: certificateExample("a root that was pasted twice", func() []Held {
			return []Held{authority(sampleRoot()), authority(sampleRoot())}
		}),
		Good: certificateExample("a root", func() []Held {
			return []Held{authority(sampleRoot())}
		}),
		run: func(s *Subject) []Hit {
			var hits []Hit
			seen := map[vpn.Field][]*x509.Certificate{}
			for _, h := range s.held() {
				if h.Field != vpn.FieldAuthority && h.Field != vpn.FieldIdentity {
					continue
				}
				for _, c := range h.Chain {
					if slices.ContainsFunc(seen[h.Field], c.Equal) {
						hits = append(hits, h.hit(c, "stands twice"))
					}
					seen[h.Field] = append(seen[h.Field], c)
				}
			}
			return hits
		},
	},
	{
		Code:     "issuer-not-included",
		Title:    "Issuer of the device's certificate is not in the file",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldIdentity},
		Why: "A gateway that knows only the root cannot build the chain, and rejects the " +
			"device.",
		Fix:    "Add the intermediate certificates, unless the gateway has them.",
		Source: "RFC 5280 §6.1; RFC 8446 §4.4.2",
		Bad: certificateExample("a device's certificate by an issuing CA that is not there",
			func() []Held { return []Held{authority(sampleOther()), client(sampleDeep()[0])} }),
		Good: certificateExample("one with its issuing CA", func() []Held {
			return []Held{authority(sampleOther()), client(sampleDeep()[0], sampleDeep()[1:]...)}
		}),
		run: leaves(func(s *Subject, h Held) []Hit {
			if g := s.record(); g != nil && g.ClientAuthority != "" {
				return nil // the record knows whose certificates the gateway takes
			}
			anchors, _ := s.anchors()
			if links, broken := s.path(h); len(anchors) == 0 || len(links) > 1 ||
				broken != pki.IssuerMissing {
				return nil
			}
			return []Hit{h.hit(h.leaf(), "is by %s, which is not there",
				quote(h.leaf().Issuer.CommonName))}
		}, pki.ForClient),
	},
}

// unread tells whether a file has a field whose value could not be read, of which a finding tells.
func (s *Subject) unread(field vpn.Field) bool {
	at, ok := s.Positions[field]
	return ok && slices.ContainsFunc(s.Notes, func(n format.Note) bool {
		return n.At.File == at.File && n.At.Line == at.Line &&
			(n.Kind == format.KeyMalformed || n.Kind == format.PairBroken)
	})
}
