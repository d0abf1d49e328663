// Package pkcs11 uses keys that never leave a token: a hardware security module, a smart card, or
// one in software (PKCS #11 v2.40). The vendor's module runs in a helper process of its own, which
// has nothing else in its memory: a fault in it costs the helper, not the service.
package pkcs11

import (
	"crypto"

	"wardicon/core/pki"
)

// Helper is the name of the program that loads a token's module.
const Helper = "wardicon-pkcs11"

// Service is the name of what the helper answers to, by JSON-RPC 1.0 on its standard input and
// output, one request at a time or several at once.
const Service = "Token"

// Opening is what the helper is told first: which token of which module, and the PIN. A token is
// known by its label or its serial number.
type Opening struct {
	Module, Label, Serial, PIN string
}

// Object names a key in a token (CKA_ID, CKA_LABEL); one of them may be empty.
type Object struct {
	ID    []byte
	Label string
}

// Making asks for a key that cannot be extracted.
type Making struct {
	Object
	Kind pki.KeyChoice
}

// Signing asks for a signature of a digest; with PSS by RSASSA-PSS and a salt of as many octets (RFC
// 8017 §8.1), else by RSASSA-PKCS1-v1_5 or ECDSA, which is answered as DER.
type Signing struct {
	Object
	Digest []byte
	Hash   crypto.Hash
	PSS    bool
	Salt   int
}

// Opened asks to open what was sealed for an RSA key by RSAES-OAEP with SHA-1 (RFC 8017 §7.1), which
// every token can do; that SHA-1 has collisions is no weakness there.
type Opened struct {
	Object
	Sealed []byte
}
