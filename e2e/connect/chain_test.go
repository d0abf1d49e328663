package connect

import (
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"os"
	"path/filepath"
	"testing"
	"time"

	"wardicon/core/pki"
)

// chain is a certificate authority that the service has no part in: a root, and below it
// one that issues.
type chain struct {
	t             testing.TB
	kind          pki.KeyChoice
	root, issuing *x509.Certificate
	rootKey, key  crypto.Signer
}

func newChain(t testing.TB, name string, kind pki.KeyChoice) *chain {
	t.Helper()
	c := &chain{t: t, kind: kind}
	c.rootKey, c.key = c.newKey(), c.newKey()
	from := time.Now().Add(-time.Hour)
	ca := pki.Wanted{
		Name:    name + " Root",
		Usage:   pki.ForAuthority,
		From:    from,
		To:      from.AddDate(5, 0, 0),
		MaxPath: 1,
	}
	c.root = c.issue(pki.Issuer{Key: c.rootKey}, c.rootKey.Public(), ca)
	ca.Name, ca.MaxPath, ca.To = name, 0, ca.To.AddDate(0, 0, -1)
	c.issuing = c.issue(pki.Issuer{Certificate: c.root, Key: c.rootKey}, c.key.Public(), ca)
	return c
}

func (c *chain) newKey() crypto.Signer {
	c.t.Helper()
	key, err := pki.NewKey(rand.Reader, c.kind)
	if err != nil {
		c.t.Fatal(err)
	}
	return key
}

func (c *chain) issue(by pki.Issuer, public crypto.PublicKey, w pki.Wanted) *x509.Certificate {
	c.t.Helper()
	cert, err := pki.Issue(rand.Reader, by, public, w)
	if err != nil {
		c.t.Fatal(err)
	}
	return cert
}

// leaf issues a certificate with a key of its own, both as PEM.
func (c *chain) leaf(usage pki.Usage, name string) (certificate, key string) {
	c.t.Helper()
	own := c.newKey()
	from := time.Now().Add(-time.Hour)
	cert := c.issue(
		pki.Issuer{Certificate: c.issuing, Key: c.key},
		own.Public(),
		pki.Wanted{
			Name:  name,
			Usage: usage,
			Names: []string{name},
			From:  from,
			To:    from.AddDate(0, 3, 0),
		},
	)
	text, err := pki.KeyPEM(own)
	if err != nil {
		c.t.Fatal(err)
	}
	return pki.Bundle(cert), text.Reveal()
}

// show replaces certificate and key of a gateway's bundle by those of this authority.
func (c *chain) show(bundle, stem, host string) {
	c.t.Helper()
	certificate, key := c.leaf(pki.ForServer, host)
	for ending, content := range map[string]string{
		"-certificate.pem": certificate,
		"-key.pem":         key,
		"-ca8.pem":         pki.Bundle(c.issuing),
		"-chain.pem":       certificate + pki.Bundle(c.issuing),
	} {
		if err := os.WriteFile(
			filepath.Join(bundle, stem+ending),
			[]byte(content),
			0o600,
		); err != nil {
			c.t.Fatal(err)
		}
	}
}
