// Package pki reads, joins and packs certificates and keys. It makes none of its own
// randomness: what is packed from the same key is the same.
package pki

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/x509"
	"encoding/asn1"
	"encoding/pem"
	"errors"
	"fmt"
	"strings"

	"wardicon/core/secret"
)

// Bounds on what is taken in.
const (
	MaxPEM          = 256 << 10 // bytes
	maxCertificates = 20
)

// Certificates reads one or more certificates in PEM form (RFC 7468 §5).
func Certificates(text string) ([]*x509.Certificate, error) {
	if len(text) > MaxPEM {
		return nil, fmt.Errorf("found %d bytes, expected at most %d", len(text), MaxPEM)
	}
	var list []*x509.Certificate
	rest := []byte(text)
	for {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		switch block.Type {
		case "CERTIFICATE", "X509 CERTIFICATE":
		case "TRUSTED CERTIFICATE": // what it is trusted for stands behind it
			var own asn1.RawValue
			if _, err := asn1.Unmarshal(block.Bytes, &own); err == nil {
				block.Bytes = own.FullBytes
			}
		default:
			return nil, fmt.Errorf("found a block %q, expected certificates only", block.Type)
		}
		if err := sound(block.Bytes); err != nil {
			return nil, fmt.Errorf("certificate %d: %w", len(list)+1, err)
		}
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return nil, fmt.Errorf("certificate %d cannot be read: %w", len(list)+1, err)
		}
		if list = append(list, c); len(list) > maxCertificates {
			return nil, fmt.Errorf("found more than %d certificates", maxCertificates)
		}
	}
	if len(list) == 0 {
		return nil, fmt.Errorf(
			"found no certificate, expected lines from BEGIN CERTIFICATE to END CERTIFICATE",
		)
	}
	if stray := strings.TrimSpace(string(rest)); strings.Contains(stray, "-----BEGIN") {
		return nil, fmt.Errorf("found a block that does not end")
	}
	return list, nil
}

// Bundle writes certificates in PEM form, without the remarks that may have stood
// between them.
func Bundle(list ...*x509.Certificate) string {
	var b bytes.Buffer
	for _, c := range list {
		_ = pem.Encode(
			&b,
			&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw},
		) // a buffer takes everything
	}
	return b.String()
}

// Certificate reads one certificate in DER form, within bounds.
func Certificate(der []byte) (*x509.Certificate, error) {
	if err := sound(der); err != nil {
		return nil, err
	}
	return x509.ParseCertificate(der)
}

// Key reads a private key in PEM form: PKCS#8 (RFC 5958), PKCS#1 or SEC 1, not encrypted.
func Key(text secret.Text) (crypto.Signer, error) {
	if len(text.Reveal()) > MaxPEM {
		return nil, fmt.Errorf("found more than %d bytes", MaxPEM)
	}
	block, _ := pem.Decode([]byte(text.Reveal()))
	if block == nil {
		return nil, fmt.Errorf(
			"found no key, expected lines from BEGIN PRIVATE KEY to END PRIVATE KEY",
		)
	}
	var key any
	err := sound(block.Bytes)
	var large *LargeKeyError
	switch {
	case errors.As(err, &large):
		return nil, large
	case block.Type == "ENCRYPTED PRIVATE KEY" || block.Headers["DEK-Info"] != "":
		return nil, fmt.Errorf("found an encrypted key, expected one without a passphrase")
	case block.Type == "PRIVATE KEY":
		key, err = x509.ParsePKCS8PrivateKey(block.Bytes)
	case block.Type == "RSA PRIVATE KEY":
		key, err = x509.ParsePKCS1PrivateKey(block.Bytes)
	case block.Type == "EC PRIVATE KEY":
		key, err = x509.ParseECPrivateKey(block.Bytes)
	default:
		return nil, fmt.Errorf("found a block %q, expected a private key", block.Type)
	}
	if err != nil {
		return nil, fmt.Errorf("the key cannot be read") // the parser's words may hold parts of it
	}
	signer, ok := key.(crypto.Signer)
	if !ok {
		return nil, fmt.Errorf("found a key that cannot sign")
	}
	return signer, nil
}

// KeyPEM writes a private key as PKCS#8 in PEM form.
func KeyPEM(key crypto.Signer) (secret.Text, error) {
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return secret.Text{}, fmt.Errorf("the key cannot be written")
	}
	return secret.New(string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))), nil
}

// Identity is a certificate with its key, and the certificates between it and the
// authority.
type Identity struct {
	Leaf  *x509.Certificate
	Chain []*x509.Certificate
	Key   crypto.Signer
}

// ErrPair is the error for a key and a certificate that do not belong together.
var ErrPair = errors.New("the key does not belong to the certificate")

// Pair joins certificate and key, and refuses ones that do not belong together.
func Pair(certificates string, key secret.Text) (Identity, error) {
	list, err := Certificates(certificates)
	if err != nil {
		return Identity{}, err
	}
	signer, err := Key(key)
	if err != nil {
		return Identity{}, err
	}
	if !Belongs(list[0], signer) {
		for _, c := range list[1:] {
			if Belongs(c, signer) {
				return Identity{}, fmt.Errorf("%w of %s but to that of %s behind it; expected the "+
					"device's certificate first", ErrPair, list[0].Subject.CommonName,
					c.Subject.CommonName)
			}
		}
		return Identity{}, fmt.Errorf("%w of %s", ErrPair, list[0].Subject.CommonName)
	}
	return Identity{list[0], list[1:], signer}, nil
}

// Root tells whether a certificate vouches for itself.
func Root(c *x509.Certificate) bool { return bytes.Equal(c.RawSubject, c.RawIssuer) }

// KeyKind names the kind of a certificate's key as device profiles declare it.
func KeyKind(c *x509.Certificate) string {
	switch k := c.PublicKey.(type) {
	case *rsa.PublicKey:
		return "RSA"
	case *ecdsa.PublicKey:
		return fmt.Sprintf("ECDSA%d", k.Curve.Params().BitSize)
	case ed25519.PublicKey:
		return "Ed25519"
	}
	return "unknown"
}

// AltName is the first name of a certificate that both sides of IKEv2 can check: a DNS
// name or a mail address among its alternative names (RFC 5280 §4.2.1.6).
func AltName(c *x509.Certificate) string {
	switch {
	case len(c.DNSNames) > 0:
		return c.DNSNames[0]
	case len(c.EmailAddresses) > 0:
		return c.EmailAddresses[0]
	}
	return ""
}

// Encode writes a certificate in PEM form.
func Encode(der []byte) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
}
