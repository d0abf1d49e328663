package pki

import (
	"bytes"
	"crypto/sha256"
	"crypto/x509"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"
)

// Break says why a path of certificates ends before an authority that is believed.
type Break string

// The breaks.
const (
	Whole          Break = ""
	IssuerMissing  Break = "issuer-missing"  // nobody of the issuer's name is there
	IssuerWrong    Break = "issuer-wrong"    // one of that name is there and did not sign
	NotAuthority   Break = "not-authority"   // the issuer must not issue certificates
	PathTooLong    Break = "path-too-long"   // more steps than the issuer allows
	NameConstraint Break = "name-constraint" // a name that the issuer may not vouch for
)

// maxPath bounds the steps of a path.
const maxPath = 8

// Path walks from a leaf to an authority that is believed (RFC 5280 §6), whatever the
// dates say. Links are the certificates walked over, the leaf first; where the walk
// breaks, the last link is the one whose issuer is at fault.
func Path(
	leaf *x509.Certificate,
	between, anchors []*x509.Certificate,
) (links []*x509.Certificate, broken Break) {
	links = []*x509.Certificate{leaf}
	for at := leaf; len(links) <= maxPath; {
		if slices.ContainsFunc(anchors, at.Equal) {
			return links, allowed(leaf, links)
		}
		next, named := issuer(at, anchors)
		if next == nil {
			var other bool
			next, other = issuer(at, between)
			named = named || other
		}
		switch {
		case next == nil && named:
			return links, IssuerWrong
		case next == nil || next.Equal(at):
			return links, IssuerMissing
		}
		links, at = append(links, next), next
		if !next.IsCA || next.KeyUsage != 0 && next.KeyUsage&x509.KeyUsageCertSign == 0 {
			return links, NotAuthority
		}
	}
	return links, IssuerMissing
}

// LeadsTo tells whether the first certificate of a bundle leads to one of some authorities, by those
// behind it.
func LeadsTo(bundle string, anchors []*x509.Certificate) bool {
	list, err := Certificates(bundle)
	if err != nil {
		return false
	}
	_, broken := Path(list[0], slices.Concat(list[1:], anchors), anchors)
	return broken != IssuerMissing && broken != IssuerWrong
}

// issuer finds who signed a certificate; named tells that one of the name is there.
func issuer(c *x509.Certificate, list []*x509.Certificate) (found *x509.Certificate, named bool) {
	for _, i := range list {
		if bytes.Equal(i.RawSubject, c.RawIssuer) {
			named = true
			if signed(c, i) {
				return i, true
			}
		}
	}
	return nil, named
}

// mostSigned is how many signatures are remembered.
const mostSigned = 20_000

// signatures remembers what came of verifying signatures of certificates: in a fleet, the same CAs
// stand behind every profile. A key stands for all that the verification looks at.
var signatures struct {
	sync.Mutex
	known map[[sha256.Size]byte]bool
}

// signed tells whether a certificate was signed by the key of another.
func signed(c, by *x509.Certificate) bool {
	if len(by.RawSubjectPublicKeyInfo) == 0 {
		return by.CheckSignature(c.SignatureAlgorithm, c.RawTBSCertificate, c.Signature) == nil
	}
	h := sha256.New()
	for _, part := range [][]byte{
		{byte(c.SignatureAlgorithm)}, by.RawSubjectPublicKeyInfo, c.Signature, c.RawTBSCertificate,
	} {
		h.Write(binary.BigEndian.AppendUint32(nil, uint32(len(part))))
		h.Write(part)
	}
	var key [sha256.Size]byte
	h.Sum(key[:0])
	signatures.Lock()
	good, ok := signatures.known[key]
	signatures.Unlock()
	if ok {
		return good
	}
	good = by.CheckSignature(c.SignatureAlgorithm, c.RawTBSCertificate, c.Signature) == nil
	signatures.Lock()
	defer signatures.Unlock()
	if signatures.known == nil || len(signatures.known) >= mostSigned {
		signatures.known = map[[sha256.Size]byte]bool{}
	}
	signatures.known[key] = good
	return good
}

// allowed asks the standard package what the dates aside is wrong with a path.
func allowed(leaf *x509.Certificate, links []*x509.Certificate) Break {
	if len(links) == 1 {
		return Whole
	}
	roots, between := x509.NewCertPool(), x509.NewCertPool()
	roots.AddCert(links[len(links)-1])
	from := leaf.NotBefore
	for _, c := range links[1:] {
		if c.NotBefore.After(from) {
			from = c.NotBefore
		}
	}
	for _, c := range links[1 : len(links)-1] {
		between.AddCert(c)
	}
	_, err := leaf.Verify(
		x509.VerifyOptions{
			Roots:         roots,
			Intermediates: between,
			CurrentTime:   from.Add(time.Second),
			KeyUsages:     []x509.ExtKeyUsage{x509.ExtKeyUsageAny},
		},
	)
	var invalid x509.CertificateInvalidError
	if errors.As(err, &invalid) {
		switch invalid.Reason {
		case x509.TooManyIntermediates:
			return PathTooLong
		case x509.CANotAuthorizedForThisName, x509.UnconstrainedName, x509.TooManyConstraints:
			return NameConstraint
		case x509.NotAuthorizedToSign:
			return NotAuthority
		}
	}
	return Whole
}

// Usage is what a certificate is for.
type Usage string

// The usages.
const (
	ForAuthority Usage = "authority"
	ForServer    Usage = "server"
	ForClient    Usage = "client"
	ForSigning   Usage = "signing"
	ForAny       Usage = "any"
	ForRegistrar Usage = "registrar" // takes requests for an authority
)

// UsageOf tells what a certificate is for, by its extensions (RFC 5280 §4.2.1.12).
func UsageOf(c *x509.Certificate) Usage {
	server := slices.Contains(c.ExtKeyUsage, x509.ExtKeyUsageServerAuth)
	client := slices.Contains(c.ExtKeyUsage, x509.ExtKeyUsageClientAuth)
	switch {
	case c.IsCA:
		return ForAuthority
	case server && !client:
		return ForServer
	case client && !server:
		return ForClient
	case !client && !server && slices.ContainsFunc(c.ExtKeyUsage, func(u x509.ExtKeyUsage) bool {
		return u == x509.ExtKeyUsageCodeSigning || u == x509.ExtKeyUsageEmailProtection
	}):
		return ForSigning
	}
	return ForAny
}

// Covers tells whether the certificate is good for a host name or an address: by its
// alternative names alone (RFC 9525 §6.3).
func Covers(c *x509.Certificate, host string) bool { return c.VerifyHostname(host) == nil }

// Names lists the alternative names of a certificate, as text.
func Names(c *x509.Certificate) []string {
	list := slices.Concat(c.DNSNames, c.EmailAddresses)
	for _, ip := range c.IPAddresses {
		list = append(list, ip.String())
	}
	for _, u := range c.URIs {
		list = append(list, u.String())
	}
	return list
}

// RootsFirst orders authorities as clients want them that read only the first of a file: the
// root that a shown certificate leads to, further roots, and then those between.
func RootsFirst(authorities, shown []*x509.Certificate) []*x509.Certificate {
	var reached *x509.Certificate
	if len(shown) > 0 {
		roots := slices.DeleteFunc(
			slices.Clone(authorities),
			func(c *x509.Certificate) bool { return !Root(c) },
		)
		between := slices.Concat(shown[1:], authorities)
		if links, broken := Path(shown[0], between, roots); broken == Whole {
			reached = links[len(links)-1]
		}
	}
	rank := func(c *x509.Certificate) int {
		switch {
		case reached != nil && c.Equal(reached):
			return 0
		case Root(c):
			return 1
		}
		return 2
	}
	list := slices.Clone(authorities)
	slices.SortStableFunc(list, func(a, b *x509.Certificate) int { return rank(a) - rank(b) })
	return list
}

// Subject writes the subject of a certificate as daemons compare it: its parts in the order
// of the certificate (RFC 4514 writes them backwards), joined by a comma and a space.
func Subject(c *x509.Certificate) string {
	var parts []string
	for _, n := range c.Subject.Names {
		name := map[string]string{
			"2.5.4.3":              "CN",
			"2.5.4.6":              "C",
			"2.5.4.7":              "L",
			"2.5.4.8":              "ST",
			"2.5.4.10":             "O",
			"2.5.4.11":             "OU",
			"2.5.4.5":              "serialNumber",
			"1.2.840.113549.1.9.1": "E",
		}[n.Type.String()]
		if name == "" {
			name = n.Type.String()
		}
		parts = append(parts, fmt.Sprintf("%s=%v", name, n.Value))
	}
	return strings.Join(parts, ", ")
}
