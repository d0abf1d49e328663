package ikev2

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/hmac"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/big"
	"slices"

	// the digests that signatures are made over
	_ "crypto/sha256"
	_ "crypto/sha512"

	"wardicon/core/session/ipsec"
)

// Methods of authentication (RFC 7296 §3.8, RFC 4754 §3, RFC 7427 §3).
const (
	authRSA       = 1
	authShared    = 2
	authP256      = 9
	authP384      = 10
	authP521      = 11
	authSignature = 14
)

// hashes are those of RFC 7427 §7 and RFC 8420 §2 that are spoken here, as a device announces them.
var hashes = []crypto.Hash{crypto.SHA256, crypto.SHA384, crypto.SHA512}

// ErrProof says that the gateway's proof is not by the key that it claims.
var ErrProof = errors.New("the gateway's authentication is not valid")

// shared proves an end by a secret that both have (RFC 7296 §2.15).
func shared(prf ipsec.PRF, secret, octets []byte) []byte {
	return prf.Of(prf.Of(secret, []byte("Key Pad for IKEv2")), octets)
}

// announced writes the hash algorithms for a notification (RFC 7427 §4).
func announced() []byte { return []byte{0, 2, 0, 3, 0, 4} }

var (
	oidRSA = map[crypto.Hash]asn1.ObjectIdentifier{
		crypto.SHA1:   {1, 2, 840, 113549, 1, 1, 5},
		crypto.SHA256: {1, 2, 840, 113549, 1, 1, 11},
		crypto.SHA384: {1, 2, 840, 113549, 1, 1, 12},
		crypto.SHA512: {1, 2, 840, 113549, 1, 1, 13},
	}
	oidECDSA = map[crypto.Hash]asn1.ObjectIdentifier{
		crypto.SHA1:   {1, 2, 840, 10045, 4, 1},
		crypto.SHA256: {1, 2, 840, 10045, 4, 3, 2},
		crypto.SHA384: {1, 2, 840, 10045, 4, 3, 3},
		crypto.SHA512: {1, 2, 840, 10045, 4, 3, 4},
	}
	oidHash = map[crypto.Hash]asn1.ObjectIdentifier{
		crypto.SHA1:   {1, 3, 14, 3, 2, 26},
		crypto.SHA256: {2, 16, 840, 1, 101, 3, 4, 2, 1},
		crypto.SHA384: {2, 16, 840, 1, 101, 3, 4, 2, 2},
		crypto.SHA512: {2, 16, 840, 1, 101, 3, 4, 2, 3},
	}
	oidPSS     = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 1, 10}
	oidEd25519 = asn1.ObjectIdentifier{1, 3, 101, 112}
)

func digest(h crypto.Hash, octets []byte) []byte {
	d := h.New()
	d.Write(octets)
	return d.Sum(nil)
}

// sign proves this end by its key: as RFC 7427 has it where the gateway announced that it knows it,
// else as RFC 7296 §2.15 and RFC 4754 do.
func sign(key crypto.Signer, octets []byte, its []crypto.Hash, random io.Reader) ([]byte, error) {
	switch k := key.Public().(type) {
	case *rsa.PublicKey:
		if len(its) == 0 {
			s, err := key.Sign(random, digest(crypto.SHA1, octets), crypto.SHA1)
			return append([]byte{authRSA, 0, 0, 0}, s...), err
		}
		s, err := key.Sign(random, digest(its[0], octets), its[0])
		return labelled(pkix.AlgorithmIdentifier{
			Algorithm: oidRSA[its[0]], Parameters: asn1.NullRawValue,
		}, s, err)
	case *ecdsa.PublicKey:
		h, method := curveHash(k.Curve)
		s, err := key.Sign(random, digest(h, octets), h)
		if err != nil {
			return nil, err
		}
		if slices.Contains(its, h) {
			return labelled(pkix.AlgorithmIdentifier{Algorithm: oidECDSA[h]}, s, nil)
		}
		var pair struct{ R, S *big.Int }
		if _, err := asn1.Unmarshal(s, &pair); err != nil {
			return nil, err
		}
		size := (k.Curve.Params().BitSize + 7) / 8
		out := append([]byte{method, 0, 0, 0}, pair.R.FillBytes(make([]byte, size))...)
		return append(out, pair.S.FillBytes(make([]byte, size))...), nil
	}
	return nil, fmt.Errorf("a key of the type %T cannot sign in by IKEv2 here", key.Public())
}

// curveHash is the digest that goes with a curve, and the method of both (RFC 4754 §3).
func curveHash(c elliptic.Curve) (crypto.Hash, byte) {
	switch c {
	case elliptic.P384():
		return crypto.SHA384, authP384
	case elliptic.P521():
		return crypto.SHA512, authP521
	}
	return crypto.SHA256, authP256
}

func labelled(a pkix.AlgorithmIdentifier, signature []byte, err error) ([]byte, error) {
	if err != nil {
		return nil, err
	}
	der, err := asn1.Marshal(a)
	if err != nil {
		return nil, err
	}
	out := append([]byte{authSignature, 0, 0, 0, byte(len(der))}, der...)
	return append(out, signature...), nil
}

// verify holds a signature of the gateway to the key of its certificate, and says how it was made.
func verify(public crypto.PublicKey, auth, octets []byte) (how string, err error) {
	if len(auth) < 4 {
		return "", ErrProof
	}
	signature := auth[4:]
	switch auth[0] {
	case authRSA:
		k, ok := public.(*rsa.PublicKey)
		if !ok ||
			rsa.VerifyPKCS1v15(k, crypto.SHA1, digest(crypto.SHA1, octets), signature) != nil {
			return "", ErrProof
		}
		return "RSA with SHA-1", nil
	case authP256, authP384, authP521:
		k, ok := public.(*ecdsa.PublicKey)
		if !ok {
			return "", ErrProof
		}
		h, method := curveHash(k.Curve)
		size := (k.Curve.Params().BitSize + 7) / 8
		if method != auth[0] || len(signature) != 2*size || !ecdsa.Verify(k, digest(h, octets),
			new(big.Int).SetBytes(signature[:size]), new(big.Int).SetBytes(signature[size:])) {
			return "", ErrProof
		}
		return "ECDSA with " + h.String(), nil
	case authSignature:
		return verifyLabelled(public, signature, octets)
	}
	return "", fmt.Errorf("%w: method %d, expected a signature", ErrProof, auth[0])
}

func verifyLabelled(public crypto.PublicKey, b, octets []byte) (string, error) {
	if len(b) < 1 || len(b) < 1+int(b[0]) {
		return "", ErrProof
	}
	var a pkix.AlgorithmIdentifier
	if rest, err := asn1.Unmarshal(b[1:1+b[0]], &a); err != nil || len(rest) > 0 {
		return "", ErrProof
	}
	signature := b[1+b[0]:]
	switch k := public.(type) {
	case *rsa.PublicKey:
		if a.Algorithm.Equal(oidPSS) {
			h, ok := pssHash(a.Parameters.FullBytes)
			if !ok || rsa.VerifyPSS(k, h, digest(h, octets), signature, nil) != nil {
				return "", ErrProof
			}
			return "RSA-PSS with " + h.String(), nil
		}
		for h, oid := range oidRSA {
			if a.Algorithm.Equal(oid) &&
				rsa.VerifyPKCS1v15(k, h, digest(h, octets), signature) == nil {
				return "RSA with " + h.String(), nil
			}
		}
	case *ecdsa.PublicKey:
		for h, oid := range oidECDSA {
			if a.Algorithm.Equal(oid) && ecdsa.VerifyASN1(k, digest(h, octets), signature) {
				return "ECDSA with " + h.String(), nil
			}
		}
	case ed25519.PublicKey:
		if a.Algorithm.Equal(oidEd25519) && ed25519.Verify(k, octets, signature) {
			return "Ed25519", nil
		}
	}
	return "", ErrProof
}

// pssHash is the digest of parameters of RSASSA-PSS (RFC 4055 §3.1); SHA-1 is the default.
func pssHash(der []byte) (crypto.Hash, bool) {
	var p struct {
		Hash pkix.AlgorithmIdentifier `asn1:"explicit,optional,tag:0"`
		MGF  pkix.AlgorithmIdentifier `asn1:"explicit,optional,tag:1"`
		Salt int                      `asn1:"explicit,optional,tag:2,default:20"`
	}
	if _, err := asn1.Unmarshal(der, &p); err != nil {
		return 0, false
	}
	for h, oid := range oidHash {
		if p.Hash.Algorithm.Equal(oid) {
			return h, true
		}
	}
	return crypto.SHA1, len(p.Hash.Algorithm) == 0
}

// requested writes the authorities that certificates are wanted from: digests of their keys
// (RFC 7296 §3.7).
func requested(authorities []*x509.Certificate) []byte {
	b := []byte{certX509}
	for _, c := range authorities {
		sum := sha1.Sum(c.RawSubjectPublicKeyInfo)
		b = append(b, sum[:]...)
	}
	return b
}

const certX509 = 4 // RFC 7296 §3.6

// sharedProof holds a proof by a secret to what it should be.
func sharedProof(prf ipsec.PRF, secret, octets, auth []byte) error {
	if len(auth) < 4 || auth[0] != authShared ||
		!hmac.Equal(auth[4:], shared(prf, secret, octets)) {
		return ErrProof
	}
	return nil
}

// theirHashes reads which digests the gateway announced.
func theirHashes(b []byte) (list []crypto.Hash) {
	for ; len(b) >= 2; b = b[2:] {
		if i := int(binary.BigEndian.Uint16(b)) - 2; i >= 0 && i < len(hashes) {
			list = append(list, hashes[i])
		}
	}
	return list
}
