package tunnel

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"io"
	"strings"

	"golang.org/x/crypto/chacha20poly1305"

	"wardicon/core/wire"
	"wardicon/core/wire/tlstunnel"
)

// Kinds of packets of the data channel (draft §3.1): with the number of the client, and without.
const (
	dataWithPeer = 9
	dataAlone    = 6
)

// What ends of the data channel say to each other: that they are alive, and that the client goes
// (draft §5).
var (
	alive = []byte{
		0x2a, 0x18, 0x7b, 0xf3, 0x64, 0x1e, 0xb4, 0xcb, 0x07, 0xed, 0x2d, 0x0a, 0x98, 0x1f, 0xc7,
		0x48,
	}
	leaving = []byte{
		0x28, 0x7f, 0x34, 0x6b, 0xd4, 0xef, 0x7a, 0x81, 0x2d, 0x56, 0xb8, 0xd3, 0xaf, 0xc5, 0x45,
		0x9c, 6,
	}
)

// Data is the data channel of a client.
type Data struct {
	peer, key int
	framing   byte
	swapped   bool
	sent      uint32
	came      wire.Window
	up, down  int

	out, in half
}

// half is one direction: an AEAD cipher with its fixed part of the nonce, or CBC and a digest.
type half struct {
	aead     cipher.AEAD
	implicit []byte
	block    cipher.Block
	mac      func() hash.Hash
	macKey   []byte
}

const (
	oneKey  = 128 // bytes of a direction: 64 for a cipher, 64 for a digest
	macPart = 64
	tagSize = 16
	numSize = 4
)

// NewData makes the channel out of 256 bytes of keys, of which the first half is for what the
// client sends. A cipher that is not authenticated goes with a digest.
func NewData(material []byte, name, digest string, p Pushed) (*Data, error) {
	if len(material) != keyMaterial {
		return nil, fmt.Errorf("%d bytes of keys, expected %d", len(material), keyMaterial)
	}
	d := &Data{peer: p.Peer, framing: p.Framing, swapped: p.Swapped}
	var err error
	if d.out, err = newHalf(material[:oneKey], name, digest); err != nil {
		return nil, err
	}
	d.in, err = newHalf(material[oneKey:], name, digest)
	return d, err
}

func newHalf(k []byte, name, digest string) (h half, err error) {
	size := map[string]int{
		"AES-256-GCM": 32, "AES-192-GCM": 24, "AES-128-GCM": 16, "CHACHA20-POLY1305": 32,
		"AES-256-CBC": 32, "AES-192-CBC": 24, "AES-128-CBC": 16,
	}[strings.ToUpper(name)]
	if size == 0 {
		return h, fmt.Errorf("data cipher %q cannot be used here", name)
	}
	switch name = strings.ToUpper(name); {
	case name == "CHACHA20-POLY1305":
		h.aead, err = chacha20poly1305.New(k[:size])
	case strings.HasSuffix(name, "GCM"):
		var b cipher.Block
		if b, err = aes.NewCipher(k[:size]); err == nil {
			h.aead, err = cipher.NewGCM(b)
		}
	default:
		h.block, err = aes.NewCipher(k[:size])
		if digest == "" {
			digest = "SHA1"
		}
		var known bool
		if h.mac, known = tlstunnel.Digest(digest); !known {
			return h, fmt.Errorf("digest %q cannot be used here", digest)
		}
		h.macKey = k[macPart : macPart+h.mac().Size()]
	}
	h.implicit = k[macPart : macPart+8]
	return h, err
}

// head is what stands before a packet in clear.
func (d *Data) head() []byte {
	if d.peer < 0 {
		return []byte{dataAlone<<3 | byte(d.key)}
	}
	return []byte{
		dataWithPeer<<3 | byte(d.key), byte(d.peer >> 16), byte(d.peer >> 8), byte(d.peer),
	}
}

// Seal wraps an IP packet.
func (d *Data) Seal(packet []byte, from io.Reader) ([]byte, error) {
	d.up += len(packet)
	return d.seal(packet, from)
}

// Alive and Leaving write what is not an IP packet.
func (d *Data) Alive(from io.Reader) ([]byte, error) { return d.seal(alive, from) }

// Leaving tells the gateway that the client goes.
func (d *Data) Leaving(from io.Reader) ([]byte, error) { return d.seal(leaving, from) }

func (d *Data) seal(packet []byte, from io.Reader) ([]byte, error) {
	text := packet
	switch {
	case d.swapped && len(packet) > 0:
		text = append(append([]byte{d.framing}, packet[1:]...), packet[0])
	case d.framing != 0:
		text = append([]byte{d.framing}, packet...)
	}
	d.sent++
	number := binary.BigEndian.AppendUint32(nil, d.sent)
	head := d.head()
	if h := d.out; h.aead != nil {
		before := number
		if d.peer >= 0 {
			before = append(bytes.Clone(head), number...)
		}
		sealed := h.aead.Seal(nil, append(bytes.Clone(number), h.implicit...), text, before)
		at := len(sealed) - tagSize // the tag goes first
		return bytes.Join([][]byte{head, number, sealed[at:], sealed[:at]}, nil), nil
	}
	text = append(number, text...)
	pad := aes.BlockSize - len(text)%aes.BlockSize
	text = append(text, bytes.Repeat([]byte{byte(pad)}, pad)...)
	body := make([]byte, aes.BlockSize+len(text))
	if _, err := io.ReadFull(from, body[:aes.BlockSize]); err != nil {
		return nil, err
	}
	cipher.NewCBCEncrypter(d.out.block, body[:aes.BlockSize]).
		CryptBlocks(body[aes.BlockSize:], text)
	m := hmac.New(d.out.mac, d.out.macKey)
	m.Write(body)
	return bytes.Join([][]byte{head, m.Sum(nil), body}, nil), nil
}

var errSealed = errors.New("the packet does not open with these keys")

// IsData tells whether a packet is of the data channel.
func IsData(b []byte) bool {
	return len(b) > 0 && (b[0]>>3 == dataWithPeer || b[0]>>3 == dataAlone)
}

// Open reads a packet of the data channel. What is not an IP packet comes out empty.
func (d *Data) Open(b []byte) ([]byte, error) {
	if !IsData(b) || int(b[0]&7) != d.key {
		return nil, errSealed
	}
	head := b[:1]
	if b[0]>>3 == dataWithPeer {
		if len(b) < 4 {
			return nil, errSealed
		}
		head = b[:4]
	}
	rest := b[len(head):]
	var number, text []byte
	var err error
	if d.in.aead != nil {
		if len(rest) < numSize+tagSize {
			return nil, errSealed
		}
		number = rest[:numSize]
		before := number
		if len(head) == 4 {
			before = b[:4+numSize]
		}
		sealed := append(bytes.Clone(rest[numSize+tagSize:]), rest[numSize:numSize+tagSize]...)
		text, err = d.in.aead.Open(
			nil,
			append(bytes.Clone(number), d.in.implicit...),
			sealed,
			before,
		)
		if err != nil {
			return nil, errSealed
		}
	} else if number, text, err = d.in.unchain(rest); err != nil {
		return nil, err
	}
	if !d.came.Take(binary.BigEndian.Uint32(number)) {
		return nil, errors.New("a packet that came before")
	}
	packet := d.unframed(text)
	if bytes.HasPrefix(packet, alive) || bytes.HasPrefix(packet, leaving[:16]) {
		return nil, nil
	}
	d.down += len(packet)
	return packet, nil
}

// unchain opens a packet of CBC with its digest.
func (h half) unchain(rest []byte) (number, text []byte, err error) {
	size := h.mac().Size()
	if len(rest) < size+2*aes.BlockSize || (len(rest)-size)%aes.BlockSize != 0 {
		return nil, nil, errSealed
	}
	m := hmac.New(h.mac, h.macKey)
	m.Write(rest[size:])
	if !hmac.Equal(m.Sum(nil), rest[:size]) {
		return nil, nil, errSealed
	}
	text = make([]byte, len(rest)-size-aes.BlockSize)
	cipher.NewCBCDecrypter(h.block, rest[size:size+aes.BlockSize]).
		CryptBlocks(text, rest[size+aes.BlockSize:])
	pad := int(text[len(text)-1])
	if pad == 0 || pad > aes.BlockSize || len(text)-pad < numSize {
		return nil, nil, errSealed
	}
	return text[:numSize], text[numSize : len(text)-pad], nil
}

// unframed leaves out what stands before a packet that is not compressed.
func (d *Data) unframed(text []byte) []byte {
	switch {
	case d.framing == 0 || len(text) < 2:
		return text
	case text[0] == noCompressSwap:
		return append([]byte{text[len(text)-1]}, text[1:len(text)-1]...)
	case text[0] == noCompress:
		return text[1:]
	}
	return nil // compressed, which nobody asked for
}

// Traffic is what went through: bytes of IP packets.
func (d *Data) Traffic() (sent, received int) { return d.up, d.down }
