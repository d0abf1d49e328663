package tlstunnel

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/binary"
	"fmt"
	"hash"
	"strings"

	"wardicon/core/vpn"
)

// Sizes of key material in bytes: a static key has two halves, one a direction, each with 64 bytes
// for a cipher and 64 for a digest.
const (
	KeySize  = 256
	halfSize = 128
	macAt    = 64
	aesSize  = 32
)

// Wrapping protects the control channel by a key that both ends have. The zero value wraps in
// nothing.
type Wrapping struct {
	mac           func() hash.Hash // signs alone (tls-auth)
	macSize       int
	send, receive []byte // halves of the key
	crypt         bool   // encrypts, too (tls-crypt)
	// the wrapped key of this client, that goes with its first packet (tls-crypt-v2)
	client []byte
	server []byte // the key that opens those of clients, 128 bytes
}

// Wrap protects the control channel as a client does: by a key of a kind, as files and records
// write it. Direction and digest are of keys that sign alone.
func Wrap(kind vpn.ControlKind, text, direction, digest string) (w Wrapping, err error) {
	key, err := vpn.ControlKeyBytes(kind, text)
	switch {
	case err != nil:
		return w, err
	case kind == vpn.ControlAuth:
		return Auth(key, direction, digest)
	case kind == vpn.ControlCryptV2:
		return CryptV2(key)
	}
	return Crypt(key, false)
}

// Digest finds a digest of the HMAC by its name, with dashes or without.
func Digest(name string) (make func() hash.Hash, known bool) {
	make, known = macs[strings.ReplaceAll(strings.ToUpper(name), "-", "")]
	return make, known
}

// macs are digests of the HMAC by name, without dashes.
var macs = map[string]func() hash.Hash{
	"MD5":    md5.New,
	"SHA1":   sha1.New,
	"SHA224": sha256.New224,
	"SHA256": sha256.New,
	"SHA384": sha512.New384,
	"SHA512": sha512.New,
}

// Auth signs packets with a static key: direction is 0, 1 or empty for the same key both ways; an
// empty digest is SHA1.
func Auth(key []byte, direction, digest string) (w Wrapping, err error) {
	if digest == "" {
		digest = "SHA1"
	}
	make, ok := Digest(digest)
	if !ok {
		return w, fmt.Errorf(
			"digest %q, expected MD5, SHA1, SHA224, SHA256, SHA384 or SHA512",
			digest,
		)
	}
	if len(key) != KeySize {
		return w, fmt.Errorf("a key of %d bytes, expected %d", len(key), KeySize)
	}
	w = Wrapping{mac: make, macSize: make().Size(), send: key[:halfSize], receive: key[:halfSize]}
	switch direction {
	case "0":
		w.receive = key[halfSize:]
	case "1":
		w.send = key[halfSize:]
	}
	return w, nil
}

// Crypt encrypts packets with a static key, as a client or as a server.
func Crypt(key []byte, server bool) (w Wrapping, err error) {
	if len(key) != KeySize {
		return w, fmt.Errorf("a key of %d bytes, expected %d", len(key), KeySize)
	}
	w = Wrapping{crypt: true, send: key[halfSize:], receive: key[:halfSize]}
	if server {
		w.send, w.receive = w.receive, w.send
	}
	return w, nil
}

// CryptV2 encrypts packets with the key of one client, which is followed by the same key wrapped
// for the server.
func CryptV2(key []byte) (w Wrapping, err error) {
	if len(key) <= KeySize+trailSize ||
		int(binary.BigEndian.Uint16(key[len(key)-2:])) != len(key)-KeySize {
		return w, fmt.Errorf(
			"a client key of %d bytes, expected %d and the wrapped key behind it",
			len(key),
			KeySize,
		)
	}
	w, err = Crypt(key[:KeySize], false)
	w.client = key[KeySize:]
	return w, err
}

// CryptV2Server opens the keys of clients with its own of 128 bytes; the first packet of a client
// settles the rest.
func CryptV2Server(key []byte) (w Wrapping, err error) {
	if len(key) != halfSize {
		return w, fmt.Errorf("a server key of %d bytes, expected %d", len(key), halfSize)
	}
	return Wrapping{server: key}, nil
}

const (
	tagSize   = sha256.Size
	trailSize = tagSize + 2
)

// ClientKey makes the key of one client for a server: the key itself, and wrapped for the server
// with what it should know of the client.
func ClientKey(server, key, remark []byte) []byte {
	size := binary.BigEndian.AppendUint16(nil, uint16(trailSize+len(key)+len(remark)))
	plain := append(bytes.Clone(key), remark...)
	tag := sign(sha256.New, server[macAt:macAt+aesSize], size, plain)
	out := append(bytes.Clone(key), tag...)
	out = append(out, stream(server[:aesSize], tag, plain)...)
	return append(out, size...)
}

// openClientKey opens the wrapped key at the end of a client's first packet.
func (w Wrapping) openClientKey(b []byte) (rest, key []byte, err error) {
	if len(b) < headSize+trailSize+KeySize {
		return nil, nil, malformed("%d bytes, too few for the key of a client", len(b))
	}
	size := b[len(b)-2:]
	n := int(binary.BigEndian.Uint16(size))
	if n < trailSize+KeySize || n > len(b)-headSize {
		return nil, nil, malformed("the key of a client of %d bytes in %d", n, len(b))
	}
	wrapped := b[len(b)-n : len(b)-2]
	plain := stream(w.server[:aesSize], wrapped[:tagSize], wrapped[tagSize:])
	if !hmac.Equal(
		sign(sha256.New, w.server[macAt:macAt+aesSize], size, plain),
		wrapped[:tagSize],
	) {
		return nil, nil, malformed("the key of a client was not made for this server")
	}
	return b[:len(b)-n], plain[:KeySize], nil
}

func sign(make func() hash.Hash, key []byte, parts ...[]byte) []byte {
	h := hmac.New(make, key)
	for _, p := range parts {
		h.Write(p)
	}
	return h.Sum(nil)
}

func stream(key, tag, text []byte) []byte {
	block, err := aes.NewCipher(key)
	if err != nil {
		panic(err) // the length is settled above
	}
	out := make([]byte, len(text))
	cipher.NewCTR(block, tag[:aes.BlockSize]).XORKeyStream(out, text)
	return out
}

// Seal writes a packet; count and unix guard against its being sent again by somebody else.
func (w Wrapping) Seal(p Packet, count, unix uint32) ([]byte, error) {
	rest, err := p.rest()
	if err != nil {
		return nil, err
	}
	head, replay := p.head(), binary.BigEndian.AppendUint32(
		binary.BigEndian.AppendUint32(nil, count),
		unix,
	)
	switch {
	case w.mac != nil:
		tag := sign(w.mac, w.send[macAt:macAt+w.macSize], replay, head, rest)
		return bytes.Join([][]byte{head, tag, replay, rest}, nil), nil
	case w.crypt:
		head = append(head, replay...)
		tag := sign(sha256.New, w.send[macAt:macAt+aesSize], head, rest)
		b := bytes.Join([][]byte{head, tag, stream(w.send[:aesSize], tag, rest)}, nil)
		if p.Opcode == ClientResetV3 || p.Opcode == ControlKeyed {
			b = append(b, w.client...)
		}
		return b, nil
	}
	return append(head, rest...), nil
}

// Reset is the kind of the first packet of a client.
func (w Wrapping) Reset() Opcode {
	if w.client != nil {
		return ClientResetV3
	}
	return ClientReset
}

// Open reads a packet, and refuses one that was not wrapped with the same key.
func (w *Wrapping) Open(b []byte) (p Packet, err error) {
	if p, err = decodeHead(b); err != nil {
		return p, err
	}
	if w.server != nil && (p.Opcode == ClientResetV3 || p.Opcode == ControlKeyed) {
		rest, key, err := w.openClientKey(b)
		if err != nil {
			return p, err
		}
		settled, err := Crypt(key, true)
		if err != nil {
			return p, err
		}
		settled.server = w.server
		*w, b = settled, rest
	}
	rest := b[headSize:]
	switch {
	case w.mac != nil:
		if len(rest) < w.macSize+8 {
			return p, malformed("%d bytes, too few for a signature", len(b))
		}
		tag, replay, body := rest[:w.macSize], rest[w.macSize:w.macSize+8], rest[w.macSize+8:]
		if !hmac.Equal(
			tag,
			sign(w.mac, w.receive[macAt:macAt+w.macSize], replay, b[:headSize], body),
		) {
			return p, malformed("it was signed with another key")
		}
		rest = body
	case w.crypt:
		if len(rest) < 8+tagSize {
			return p, malformed("%d bytes, too few for a tag", len(b))
		}
		tag := rest[8 : 8+tagSize]
		body := stream(w.receive[:aesSize], tag, rest[8+tagSize:])
		if !hmac.Equal(
			tag,
			sign(sha256.New, w.receive[macAt:macAt+aesSize], b[:headSize+8], body),
		) {
			return p, malformed("it was encrypted with another key")
		}
		rest = body
	case w.server != nil:
		return p, malformed("it came before the key of a client")
	}
	return p, p.decodeRest(rest)
}
