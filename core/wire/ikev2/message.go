// Package ikev2 encodes and decodes the messages of IKE version 2 that are sent before anything is encrypted
// (RFC 7296 §1.2, §2.6 and §3). It opens no sockets.
package ikev2

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// Kinds of payloads (RFC 7296 §3.2).
const (
	KindSA     = 33
	KindKE     = 34
	KindNonce  = 40
	KindNotify = 41
	KindVendor = 43
)

// Exchange is the kind of an exchange (RFC 7296 §3.1).
type Exchange uint8

// SAInit is the exchange that begins an association.
const SAInit Exchange = 34

const (
	headerSize    = 28
	version       = 0x20
	flagInitiator = 0x08
	flagResponse  = 0x20
	critical      = 0x80
)

// Bounds of what is decoded.
const (
	MaxMessage    = 64 << 10
	maxPayloads   = 64
	maxProposals  = 64
	maxTransforms = 255
)

// Message is an IKE message.
type Message struct {
	InitiatorSPI, ResponderSPI uint64
	Exchange                   Exchange
	Initiator, Response        bool
	ID                         uint32
	Payloads                   []Payload
}

// Payload is a part of a message: its kind, and its body without the generic header (RFC 7296 §3.2).
type Payload struct {
	Kind     uint8
	Critical bool
	Body     []byte
}

// ErrMalformed is wrapped by each error of decoding.
var ErrMalformed = errors.New("malformed IKE message")

func malformed(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrMalformed, fmt.Sprintf(format, args...))
}

// Encode writes the message. A payload of more than 65,531 bytes is refused.
func (m Message) Encode() ([]byte, error) {
	b := make([]byte, headerSize, 1280)
	binary.BigEndian.PutUint64(b[0:], m.InitiatorSPI)
	binary.BigEndian.PutUint64(b[8:], m.ResponderSPI)
	if len(m.Payloads) > 0 {
		b[16] = m.Payloads[0].Kind
	}
	b[17], b[18] = version, byte(m.Exchange)
	if m.Initiator {
		b[19] |= flagInitiator
	}
	if m.Response {
		b[19] |= flagResponse
	}
	binary.BigEndian.PutUint32(b[20:], m.ID)
	for i, p := range m.Payloads {
		if len(p.Body)+4 > 0xFFFF {
			return nil, fmt.Errorf("IKE message: a payload of %d bytes, expected at most %d", len(p.Body), 0xFFFF-4)
		}
		var next, flags byte
		if i+1 < len(m.Payloads) {
			next = m.Payloads[i+1].Kind
		}
		if p.Critical {
			flags = critical
		}
		b = append(b, next, flags)
		b = binary.BigEndian.AppendUint16(b, uint16(len(p.Body)+4))
		b = append(b, p.Body...)
	}
	binary.BigEndian.PutUint32(b[24:], uint32(len(b)))
	return b, nil
}

// Decode reads a message. Bodies of payloads point into b.
func Decode(b []byte) (m Message, err error) {
	if len(b) < headerSize || len(b) > MaxMessage {
		return m, malformed("%d bytes, expected %d to %d", len(b), headerSize, MaxMessage)
	}
	if b[17]>>4 != version>>4 {
		return m, malformed("version %d.%d, expected 2", b[17]>>4, b[17]&0xF)
	}
	if n := binary.BigEndian.Uint32(b[24:]); n != uint32(len(b)) {
		return m, malformed("its length says %d bytes, there are %d", n, len(b))
	}
	m = Message{
		InitiatorSPI: binary.BigEndian.Uint64(b[0:]), ResponderSPI: binary.BigEndian.Uint64(b[8:]), Exchange: Exchange(b[18]),
		Initiator: b[19]&flagInitiator != 0, Response: b[19]&flagResponse != 0, ID: binary.BigEndian.Uint32(b[20:]),
	}
	kind, rest := b[16], b[headerSize:]
	for kind != 0 {
		if len(m.Payloads) == maxPayloads {
			return m, malformed("more than %d payloads", maxPayloads)
		}
		if len(rest) < 4 {
			return m, malformed("a payload header of %d bytes, expected 4", len(rest))
		}
		n := int(binary.BigEndian.Uint16(rest[2:]))
		if n < 4 || n > len(rest) {
			return m, malformed("a payload of %d bytes where %d are left", n, len(rest))
		}
		m.Payloads = append(m.Payloads, Payload{Kind: kind, Critical: rest[1]&critical != 0, Body: rest[4:n]})
		kind, rest = rest[0], rest[n:]
	}
	if len(rest) > 0 {
		return m, malformed("%d bytes behind the last payload", len(rest))
	}
	return m, nil
}

// Find is the body of the first payload of a kind.
func (m Message) Find(kind uint8) ([]byte, bool) {
	for _, p := range m.Payloads {
		if p.Kind == kind {
			return p.Body, true
		}
	}
	return nil, false
}
