package ikev2

import (
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"hash"

	"wardicon/core/session/ipsec"
	"wardicon/core/suite"
	"wardicon/core/wire/ikev2"
)

// functions are the pseudo-random ones, by their numbers (RFC 7296 §3.3.2, RFC 4868).
var functions = map[int]func() hash.Hash{
	1: md5.New, 2: sha1.New, 5: sha256.New, 6: sha512.New384, 7: sha512.New,
}

// expand is prf+ (RFC 7296 §2.13): n bytes out of a key and a seed.
func expand(prf func() hash.Hash, key, seed []byte, n int) []byte {
	var out, last []byte
	for i := byte(1); len(out) < n; i++ {
		last = ipsec.MAC(prf, key, last, seed, []byte{i})
		out = append(out, last...)
	}
	return out[:n]
}

// methodOf finds how a chosen proposal protects messages.
func methodOf(p ikev2.Proposal) (ipsec.Method, error) {
	bits := 0
	for _, t := range p.Transforms {
		if t.Type == ikev2.Encryption {
			bits = int(t.KeyBits)
		}
	}
	name, id := "", p.ID(ikev2.Encryption)
	for _, a := range suite.Table {
		if a.Kind == suite.Encryption && a.Number == id && (bits == 0 || bits == a.Bits) {
			name = a.Name
			break
		}
	}
	return ipsec.MethodOf(name, suite.Numbered(suite.Integrity, p.ID(ikev2.Integrity)))
}
