package sstp

import (
	"crypto/hmac"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/subtle"
	"hash"
)

// Sizes of what crypto binding is made of, in bytes (MS-SSTP §2.2.7).
const (
	nonceSize   = 32
	digestSize  = 32 // a shorter one is followed by zeros
	bindingSize = 4 + nonceSize + 2*digestSize
	macAt       = controlSize + attributeSize + 4 + nonceSize + digestSize
)

// boundTo is what keys of crypto binding are told apart by (MS-SSTP §3.2.5.2.2).
const boundTo = "SSTP inner method derived CMK"

// digestOf is the digest that an end chose of those that the other one has.
func digestOf(bit uint8) (func() hash.Hash, bool) {
	switch bit {
	case HashSHA256:
		return sha256.New, true
	case HashSHA1:
		return sha1.New, true
	}
	return nil, false
}

// Bind tells the gateway that the PPP within and the TLS around are of one client: a message that
// says what PPP's keys make of the gateway's nonce and certificate (MS-SSTP §2.2.11, §3.2.5.2).
// Keys are the client's 16 bytes to send with and those to receive with; nil where the sign-in made
// none. It is false for a digest that is not known.
func Bind(bit uint8, nonce, certificate, keys []byte) (Message, bool) {
	make_, ok := digestOf(bit)
	if !ok || len(nonce) != nonceSize {
		return Message{}, false
	}
	value := make([]byte, 0, bindingSize)
	value = append(append(value, 0, 0, 0, bit), nonce...)
	d := make_()
	d.Write(certificate)
	value = append(value, padded(d.Sum(nil))...)
	m := Message{Kind: Connected, Attributes: []Attribute{
		{AttrBinding, append(value, make([]byte, digestSize)...)},
	}}
	whole, err := m.Encode()
	if err != nil {
		return Message{}, false
	}
	copy(m.Attributes[0].Value[len(value):], compound(make_, whole, keys))
	return m, true
}

func padded(digest []byte) []byte {
	return append(digest, make([]byte, digestSize-len(digest))...)
}

// compound is the digest over a message whose own place for it is empty.
func compound(make_ func() hash.Hash, whole, keys []byte) []byte {
	secret := make([]byte, 32)
	copy(secret, keys)
	sum := func(key []byte, parts ...[]byte) []byte {
		h := hmac.New(make_, key)
		for _, p := range parts {
			h.Write(p)
		}
		return h.Sum(nil)
	}
	size := byte(make_().Size())
	key := sum(secret, []byte(boundTo), []byte{size, 0, 1})
	return padded(sum(key, whole))
}

// Bound tells whether a message of a client binds it to a nonce, a certificate and keys.
func Bound(b, nonce, certificate, keys []byte) bool {
	if len(b) != macAt+digestSize {
		return false
	}
	want, ok := Bind(b[controlSize+attributeSize+3], nonce, certificate, keys)
	if !ok {
		return false
	}
	whole, err := want.Encode()
	return err == nil && subtle.ConstantTimeCompare(whole, b) == 1
}
