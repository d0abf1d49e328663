package ikev2

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

	"golang.org/x/crypto/chacha20poly1305"

	"wardicon/core/suite"
	"wardicon/core/wire/ikev2"
)

// digests are those of pseudo-random functions and integrity algorithms, by their numbers (RFC 7296
// §3.3.2, RFC 4868), with the bytes that integrity keeps of them.
var (
	functions = map[int]func() hash.Hash{
		1: md5.New, 2: sha1.New, 5: sha256.New, 6: sha512.New384, 7: sha512.New,
	}
	digests = map[int]struct {
		make func() hash.Hash
		kept int
	}{
		1: {md5.New, 12}, 2: {sha1.New, 12}, 12: {sha256.New, 16}, 13: {sha512.New384, 24},
		14: {sha512.New, 32},
	}
)

// mac is a keyed digest over parts.
func mac(make func() hash.Hash, key []byte, parts ...[]byte) []byte {
	m := hmac.New(make, key)
	for _, p := range parts {
		m.Write(p)
	}
	return m.Sum(nil)
}

// expand is prf+ (RFC 7296 §2.13): n bytes out of a key and a seed.
func expand(prf func() hash.Hash, key, seed []byte, n int) []byte {
	var out, last []byte
	for i := byte(1); len(out) < n; i++ {
		last = mac(prf, key, last, seed, []byte{i})
		out = append(out, last...)
	}
	return out[:n]
}

// method is how a suite protects messages: what it needs of keys, and what makes a box of them.
type method struct {
	encryption, integrity int // bytes of their keys; with the salt of an AEAD cipher
	name                  string
	box                   func(encryption, integrity []byte) (*box, error)
}

// errSuite says that a suite is not spoken here.
var errSuite = errors.New("this suite cannot be used here")

// methodOf finds how a chosen proposal protects messages.
func methodOf(p ikev2.Proposal) (m method, err error) {
	bits := 0
	for _, t := range p.Transforms {
		if t.Type == ikev2.Encryption {
			bits = int(t.KeyBits)
		}
	}
	id := p.ID(ikev2.Encryption)
	for _, a := range suite.Table {
		if a.Kind == suite.Encryption && a.Number == id && (bits == 0 || bits == a.Bits) {
			m.name = a.Name
			break
		}
	}
	switch m.name {
	case "aes256gcm16", "aes128gcm16":
		m.encryption = bits/8 + saltSize
		m.box = sealedBy(func(key []byte) (cipher.AEAD, error) {
			b, err := aes.NewCipher(key)
			if err != nil {
				return nil, err
			}
			return cipher.NewGCM(b)
		})
		return m, nil
	case "chacha20poly1305":
		m.encryption, m.box = chacha20poly1305.KeySize+saltSize, sealedBy(chacha20poly1305.New)
		return m, nil
	case "aes256", "aes192", "aes128":
		m.encryption = bits / 8
		m.box, err = chainedBy(p, aes.NewCipher, &m)
	case "3des":
		m.encryption = 24
		m.box, err = chainedBy(p, des.NewTripleDESCipher, &m)
	default:
		return m, fmt.Errorf("encryption %d: %w", id, errSuite)
	}
	return m, err
}

const saltSize, ivSize = 4, 8 // of an AEAD cipher (RFC 4106 §3, RFC 5282 §3, RFC 7634 §2)

func sealedBy(make func(key []byte) (cipher.AEAD, error)) func(e, i []byte) (*box, error) {
	return func(encryption, _ []byte) (*box, error) {
		at := len(encryption) - saltSize
		c, err := make(encryption[:at])
		return &box{aead: c, salt: encryption[at:], block: 1, iv: ivSize, tag: 16}, err
	}
}

func chainedBy(
	p ikev2.Proposal,
	make func(key []byte) (cipher.Block, error),
	m *method,
) (func(e, i []byte) (*box, error), error) {
	d, ok := digests[p.ID(ikev2.Integrity)]
	if !ok {
		return nil, fmt.Errorf("integrity %d: %w", p.ID(ikev2.Integrity), errSuite)
	}
	m.integrity = d.make().Size()
	return func(encryption, integrity []byte) (*box, error) {
		c, err := make(encryption)
		if err != nil {
			return nil, err
		}
		return &box{
			chain: c, digest: d.make, key: integrity, block: c.BlockSize(), iv: c.BlockSize(),
			tag: d.kept,
		}, nil
	}, nil
}

// box protects one direction: by an AEAD cipher (RFC 5282, RFC 4106, RFC 7634), or by CBC and a
// keyed digest over all that stands before it (RFC 7296 §3.14, RFC 4303 §2).
type box struct {
	aead   cipher.AEAD
	salt   []byte
	chain  cipher.Block
	digest func() hash.Hash
	key    []byte

	block, iv, tag int // bytes
	count          uint64
}

// size is how many bytes a text of n bytes takes when it is sealed.
func (b *box) size(n int) int { return b.iv + n + b.tag }

// seal protects a text of whole blocks and what stands before it.
func (b *box) seal(before, text []byte, random io.Reader) ([]byte, error) {
	if b.aead != nil {
		b.count++
		iv := binary.BigEndian.AppendUint64(nil, b.count)
		return b.aead.Seal(iv, append(bytes.Clone(b.salt), iv...), text, before), nil
	}
	out := make([]byte, b.iv+len(text), b.size(len(text)))
	if _, err := io.ReadFull(random, out[:b.iv]); err != nil {
		return nil, err
	}
	cipher.NewCBCEncrypter(b.chain, out[:b.iv]).CryptBlocks(out[b.iv:], text)
	return append(out, mac(b.digest, b.key, before, out)[:b.tag]...), nil
}

// errSealed says that a message was changed on its way, or is of another key.
var errSealed = errors.New("the message does not open with these keys")

// open reads what was sealed.
func (b *box) open(before, sealed []byte) ([]byte, error) {
	if len(sealed) < b.iv+b.tag {
		return nil, errSealed
	}
	iv, rest := sealed[:b.iv], sealed[b.iv:]
	if b.aead != nil {
		text, err := b.aead.Open(nil, append(bytes.Clone(b.salt), iv...), rest, before)
		if err != nil {
			return nil, errSealed
		}
		return text, nil
	}
	text, tag := rest[:len(rest)-b.tag], rest[len(rest)-b.tag:]
	if len(text)%b.block != 0 || len(text) == 0 ||
		!hmac.Equal(mac(b.digest, b.key, before, sealed[:len(sealed)-b.tag])[:b.tag], tag) {
		return nil, errSealed
	}
	out := make([]byte, len(text))
	cipher.NewCBCDecrypter(b.chain, iv).CryptBlocks(out, text)
	return out, nil
}
