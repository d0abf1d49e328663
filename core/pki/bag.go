package pki

import (
	"bytes"
	"crypto"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/smallstep/pkcs7"
	"software.sslmate.com/src/go-pkcs12"

	"wardicon/core/secret"
)

// Shape is a form in which certificates and keys travel.
type Shape string

// The shapes.
const (
	PEM    Shape = "PEM"     // RFC 7468
	DER    Shape = "DER"     // RFC 5280 §4.1
	PKCS7  Shape = "PKCS #7" // RFC 2315, RFC 5652
	PKCS12 Shape = "PKCS #12"
)

// Fault says what is wrong with a bag as a whole.
type Fault string

// The faults.
const (
	BagUnreadable    Fault = "unreadable"
	BagPassphrase    Fault = "passphrase"     // the one that was given does not open it
	BagNoKey         Fault = "no-key"         // a PKCS #12 file without a private key
	BagNoCertificate Fault = "no-certificate" // one without a certificate
	BagKeys          Fault = "several-keys"
	BagWeak          Fault = "weak" // encrypted by RC2 or 3DES under SHA-1
	BagPair          Fault = "pair" // key and certificate do not belong together
	BagEncryptedKey  Fault = "encrypted-key"
)

// Trouble is a fault with what was found and, in PEM, the line.
type Trouble struct {
	Fault Fault
	Found string
	Line  int
}

// Bag is what a file of certificates holds.
type Bag struct {
	Shape        Shape
	Certificates []*x509.Certificate
	Keys         []crypto.Signer
	Revocations  []*x509.RevocationList
	Troubles     []Trouble
	Old          bool // PKCS #12 that releases before PBES2 open
}

func (b *Bag) trouble(fault Fault, line int, found string, args ...any) {
	b.Troubles = append(b.Troubles, Trouble{fault, fmt.Sprintf(found, args...), max(line, 1)})
}

// shape tells the shape of a file by its beginning. PKCS #12 begins with version 3, PKCS #7
// with the identifier of signed data.
func shape(data []byte) Shape {
	switch {
	case bytes.Contains(data, []byte("-----BEGIN ")):
		return PEM
	case len(data) < 16 || data[0] != 0x30:
		return ""
	}
	head := data[:min(len(data), 24)]
	switch {
	case bytes.Contains(head, []byte{0x02, 0x01, 0x03, 0x30}):
		return PKCS12
	case bytes.Contains(head, []byte{0x06, 0x09, 0x2a,
		0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x07, 0x02}):
		return PKCS7
	}
	return DER
}

// IsBag tells whether a file may hold certificates or keys.
func IsBag(data []byte) bool { return shape(data) != "" }

// Open reads certificates, keys and revocation lists out of a file of any shape. The
// passphrases are tried in turn where it is closed by one.
func Open(data []byte, passphrases ...secret.Text) Bag {
	b := Bag{Shape: shape(data)}
	if len(data) > MaxPEM {
		b.trouble(BagUnreadable, 1, "%d bytes, more than %d", len(data), MaxPEM)
		return b
	}
	if b.Shape != PEM && b.Shape != "" {
		if err := sound(data); err != nil {
			b.trouble(BagUnreadable, 1, "%s", err)
			return b
		}
	}
	switch b.Shape {
	case PEM:
		b.pem(data)
	case DER:
		b.der(data)
	case PKCS7:
		p, err := pkcs7.Parse(data)
		if err != nil || len(p.Certificates) > maxCertificates {
			b.trouble(BagUnreadable, 1, "PKCS #7 that cannot be read")
			return b
		}
		b.Certificates = p.Certificates
	case PKCS12:
		b.pkcs12(data, passphrases)
	default:
		b.trouble(BagUnreadable, 1, "neither PEM nor DER")
	}
	b.pairs()
	return b
}

func (b *Bag) pem(data []byte) {
	rest, line := data, 1
	for n := 0; ; n++ {
		block, after := pem.Decode(rest)
		if block == nil {
			break
		}
		before := rest[:len(rest)-len(after)]
		at := line
		if i := bytes.Index(before, []byte("-----BEGIN ")); i >= 0 {
			at += bytes.Count(before[:i], []byte("\n"))
		}
		line += bytes.Count(before, []byte("\n"))
		rest = after
		if n > maxCertificates*2 {
			b.trouble(BagUnreadable, at, "more than %d parts", maxCertificates*2)
			return
		}
		b.block(block, at)
	}
	if bytes.Contains(rest, []byte("-----BEGIN ")) {
		b.trouble(
			BagUnreadable,
			line+bytes.Count(rest[:bytes.Index(rest, []byte("-----BEGIN "))], []byte("\n")),
			"a block that does not end, or is broken inside",
		)
	}
}

func (b *Bag) block(block *pem.Block, line int) {
	if err := sound(
		block.Bytes,
	); err != nil &&
		!errors.Is(err, errDER) { // what is no DER says so itself, or is something else
		b.trouble(BagUnreadable, line, "%s", err)
		return
	}
	switch block.Type {
	case "CERTIFICATE", "TRUSTED CERTIFICATE", "X509 CERTIFICATE":
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			b.trouble(BagUnreadable, line, "a certificate that cannot be read")
			return
		}
		b.Certificates = append(b.Certificates, c)
	case "X509 CRL":
		if list, err := x509.ParseRevocationList(block.Bytes); err != nil {
			b.trouble(BagUnreadable, line, "a revocation list that cannot be read")
		} else {
			b.Revocations = append(b.Revocations, list)
		}
	case "PKCS7":
		inner := Open(block.Bytes)
		b.Certificates, b.Troubles = append(
			b.Certificates,
			inner.Certificates...), append(
			b.Troubles,
			inner.Troubles...)
	case "ENCRYPTED PRIVATE KEY":
		b.trouble(BagEncryptedKey, line, "a private key closed by a passphrase")
	case "PRIVATE KEY", "RSA PRIVATE KEY", "EC PRIVATE KEY":
		if block.Headers["DEK-Info"] != "" {
			b.trouble(BagEncryptedKey, line, "a private key closed by a passphrase")
			return
		}
		key, err := Key(secret.New(string(pem.EncodeToMemory(block))))
		if err != nil {
			b.trouble(BagUnreadable, line, "%s", err)
			return
		}
		b.Keys = append(b.Keys, key)
	}
}

func (b *Bag) der(data []byte) {
	if list, err := x509.ParseCertificates(
		data,
	); err == nil && len(list) > 0 &&
		len(list) <= maxCertificates {
		b.Certificates = list
		return
	}
	if list, err := x509.ParseRevocationList(data); err == nil {
		b.Revocations = []*x509.RevocationList{list}
		return
	}
	for _, kind := range []string{"PRIVATE KEY", "EC PRIVATE KEY", "RSA PRIVATE KEY"} {
		if key, err := Key(
			secret.New(string(pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: data}))),
		); err == nil {
			b.Keys = []crypto.Signer{key}
			return
		}
	}
	b.trouble(BagUnreadable, 1, "no certificate, no key and no revocation list in DER form")
}

// Encryption that was in use before PBES2 (RFC 7292 appendix C): RC2 of 40 bits and 3DES.
var oldEncryption = [][]byte{
	{
		0x2a,
		0x86,
		0x48,
		0x86,
		0xf7,
		0x0d,
		0x01,
		0x0c,
		0x01,
		0x06,
	},
	{0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x0c, 0x01, 0x05},
	{0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x0c, 0x01, 0x03},
}

func (b *Bag) pkcs12(data []byte, passphrases []secret.Text) {
	outer := Rounds(data)
	if outer > MaxRounds {
		b.trouble(BagUnreadable, 1, "%d rounds of key derivation, more than %d", outer, MaxRounds)
		return
	}
	b.Old = slices.ContainsFunc(
		oldEncryption,
		func(oid []byte) bool { return bytes.Contains(data, oid) },
	)
	if b.Old {
		b.trouble(BagWeak, 1, "encrypted by RC2 or 3DES under SHA-1")
	}
	var key any
	var leaf *x509.Certificate
	var chain []*x509.Certificate
	var err error
	passphrase := secret.Text{}
	for i, p := range append([]secret.Text{{}}, passphrases...) {
		if i > 0 && int64(i)*outer > MaxRounds || i > 8 {
			break
		}
		if n := innerRounds(data, p); n > MaxRounds {
			b.trouble(
				BagUnreadable,
				1,
				"%d rounds of key derivation inside, more than %d",
				n,
				MaxRounds,
			)
			return
		}
		if key, leaf, chain, err = pkcs12.DecodeChain(
			data,
			p.Reveal(),
		); !errors.Is(
			err,
			pkcs12.ErrIncorrectPassword,
		) {
			passphrase = p
			break
		}
	}
	switch signer, ok := key.(crypto.Signer); {
	case errors.Is(err, pkcs12.ErrIncorrectPassword):
		b.trouble(BagPassphrase, 1, "closed by another passphrase than those that are known")
	case err != nil:
		// The package tells these apart by their words alone.
		switch text := err.Error(); {
		case strings.HasSuffix(text, "private key missing"):
			b.trouble(BagNoKey, 1, "certificates only")
			if list, err := pkcs12.DecodeTrustStore(data, passphrase.Reveal()); err == nil {
				b.Certificates = list
			}
		case strings.HasSuffix(text, "certificate missing"):
			b.trouble(BagNoCertificate, 1, "a private key only")
		case strings.HasSuffix(text, "one key bag"):
			b.trouble(BagKeys, 1, "more than one")
		default:
			b.trouble(BagUnreadable, 1, "PKCS #12 that cannot be read")
		}
	case !ok:
		b.trouble(BagUnreadable, 1, "a private key that cannot sign")
	default:
		b.Keys, b.Certificates = []crypto.Signer{
			signer,
		}, append(
			[]*x509.Certificate{leaf},
			chain...)
	}
}

// pairs holds that keys belong to the certificates beside them.
func (b *Bag) pairs() {
	if len(b.Keys) == 0 || len(b.Certificates) == 0 {
		return
	}
	for _, k := range b.Keys {
		if !slices.ContainsFunc(
			b.Certificates,
			func(c *x509.Certificate) bool { return Belongs(c, k) },
		) {
			b.trouble(
				BagPair,
				1,
				"a private key that belongs to none of %d certificates",
				len(b.Certificates),
			)
		}
	}
}

// Belongs tells whether a key is that of a certificate.
func Belongs(c *x509.Certificate, key crypto.Signer) bool {
	public, ok := c.PublicKey.(interface{ Equal(crypto.PublicKey) bool })
	return ok && public.Equal(key.Public())
}
