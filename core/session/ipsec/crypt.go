package ipsec

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/des"
	"crypto/hmac"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"io"

	//lint:ignore SA1019 old gateways still agree on it; that it is weak is a finding
	"golang.org/x/crypto/blowfish"
	//lint:ignore SA1019 likewise
	"golang.org/x/crypto/cast5"
	"golang.org/x/crypto/chacha20poly1305"
)

// Digest is what keyed digests are made with, and how many bytes integrity keeps of one (RFC 2403,
// RFC 2404, RFC 4868).
type Digest struct {
	Make func() hash.Hash
	Kept int
}

// Digests are those that are spoken here, by the names of suites.
var Digests = map[string]Digest{
	"md5":    {md5.New, 12},
	"sha1":   {sha1.New, 12},
	"sha256": {sha256.New, 16},
	"sha384": {sha512.New384, 24},
	"sha512": {sha512.New, 32},
}

// MAC is a keyed digest over parts (RFC 2104).
func MAC(make func() hash.Hash, key []byte, parts ...[]byte) []byte {
	m := hmac.New(make, key)
	for _, p := range parts {
		m.Write(p)
	}
	return m.Sum(nil)
}

// Method is how a suite protects messages: how many bytes its keys have, and what makes a box of
// them. The key of an AEAD cipher has its salt at the end.
type Method struct {
	Encryption, Integrity int
	Name                  string // of the encryption
	Box                   func(encryption, integrity []byte) (*Box, error)
}

// ErrSuite says that a suite is not spoken here.
var ErrSuite = errors.New("this suite cannot be used here")

// keyBytes are the lengths of the keys of ciphers, by the names of suites.
var keyBytes = map[string]int{
	"aes256gcm16": 32, "aes128gcm16": 16, "chacha20poly1305": 32,
	"aes256": 32, "aes192": 24, "aes128": 16, "3des": 24, "camellia256": 32, "blowfish128": 16,
	"cast128": 16, "des": 8,
}

// Block makes the block cipher of an encryption that is chained; false for another.
func Block(encryption string) (make func(key []byte) (cipher.Block, error), key int, ok bool) {
	switch encryption {
	case "aes256", "aes192", "aes128":
		make = aes.NewCipher
	case "3des":
		make = des.NewTripleDESCipher
	case "camellia256":
		make = newCamellia
	case "blowfish128":
		make = func(key []byte) (cipher.Block, error) { return blowfish.NewCipher(key) }
	case "cast128":
		make = func(key []byte) (cipher.Block, error) { return cast5.NewCipher(key) }
	case "des":
		make = des.NewCipher
	}
	return make, keyBytes[encryption], make != nil
}

// clear is no cipher at all (RFC 2410).
const clear = "null"

// MethodOf finds how an encryption and an integrity algorithm protect messages, by the names of
// suites. An AEAD cipher has no integrity algorithm.
func MethodOf(encryption, integrity string) (m Method, err error) {
	m.Name = encryption
	switch encryption {
	case "aes256gcm16", "aes128gcm16":
		m.Encryption = keyBytes[encryption] + saltSize
		m.Box = sealedBy(func(key []byte) (cipher.AEAD, error) {
			b, err := aes.NewCipher(key)
			if err != nil {
				return nil, err
			}
			return cipher.NewGCM(b)
		})
		return m, nil
	case "chacha20poly1305":
		m.Encryption = chacha20poly1305.KeySize + saltSize
		m.Box = sealedBy(chacha20poly1305.New)
		return m, nil
	}
	make, key, ok := Block(encryption)
	if !ok && encryption != clear {
		return m, fmt.Errorf("encryption %q: %w", encryption, ErrSuite)
	}
	d, ok := Digests[integrity]
	if !ok {
		return m, fmt.Errorf("integrity %q: %w", integrity, ErrSuite)
	}
	m.Encryption, m.Integrity = key, d.Make().Size()
	m.Box = func(encryption, integrity []byte) (*Box, error) {
		if make == nil {
			return &Box{digest: d, key: integrity, block: 1, tag: d.Kept}, nil
		}
		c, err := make(encryption)
		if err != nil {
			return nil, err
		}
		return &Box{
			chain: c, digest: d, key: integrity,
			block: c.BlockSize(), iv: c.BlockSize(), tag: d.Kept,
		}, nil
	}
	return m, nil
}

const saltSize, ivSize = 4, 8 // of an AEAD cipher (RFC 4106 §3, RFC 5282 §3, RFC 7634 §2)

func sealedBy(make func(key []byte) (cipher.AEAD, error)) func(e, i []byte) (*Box, error) {
	return func(encryption, _ []byte) (*Box, error) {
		at := len(encryption) - saltSize
		c, err := make(encryption[:at])
		return &Box{aead: c, salt: encryption[at:], block: 1, iv: ivSize, tag: 16}, err
	}
}

// Box protects one direction: by an AEAD cipher (RFC 5282, RFC 4106, RFC 7634), or by CBC and a
// keyed digest over all that stands before it (RFC 7296 §3.14, RFC 4303 §2).
type Box struct {
	aead   cipher.AEAD
	salt   []byte
	chain  cipher.Block
	digest Digest
	key    []byte

	block, iv, tag int // bytes
	count          uint64
}

// Block is the length of which a text has to be a multiple, in bytes.
func (b *Box) Block() int { return b.block }

// Size is how many bytes a text of n bytes takes when it is sealed.
func (b *Box) Size(n int) int { return b.iv + n + b.tag }

// Seal protects a text of whole blocks and what stands before it.
func (b *Box) Seal(before, text []byte, random io.Reader) ([]byte, error) {
	if b.aead != nil {
		b.count++
		iv := binary.BigEndian.AppendUint64(nil, b.count)
		return b.aead.Seal(iv, append(bytes.Clone(b.salt), iv...), text, before), nil
	}
	out := make([]byte, b.iv+len(text), b.Size(len(text)))
	if _, err := io.ReadFull(random, out[:b.iv]); err != nil {
		return nil, err
	}
	if b.chain == nil {
		copy(out, text)
	} else {
		cipher.NewCBCEncrypter(b.chain, out[:b.iv]).CryptBlocks(out[b.iv:], text)
	}
	return append(out, MAC(b.digest.Make, b.key, before, out)[:b.tag]...), nil
}

// ErrSealed says that a message was changed on its way, or is of another key.
var ErrSealed = errors.New("the message does not open with these keys")

// Open reads what was sealed.
func (b *Box) Open(before, sealed []byte) ([]byte, error) {
	if len(sealed) < b.iv+b.tag {
		return nil, ErrSealed
	}
	iv, rest := sealed[:b.iv], sealed[b.iv:]
	if b.aead != nil {
		text, err := b.aead.Open(nil, append(bytes.Clone(b.salt), iv...), rest, before)
		if err != nil {
			return nil, ErrSealed
		}
		return text, nil
	}
	text, tag := rest[:len(rest)-b.tag], rest[len(rest)-b.tag:]
	if len(text)%b.block != 0 || len(text) == 0 ||
		!hmac.Equal(MAC(b.digest.Make, b.key, before, sealed[:len(sealed)-b.tag])[:b.tag], tag) {
		return nil, ErrSealed
	}
	if b.chain == nil {
		return bytes.Clone(text), nil
	}
	out := make([]byte, len(text))
	cipher.NewCBCDecrypter(b.chain, iv).CryptBlocks(out, text)
	return out, nil
}
