package check

import (
	"crypto/x509"
	"fmt"
	"slices"
	"time"

	"wardicon/core/format"
	"wardicon/core/pki"
	"wardicon/core/vpn"
)

// Held is a certificate of a connection, or one that lies beside it, with those that came
// along to vouch for it.
type Held struct {
	Usage pki.Usage
	Field vpn.Field
	Chain []*x509.Certificate // the leaf first
	At    *format.Position
}

func (h Held) leaf() *x509.Certificate { return h.Chain[0] }

// hit words a fault of one certificate.
func (h Held) hit(c *x509.Certificate, found string, args ...any) Hit {
	return Hit{Field: h.Field, Found: called(c) + " " + fmt.Sprintf(found, args...), At: h.At}
}

// called names a certificate for a reader.
func called(c *x509.Certificate) string {
	if c.Subject.CommonName != "" {
		return quote(c.Subject.CommonName)
	}
	if names := pki.Names(c); len(names) > 0 {
		return quote(names[0])
	}
	return "a certificate without a name"
}

// held lists the certificates that belong to the connection. It is worked out once.
func (s *Subject) held() []Held {
	if s.certificates != nil {
		return *s.certificates
	}
	var list []Held
	if anchors, err := pki.Certificates(s.Connection.Authority); err == nil {
		for _, c := range anchors {
			list = append(
				list,
				Held{
					Usage: pki.ForAuthority,
					Field: vpn.FieldAuthority,
					Chain: []*x509.Certificate{c},
				},
			)
		}
	}
	if id := s.Connection.Identity; id != nil && s.Connection.NeedsIdentity() {
		if chain, err := pki.Certificates(id.Certificate); err == nil {
			list = append(list, Held{Usage: pki.ForClient, Field: vpn.FieldIdentity, Chain: chain})
		}
	}
	list = append(list, s.Beside...)
	if h, ok := s.shown(); ok {
		list = append(list, h)
	}
	s.certificates = &list
	return list
}

// shown is the certificate that the gateway shows by its record, where the connection looks at it
// and none was found beside it.
func (s *Subject) shown() (h Held, ok bool) {
	g, c := s.record(), s.Connection
	looked := c.SSTP != nil || c.TLS != nil || c.IKEv2 != nil && c.IKEv2.Auth != vpn.IKEv2PSK ||
		c.L2TP != nil && c.L2TP.Auth == vpn.MachineCertificate
	if g == nil || g.Certificate == "" || !looked ||
		slices.ContainsFunc(s.Beside, func(h Held) bool { return h.Usage == pki.ForServer }) {
		return h, false
	}
	chain, err := pki.Certificates(g.Certificate)
	if err != nil {
		return h, false
	}
	return Held{Usage: pki.ForServer, Field: vpn.FieldServer, Chain: chain}, true
}

// anchors are the authorities that the device is told to believe: those that nobody else
// among them vouches for. The others stand in between.
func (s *Subject) anchors() (anchors, between []*x509.Certificate) {
	var all []*x509.Certificate
	for _, h := range s.held() {
		if h.Usage == pki.ForAuthority {
			all = append(all, h.leaf())
		}
	}
	for _, c := range all {
		vouched := slices.ContainsFunc(all, func(by *x509.Certificate) bool {
			return !by.Equal(c) && string(by.RawSubject) == string(c.RawIssuer) && !pki.Root(c)
		})
		if vouched {
			between = append(between, c)
		} else {
			anchors = append(anchors, c)
		}
	}
	if len(anchors) == 0 { // they vouch for each other in a ring
		return all, nil
	}
	return anchors, between
}

// path walks from a certificate to the authorities that are here.
func (s *Subject) path(h Held) (links []*x509.Certificate, broken pki.Break) {
	if s.cache != nil {
		if known, ok := s.cache.paths[&h.Chain[0]]; ok {
			return known.links, known.broken
		}
	}
	anchors, between := s.anchors()
	links, broken = pki.Path(
		h.leaf(),
		slices.Concat(h.Chain[1:], between),
		append(anchors, last(h.Chain)...),
	)
	if s.cache != nil {
		s.cache.paths[&h.Chain[0]] = path{links, broken}
	}
	return links, broken
}

// Chains draws the chains of the certificates that the connection looks at, so that the link at
// fault is seen: the gateway's and the device's own. Whom a gateway believes is not known here, nor
// whom a device does that was told of nobody: those chains end with what came along.
func (s *Subject) Chains() [][]pki.Link {
	list := [][]pki.Link{}
	for _, h := range s.held() {
		if h.Usage == pki.ForAuthority {
			continue
		}
		anchors, between := s.anchors()
		links := pki.Chain(h.leaf(), slices.Concat(h.Chain[1:], between), anchors, s.Now)
		if h.Usage == pki.ForClient || len(anchors) == 0 {
			links = slices.DeleteFunc(links, func(l pki.Link) bool { return l.Missing })
			if end := &links[len(links)-1]; end.Root && end.To.After(s.Now) &&
				!end.From.After(s.Now) {
				end.Fault = ""
			}
		}
		list = append(list, links)
	}
	return list
}

// certificates puts others into the place of those of the connection, for examples.
func (s *Subject) holds(list ...Held) { s.certificates = &list }

// altered copies a sample certificate with something changed.
func altered(of func() *x509.Certificate, change func(*x509.Certificate)) *x509.Certificate {
	c := *of()
	change(&c)
	return &c
}

func client(c *x509.Certificate, chain ...*x509.Certificate) Held {
	return Held{
		Usage: pki.ForClient,
		Field: vpn.FieldIdentity,
		Chain: append([]*x509.Certificate{c}, chain...),
	}
}

func server(c *x509.Certificate, chain ...*x509.Certificate) Held {
	return Held{
		Usage: pki.ForServer,
		Field: vpn.FieldServer,
		Chain: append([]*x509.Certificate{c}, chain...),
	}
}

func authority(c *x509.Certificate) Held {
	return Held{Usage: pki.ForAuthority, Field: vpn.FieldAuthority, Chain: []*x509.Certificate{c}}
}

// each looks at every certificate in every chain.
func each(look func(s *Subject, h Held, c *x509.Certificate) []Hit) func(*Subject) []Hit {
	return func(s *Subject) []Hit {
		var hits []Hit
		for _, h := range s.held() {
			for _, c := range h.Chain {
				hits = append(hits, look(s, h, c)...)
			}
		}
		return hits
	}
}

// leaves looks at the leaves of some usages.
func leaves(look func(s *Subject, h Held) []Hit, of ...pki.Usage) func(*Subject) []Hit {
	return func(s *Subject) []Hit {
		var hits []Hit
		for _, h := range s.held() {
			if slices.Contains(of, h.Usage) {
				hits = append(hits, look(s, h)...)
			}
		}
		return hits
	}
}

// bad and good make the examples of a rule on certificates.
func certificateExample(text string, held func() []Held) Example {
	return Example{text, func(s *Subject) { s.by(vpn.IKEv2); s.holds(held()...) }}
}

const (
	expiringSoon = 30 * 24 * time.Hour
	longestSeen  = 825 * 24 * time.Hour // what Apple's releases take of a server
)

func day(t time.Time) string { return t.UTC().Format("2 January 2006") }

func certificateIdentity(text, id string) Example {
	return Example{text, func(s *Subject) {
		s.by(vpn.IKEv2)
		s.Connection.IKEv2.Auth, s.Connection.IKEv2.LocalID = vpn.IKEv2Certificate, id
		s.holds(authority(sampleRoot()), client(sampleClient()))
	}}
}

// last is the end of a chain where it is an authority that vouches for itself.
func last(chain []*x509.Certificate) []*x509.Certificate {
	if end := chain[len(chain)-1]; len(chain) > 1 && end.IsCA && pki.Root(end) {
		return []*x509.Certificate{end}
	}
	return nil
}

// servers are the names and numbers by which the gateway's certificate is checked.
func (s *Subject) servers() []string {
	switch c := s.Connection; {
	case c.SSTP != nil && c.SSTP.ServerName != "":
		return []string{c.SSTP.ServerName}
	case c.TLS != nil && c.TLS.ServerName != "":
		return []string{c.TLS.ServerName}
	case c.TLS != nil: // the client does not compare names unless it is told to
		return nil
	case c.IKEv2 != nil && s.Release != nil &&
		s.Release.Row.Platform == vpn.Windows: // whatever identity the gateway sends
		return []string{c.Server}
	case c.IKEv2 != nil && c.IKEv2.RemoteID != "":
		return []string{c.IKEv2.RemoteID}
	case c.Server == "":
		return nil
	default:
		return []string{c.Server}
	}
}

func usage(h Held, want x509.ExtKeyUsage, name string) []Hit {
	c := h.leaf()
	if len(c.ExtKeyUsage) == 0 || slices.Contains(c.ExtKeyUsage, want) ||
		slices.Contains(c.ExtKeyUsage, x509.ExtKeyUsageAny) {
		return nil
	}
	return []Hit{h.hit(c, "has extended key usages without %s", name)}
}

// broken finds paths that break in one way. The issuer at fault is named.
func broken(kind pki.Break, words string) func(*Subject) []Hit {
	return leaves(func(s *Subject, h Held) []Hit {
		links, broken := s.path(h)
		if broken != kind {
			return nil
		}
		end := links[len(links)-1]
		if kind == pki.NotAuthority {
			end = links[max(0, len(links)-2)]
		}
		return []Hit{h.hit(end, words, quote(end.Issuer.CommonName))}
	}, pki.ForClient, pki.ForServer, pki.ForAny)
}
