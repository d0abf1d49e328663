package ipsec

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/subtle"
	"slices"
)

// PRF is a pseudo-random function of IKEv2 (RFC 7296 §2.13).
type PRF struct {
	Size int // bytes that come out, and of keys that are made for it
	// only the first 64 bits of each nonce make the first key (RFC 7296 §2.14)
	HalfNonces bool

	of func(key, text []byte) []byte
}

// PRFs are those that are spoken here, by the names of suites (RFC 7296 §3.3.2, RFC 4868, RFC 4434,
// RFC 4615).
var PRFs = func() map[string]PRF {
	all := map[string]PRF{
		"prfaesxcbc": {aes.BlockSize, true, prfXCBC},
		"prfaescmac": {aes.BlockSize, true, prfCMAC},
	}
	for name, d := range Digests {
		all["prf"+name] = PRF{Size: d.Make().Size(), of: func(key, text []byte) []byte {
			return MAC(d.Make, key, text)
		}}
	}
	return all
}()

// Of is the function of a key and of parts that stand one after the other.
func (p PRF) Of(key []byte, parts ...[]byte) []byte { return p.of(key, slices.Concat(parts...)) }

// Expand is prf+ (RFC 7296 §2.13): n bytes out of a key and a seed.
func (p PRF) Expand(key, seed []byte, n int) []byte {
	var out, last []byte
	for i := byte(1); len(out) < n; i++ {
		last = p.Of(key, last, seed, []byte{i})
		out = append(out, last...)
	}
	return out[:n]
}

// prfXCBC is AES-XCBC-PRF-128 (RFC 4434 §2): a short key is filled up, a long one is hashed.
func prfXCBC(key, text []byte) []byte {
	switch {
	case len(key) < aes.BlockSize:
		key = append(slices.Clone(key), make([]byte, aes.BlockSize-len(key))...)
	case len(key) > aes.BlockSize:
		key = xcbc(make([]byte, aes.BlockSize), key)
	}
	return xcbc(key, text)
}

// prfCMAC is AES-CMAC-PRF-128 (RFC 4615 §3): a key of another length is hashed.
func prfCMAC(key, text []byte) []byte {
	if len(key) != aes.BlockSize {
		key = cmac(make([]byte, aes.BlockSize), key)
	}
	return cmac(key, text)
}

// xcbc is AES-XCBC-MAC with all of its 128 bits (RFC 3566 §4). The key has 16 bytes.
func xcbc(key, text []byte) []byte {
	var made [3][]byte
	master, _ := aes.NewCipher(key)
	for i := range made {
		made[i] = slices.Repeat([]byte{byte(i + 1)}, aes.BlockSize)
		master.Encrypt(made[i], made[i])
	}
	c, _ := aes.NewCipher(made[0])
	return chained(c, text, made[1], made[2])
}

// cmac is AES-CMAC (RFC 4493 §2.3, §2.4). The key has 16 bytes.
func cmac(key, text []byte) []byte {
	c, _ := aes.NewCipher(key)
	double := func(b []byte) []byte {
		out, carry := make([]byte, len(b)), byte(0)
		for i := range slices.Backward(b) {
			out[i], carry = b[i]<<1|carry, b[i]>>7
		}
		out[len(out)-1] ^= carry * 0x87
		return out
	}
	zero := make([]byte, aes.BlockSize)
	c.Encrypt(zero, zero)
	whole := double(zero)
	return chained(c, text, whole, double(whole))
}

// chained is the MAC that both have in common: CBC over a text, with one key added to its last
// block where that is whole, and another where it is filled up.
func chained(c cipher.Block, text, whole, filled []byte) []byte {
	sum := make([]byte, aes.BlockSize)
	for len(text) > aes.BlockSize {
		subtle.XORBytes(sum, sum, text[:aes.BlockSize])
		c.Encrypt(sum, sum)
		text = text[aes.BlockSize:]
	}
	last := whole
	if len(text) < aes.BlockSize {
		end := make([]byte, aes.BlockSize)
		copy(end, text)
		end[len(text)] = 0x80
		text, last = end, filled
	}
	subtle.XORBytes(sum, sum, text)
	subtle.XORBytes(sum, sum, last)
	c.Encrypt(sum, sum)
	return sum
}
