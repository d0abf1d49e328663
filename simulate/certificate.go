package simulate

import (
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"time"

	"wardicon/core/pki"
)

// certify makes what the simulator shows by TLS.
func (g *Gateway) certify() error {
	id := g.Identity
	if id == nil {
		made, authority, err := newIdentity(g.Name, time.Now().AddDate(1, 0, 0))
		if err != nil {
			return err
		}
		id, g.Authority = made, authority
	}
	stranger, _, err := newIdentity("pilots.other.example", time.Now().AddDate(1, 0, 0))
	if err != nil {
		return err
	}
	ended, _, err := newIdentity(g.Name, time.Now().AddDate(0, 0, -1))
	if err != nil {
		return err
	}
	g.shownIdentity = func() *pki.Identity {
		switch {
		case g.has(FaultCertificate):
			return stranger
		case g.has(FaultExpired):
			return ended
		}
		return id
	}
	g.config = &tls.Config{
		MinVersion: tls.VersionTLS12,
		GetConfigForClient: func(*tls.ClientHelloInfo) (*tls.Config, error) {
			shown, config := g.shownIdentity(), &tls.Config{MinVersion: tls.VersionTLS12}
			if g.has(FaultOldTLS) {
				config.MinVersion, config.MaxVersion = tls.VersionTLS10, tls.VersionTLS10
			}
			config.Certificates = []tls.Certificate{shownBy(*shown)}
			if g.Certificates {
				config.ClientAuth = tls.RequestClientCert
			}
			return config, nil
		},
	}
	return nil
}

func shownBy(id pki.Identity) tls.Certificate {
	c := tls.Certificate{Certificate: [][]byte{id.Leaf.Raw}, PrivateKey: id.Key, Leaf: id.Leaf}
	for _, above := range id.Chain {
		if !pki.Root(above) {
			c.Certificate = append(c.Certificate, above.Raw)
		}
	}
	return c
}

// newIdentity makes a certificate for a name under an authority of its own, which is returned as
// PEM.
func newIdentity(name string, end time.Time) (*pki.Identity, string, error) {
	begin := end.AddDate(-1, 0, -1)
	rootKey, err := pki.NewKey(rand.Reader, pki.P256)
	if err != nil {
		return nil, "", err
	}
	root, err := pki.Issue(
		rand.Reader,
		pki.Issuer{Key: rootKey},
		rootKey.Public(),
		pki.Wanted{
			Name:    "Authority of a simulator",
			Usage:   pki.ForAuthority,
			From:    begin,
			To:      end.AddDate(1, 0, 0),
			MaxPath: -1,
		},
	)
	if err != nil {
		return nil, "", err
	}
	key, err := pki.NewKey(rand.Reader, pki.P256)
	if err != nil {
		return nil, "", err
	}
	leaf, err := pki.Issue(
		rand.Reader,
		pki.Issuer{Certificate: root, Key: rootKey},
		key.Public(),
		pki.Wanted{
			Name:    name,
			Usage:   pki.ForServer,
			Names:   []string{name},
			From:    begin,
			To:      end,
			MaxPath: -1,
		},
	)
	if err != nil {
		return nil, "", err
	}
	return &pki.Identity{
			Leaf:  leaf,
			Chain: []*x509.Certificate{root},
			Key:   key,
		}, pki.Bundle(
			root,
		), nil
}
