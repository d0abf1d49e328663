// Package isakmp encodes and decodes what both versions of IKE share: the header and the chain of
// payloads (RFC 2408 §3.1 and §3.2, RFC 7296 §3.1 and §3.2).
package isakmp

import (
	"encoding/binary"
	"fmt"

	"wardicon/core/wire"
)

const (
	headerSize = 28
	critical   = 0x80
)

// Bounds of what is decoded.
const (
	MaxMessage  = 64 << 10
	maxPayloads = 64
)

// Header begins a message. SPIs are what version 1 calls cookies.
type Header struct {
	InitiatorSPI, ResponderSPI uint64
	Major                      uint8 // version 1 or 2
	Exchange                   uint8
	Flags                      uint8
	ID                         uint32
}

// Payload is a part of a message: its kind, and its body without the generic header. Critical is of
// version 2.
type Payload struct {
	Kind     uint8
	Critical bool
	Body     []byte
}

// Encode writes a message. A payload of more than 65,531 bytes is refused.
func Encode(h Header, payloads []Payload) ([]byte, error) {
	b := make([]byte, headerSize, 1280)
	binary.BigEndian.PutUint64(b[0:], h.InitiatorSPI)
	binary.BigEndian.PutUint64(b[8:], h.ResponderSPI)
	b[17], b[18], b[19] = h.Major<<4, h.Exchange, h.Flags
	binary.BigEndian.PutUint32(b[20:], h.ID)
	first, chain, err := EncodeChain(payloads)
	if err != nil {
		return nil, err
	}
	b[16] = first
	b = append(b, chain...)
	binary.BigEndian.PutUint32(b[24:], uint32(len(b)))
	return b, nil
}

// EncodeChain writes payloads one behind the other, and tells the kind of the first. A payload of
// more than 65,531 bytes is refused.
func EncodeChain(payloads []Payload) (first uint8, b []byte, err error) {
	for i, p := range payloads {
		if len(p.Body)+4 > 0xFFFF {
			return 0, nil, fmt.Errorf(
				"IKE message: a payload of %d bytes, expected at most %d",
				len(p.Body),
				0xFFFF-4,
			)
		}
		var next, flags byte
		if i+1 < len(payloads) {
			next = payloads[i+1].Kind
		}
		if p.Critical {
			flags = critical
		}
		b = append(b, next, flags)
		b = binary.BigEndian.AppendUint16(b, uint16(len(p.Body)+4))
		b = append(b, p.Body...)
	}
	if len(payloads) > 0 {
		first = payloads[0].Kind
	}
	return first, b, nil
}

// DecodeHeader reads the header alone, whatever follows.
func DecodeHeader(b []byte) (h Header, err error) {
	if len(b) < headerSize || len(b) > MaxMessage {
		return h, malformed("%d bytes, expected %d to %d", len(b), headerSize, MaxMessage)
	}
	return Header{
		InitiatorSPI: binary.BigEndian.Uint64(b[0:]),
		ResponderSPI: binary.BigEndian.Uint64(b[8:]),
		Major:        b[17] >> 4,
		Exchange:     b[18],
		Flags:        b[19],
		ID:           binary.BigEndian.Uint32(b[20:]),
	}, nil
}

// Decode reads a message of a version. Bodies of payloads point into b.
func Decode(b []byte, major uint8) (h Header, payloads []Payload, err error) {
	if h, err = DecodeHeader(b); err != nil {
		return h, nil, err
	}
	if h.Major != major {
		return h, nil, malformed("version %d, expected %d", h.Major, major)
	}
	if n := binary.BigEndian.Uint32(b[24:]); n != uint32(len(b)) {
		return h, nil, malformed("its length says %d bytes, there are %d", n, len(b))
	}
	payloads, err = DecodeChain(b[16], b[headerSize:])
	return h, payloads, err
}

// DecodeChain reads payloads one behind the other, of which the first is of a kind.
func DecodeChain(kind uint8, rest []byte) (payloads []Payload, err error) {
	payloads, rest, err = DecodeBefore(kind, rest)
	if err == nil && len(rest) > 0 {
		return nil, malformed("%d bytes behind the last payload", len(rest))
	}
	return payloads, err
}

// DecodeBefore reads payloads one behind the other, and gives back what stands behind them: the
// padding of version 1 (RFC 2409 appendix B).
func DecodeBefore(kind uint8, rest []byte) (payloads []Payload, behind []byte, err error) {
	for kind != 0 {
		if len(payloads) == maxPayloads {
			return nil, nil, malformed("more than %d payloads", maxPayloads)
		}
		if len(rest) < 4 {
			return nil, nil, malformed("a payload header of %d bytes, expected 4", len(rest))
		}
		n := int(binary.BigEndian.Uint16(rest[2:]))
		if n < 4 || n > len(rest) {
			return nil, nil, malformed("a payload of %d bytes where %d are left", n, len(rest))
		}
		payloads = append(
			payloads,
			Payload{Kind: kind, Critical: rest[1]&critical != 0, Body: rest[4:n]},
		)
		kind, rest = rest[0], rest[n:]
	}
	return payloads, rest, nil
}

// Find is the body of the first payload of a kind.
func Find(payloads []Payload, kind uint8) ([]byte, bool) {
	for _, p := range payloads {
		if p.Kind == kind {
			return p.Body, true
		}
	}
	return nil, false
}

func malformed(format string, args ...any) error { return wire.Malformed("IKE", format, args...) }
