package ikev1

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/x509"
	"encoding/asn1"
	"errors"
	"fmt"
	"io"
	"math/big"

	"wardicon/core/wire/ikev1"
	"wardicon/core/wire/isakmp"

	// the digests that signatures by ECDSA are made over
	_ "crypto/sha256"
	_ "crypto/sha512"
)

// ErrProof says that the gateway's proof is not by the key that it claims.
var ErrProof = errors.New("the gateway's authentication is not valid")

// ErrKey says that the gateway decrypts with another key than the device has.
var ErrKey = errors.New("the gateway does not answer the proof of the pre-shared key")

const certX509 = 4 // RFC 2408 §3.9

// signature is the method of a key, and its digest with ECDSA (RFC 2409 §5.1, RFC 4754 §3).
func signature(public crypto.PublicKey) (auth uint16, digest crypto.Hash, err error) {
	switch k := public.(type) {
	case *rsa.PublicKey:
		return ikev1.AuthRSA, 0, nil
	case *ecdsa.PublicKey:
		switch k.Curve {
		case elliptic.P256():
			return ikev1.AuthP256, crypto.SHA256, nil
		case elliptic.P384():
			return ikev1.AuthP384, crypto.SHA384, nil
		case elliptic.P521():
			return ikev1.AuthP521, crypto.SHA512, nil
		}
	}
	return 0, 0, fmt.Errorf("a key of the type %T cannot sign in by IKEv1", public)
}

// sign signs a proof as it is: it is a digest already, and RSA has no name of one before it (RFC
// 2409 §5.1). With ECDSA the IKE daemons that run on Linux do the same.
func sign(key crypto.Signer, proof []byte, random io.Reader) ([]byte, error) {
	der, err := key.Sign(random, proof, crypto.Hash(0))
	public, ok := key.Public().(*ecdsa.PublicKey)
	if err != nil || !ok {
		return der, err
	}
	var pair struct{ R, S *big.Int }
	if _, err := asn1.Unmarshal(der, &pair); err != nil {
		return nil, err
	}
	size := (public.Curve.Params().BitSize + 7) / 8
	out := pair.R.FillBytes(make([]byte, size))
	return append(out, pair.S.FillBytes(make([]byte, size))...), nil
}

// verify holds a signature of a proof to a key, and says how it was made. With ECDSA the proof may
// have gone through the digest of the curve (RFC 4754 §3).
func verify(public crypto.PublicKey, proof, signed []byte) (string, error) {
	_, digest, err := signature(public)
	if err != nil {
		return "", err
	}
	switch k := public.(type) {
	case *rsa.PublicKey:
		if rsa.VerifyPKCS1v15(k, crypto.Hash(0), proof, signed) == nil {
			return "RSA", nil
		}
	case *ecdsa.PublicKey:
		h := digest.New()
		h.Write(proof)
		size := (k.Curve.Params().BitSize + 7) / 8
		if len(signed) != 2*size {
			return "", ErrProof
		}
		r, s := new(big.Int).SetBytes(signed[:size]), new(big.Int).SetBytes(signed[size:])
		if ecdsa.Verify(k, proof, r, s) || ecdsa.Verify(k, h.Sum(nil), r, s) {
			return "ECDSA", nil
		}
	}
	return "", ErrProof
}

// shown are the certificates of a message.
func shown(list []isakmp.Payload) (chain []*x509.Certificate, err error) {
	for _, p := range list {
		if p.Kind != ikev1.KindCert || len(p.Body) < 2 || p.Body[0] != certX509 {
			continue
		}
		c, err := x509.ParseCertificate(p.Body[1:])
		if err != nil {
			return nil, fmt.Errorf("a certificate of the gateway cannot be read: %w", err)
		}
		chain = append(chain, c)
	}
	return chain, nil
}

// certificates shows a chain.
func certificates(chain []*x509.Certificate) (list []isakmp.Payload) {
	for _, c := range chain {
		list = append(list, isakmp.Payload{
			Kind: ikev1.KindCert, Body: append([]byte{certX509}, c.Raw...),
		})
	}
	return list
}
