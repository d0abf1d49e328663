package pki

import (
	"crypto"
	"crypto/hkdf"
	"crypto/sha256"
	"crypto/x509"
	"encoding/asn1"
	"errors"
	"fmt"
	"io"
	"math/big"

	"github.com/smallstep/pkcs7"
	"software.sslmate.com/src/go-pkcs12"

	"wardicon/core/secret"
)

// MaxRounds bounds the work that a PKCS#12 file may ask for before it is opened. A file has
// three derivations; 600,000 rounds each are the most that anybody recommends.
const MaxRounds = 2_000_000

// stream yields bytes that follow from a key: nobody without it can foretell them.
type stream struct {
	key   []byte
	label string
	block int
	rest  []byte
}

func (s *stream) Read(p []byte) (int, error) {
	for n := 0; n < len(p); {
		if len(s.rest) == 0 {
			out, err := hkdf.Key(sha256.New, s.key, nil, fmt.Sprintf("%s %d", s.label, s.block), 64)
			if err != nil {
				return n, err
			}
			s.rest, s.block = out, s.block+1
		}
		done := copy(p[n:], s.rest)
		n, s.rest = n+done, s.rest[done:]
	}
	return len(p), nil
}

// Pack packs an identity as PKCS#12 (RFC 7292). old takes the encryption that releases
// before PBES2 open (3DES, SHA-1). Salts and passphrase follow from the key, so that the
// same identity always makes the same file. An empty passphrase is made where bare is set.
func Pack(id Identity, old, bare bool) ([]byte, secret.Text, error) {
	der, err := x509.MarshalPKCS8PrivateKey(id.Key)
	if err != nil {
		return nil, secret.Text{}, fmt.Errorf("the key cannot be packed")
	}
	source := func(label string) io.Reader {
		return &stream{
			key:   der,
			label: "wardicon pkcs12 " + label + " " + id.Leaf.SerialNumber.Text(16),
		}
	}
	var passphrase secret.Text
	if !bare {
		if passphrase, _, err = secret.Make(source("passphrase"), 100); err != nil {
			return nil, secret.Text{}, err
		}
	}
	encoder := pkcs12.Modern2023
	if old {
		encoder = pkcs12.LegacyDES
	}
	data, err := encoder.WithRand(source("salt")).
		Encode(id.Key, id.Leaf, id.Chain, passphrase.Reveal())
	if err != nil {
		return nil, secret.Text{}, fmt.Errorf("packing as PKCS#12: %w", err)
	}
	return data, passphrase, nil
}

// Close packs an identity as PKCS#12 under a passphrase of somebody's own, with PBES2 and SHA-256.
func Close(random io.Reader, id Identity, passphrase secret.Text) ([]byte, error) {
	data, err := pkcs12.Modern2023.WithRand(random).
		Encode(id.Key, id.Leaf, id.Chain, passphrase.Reveal())
	if err != nil {
		return nil, fmt.Errorf("packing as PKCS#12: %w", err)
	}
	return data, nil
}

// Collection packs certificates alone as PKCS #7 (RFC 2315 §9), in DER form.
func Collection(list ...*x509.Certificate) ([]byte, error) {
	var der []byte
	for _, c := range list {
		der = append(der, c.Raw...)
	}
	return pkcs7.DegenerateCertificate(der)
}

// Unpack opens a PKCS#12 file, within bounds.
func Unpack(data []byte, passphrase secret.Text) (Identity, error) {
	if len(data) > MaxPEM {
		return Identity{}, fmt.Errorf("found %d bytes, expected at most %d", len(data), MaxPEM)
	}
	if n := Rounds(data); n > MaxRounds {
		return Identity{}, fmt.Errorf(
			"found %d rounds of key derivation, expected at most %d",
			n,
			MaxRounds,
		)
	}
	if err := sound(data); err != nil {
		return Identity{}, err
	}
	if n := innerRounds(data, passphrase); n > MaxRounds {
		return Identity{}, fmt.Errorf(
			"found %d rounds of key derivation inside, expected at most %d",
			n,
			MaxRounds,
		)
	}
	key, leaf, chain, err := pkcs12.DecodeChain(data, passphrase.Reveal())
	if err != nil {
		return Identity{}, fmt.Errorf("PKCS#12: %w", err)
	}
	signer, ok := key.(crypto.Signer)
	if !ok {
		return Identity{}, fmt.Errorf("PKCS#12 with a key that cannot sign")
	}
	if !Belongs(leaf, signer) {
		return Identity{}, fmt.Errorf("PKCS#12 whose key does not belong to its certificate")
	}
	return Identity{leaf, chain, signer}, nil
}

// Rounds adds up the rounds of key derivation that a PKCS#12 file asks for: each INTEGER
// that follows an OCTET STRING, as in the parameters of RFC 7292 §4 and RFC 8018 §A.
func Rounds(data []byte) int64 { return min(rounds(data, 0), endless) }

const endless = 1 << 40

// rounds looks into octet strings too, where they hold DER themselves.
func rounds(der []byte, depth int) int64 {
	var sum int64
	salted := false
	for len(der) > 0 && depth < 24 && sum < endless {
		var v asn1.RawValue
		rest, err := asn1.Unmarshal(der, &v)
		if err != nil {
			return sum
		}
		if v.Tag == asn1.TagInteger && v.Class == asn1.ClassUniversal && salted {
			n := new(big.Int).SetBytes(v.Bytes)
			if !n.IsInt64() || n.Int64() > endless {
				return endless
			}
			sum += n.Int64()
		}
		salted = v.Tag == asn1.TagOctetString && v.Class == asn1.ClassUniversal
		if v.IsCompound || salted && len(v.Bytes) > 0 && v.Bytes[0] == 0x30 {
			sum += rounds(v.Bytes, depth+1)
		}
		der = rest
	}
	return sum
}

// WrongPassphrase tells that a PKCS#12 file is under another passphrase than the one that was
// given.
func WrongPassphrase(err error) bool { return errors.Is(err, pkcs12.ErrIncorrectPassword) }
