package rehearse

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"slices"

	"wardicon/core/pki"
	"wardicon/core/rehearsal"
	"wardicon/core/vpn"
)

// trust checks a gateway's certificates as a device does: the chain to its CAs, the dates, and what
// the certificate is for. A rootless device trusts an intermediate CA without its root.
func (w *run) trust(chain []*x509.Certificate, rootless bool, usage ...x509.ExtKeyUsage) error {
	own, err := pki.Certificates(w.Connection.Authority)
	if w.Connection.Authority != "" && err != nil {
		return because("authority-missing", "the CA in the file cannot be read: %w", err)
	}
	options := x509.VerifyOptions{
		Intermediates: x509.NewCertPool(), CurrentTime: w.Now(), Roots: w.Roots,
		KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny},
	}
	if len(own) > 0 {
		options.Roots = x509.NewCertPool()
		for _, c := range own {
			if rootless || pki.Root(c) {
				options.Roots.AddCert(c)
			} else {
				options.Intermediates.AddCert(c)
			}
		}
	}
	for _, c := range chain[1:] {
		options.Intermediates.AddCert(c)
	}
	if _, err := chain[0].Verify(options); err != nil {
		return w.untrusted(chain[0], err)
	}
	if len(usage) > 0 && !slices.ContainsFunc(usage, func(u x509.ExtKeyUsage) bool {
		return slices.Contains(chain[0].ExtKeyUsage, u)
	}) {
		return because("certificate-usage", "the certificate of %s is not for servers",
			called(chain[0]))
	}
	return nil
}

func called(c *x509.Certificate) string {
	if c.Subject.CommonName != "" {
		return c.Subject.CommonName
	}
	return c.Subject.String()
}

// untrusted words why a chain is not trusted.
func (w *run) untrusted(leaf *x509.Certificate, err error) error {
	var unknown x509.UnknownAuthorityError
	var invalid x509.CertificateInvalidError
	switch {
	case errors.As(err, &unknown):
		return because("authority-missing",
			"the device does not trust the gateway's certificate %q, issued by %q",
			called(leaf), leaf.Issuer.CommonName)
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		cause := "gateway-certificate-expired"
		if w.Now().Before(invalid.Cert.NotBefore) {
			cause = "clock-wrong"
		}
		return because(cause, "the certificate %q is valid from %s to %s", called(invalid.Cert),
			invalid.Cert.NotBefore.UTC().Format("2 January 2006"),
			invalid.Cert.NotAfter.UTC().Format("2 January 2006"))
	}
	return because("authority-missing", "%w", err)
}

// verify makes the check of a gateway's certificate in TLS: its chain, and whether it has a name.
func (w *run) verify(
	name string,
	has func(*x509.Certificate) bool,
) func(tls.ConnectionState) error {
	return func(state tls.ConnectionState) error {
		w.certificates(state.PeerCertificates)
		if err := w.trust(state.PeerCertificates, false, x509.ExtKeyUsageServerAuth); err != nil {
			return err
		}
		if leaf := state.PeerCertificates[0]; !has(leaf) {
			return because("certificate-name", "the gateway's certificate is for %q, expected %s",
				called(leaf), name)
		}
		return nil
	}
}

// shookHands notes what a TLS handshake came to.
func (w *run) shookHands(state tls.ConnectionState) {
	w.result.Suite = tls.VersionName(state.Version) + ", " + tls.CipherSuiteName(state.CipherSuite)
	w.result.Proof = "certificate in TLS"
	w.passed(rehearsal.Exchange, w.result.Suite)
	w.passed(rehearsal.Gateway, called(state.PeerCertificates[0]))
}

// asRelease limits TLS to the versions of the device's release, where they are known.
func (w *run) asRelease(c *tls.Config, eap bool) *tls.Config {
	if w.As != nil {
		oldest, newest := w.As.TLSVersions(eap)
		if oldest != 0 {
			c.MinVersion = oldest
		}
		c.MaxVersion = newest
	}
	return c
}

// serverUsage is what a device's release demands of a gateway's certificate by IKE.
func (w *run) serverUsage() []x509.ExtKeyUsage {
	if w.As == nil {
		return nil
	}
	switch w.As.Row.Platform {
	case vpn.Windows, vpn.MacOS, vpn.IOS, vpn.IPadOS:
		return []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}
	}
	return nil
}

// identity is the device's certificate with its key.
func (w *run) identity() (pki.Identity, error) {
	id := w.Connection.Identity
	if id == nil {
		return pki.Identity{}, because("device-certificate-missing",
			"the file has no certificate with its key, which the sign-in needs")
	}
	pair, err := pki.Pair(id.Certificate, id.Key)
	if err != nil {
		return pair, because("file-broken", "%w", err)
	}
	if now := w.Now(); now.After(pair.Leaf.NotAfter) {
		return pair, because(
			"device-certificate-expired",
			"the device's certificate %q expired on %s",
			called(pair.Leaf),
			pair.Leaf.NotAfter.UTC().Format("2 January 2006"),
		)
	}
	return pair, nil
}

// shows has TLS show a certificate whatever CAs the gateway names, as the clients do.
func shows(id pki.Identity) func(*tls.CertificateRequestInfo) (*tls.Certificate, error) {
	pair := &tls.Certificate{PrivateKey: id.Key, Certificate: [][]byte{id.Leaf.Raw}}
	for _, up := range id.Chain {
		pair.Certificate = append(pair.Certificate, up.Raw)
	}
	return func(*tls.CertificateRequestInfo) (*tls.Certificate, error) { return pair, nil }
}

// credentials are login and password, which the file may leave to the person.
func (w *run) credentials() (login, password string, err error) {
	c := w.Connection
	if c.Login == "" || c.Password.IsZero() {
		missing := "password"
		if c.Login == "" {
			missing = "login"
		}
		return "", "", because("secret-missing", "%w: the file has no %s, and none was given",
			errAsked, missing)
	}
	return c.Login, c.Password.Reveal(), nil
}

// errAsked says that a device would prompt the person for something.
var errAsked = errors.New("the device would prompt for it")
