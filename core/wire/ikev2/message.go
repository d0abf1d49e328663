// Package ikev2 encodes and decodes the messages of IKE version 2 that are sent before anything is
// encrypted (RFC 7296 §1.2, §2.6 and §3). It opens no sockets.
package ikev2

import (
	"wardicon/core/wire"
	"wardicon/core/wire/isakmp"
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
	version       = 2
	flagInitiator = 0x08
	flagResponse  = 0x20
)

// Bounds of what is decoded.
const (
	maxProposals  = 64
	maxTransforms = 255
)

// Message is an IKE message.
type Message struct {
	InitiatorSPI, ResponderSPI uint64
	Exchange                   Exchange
	Initiator, Response        bool
	ID                         uint32
	Payloads                   []isakmp.Payload
}

func malformed(format string, args ...any) error { return wire.Malformed("IKEv2", format, args...) }

// Encode writes the message. A payload of more than 65,531 bytes is refused.
func (m Message) Encode() ([]byte, error) {
	h := isakmp.Header{
		InitiatorSPI: m.InitiatorSPI,
		ResponderSPI: m.ResponderSPI,
		Major:        version,
		Exchange:     uint8(m.Exchange),
		ID:           m.ID,
	}
	if m.Initiator {
		h.Flags |= flagInitiator
	}
	if m.Response {
		h.Flags |= flagResponse
	}
	return isakmp.Encode(h, m.Payloads)
}

// Decode reads a message. Bodies of payloads point into b.
func Decode(b []byte) (m Message, err error) {
	h, payloads, err := isakmp.Decode(b, version)
	if err != nil {
		return m, err
	}
	return Message{
		InitiatorSPI: h.InitiatorSPI,
		ResponderSPI: h.ResponderSPI,
		Exchange:     Exchange(h.Exchange),
		Initiator:    h.Flags&flagInitiator != 0,
		Response:     h.Flags&flagResponse != 0,
		ID:           h.ID,
		Payloads:     payloads,
	}, nil
}

// Find is the body of the first payload of a kind.
func (m Message) Find(kind uint8) ([]byte, bool) { return isakmp.Find(m.Payloads, kind) }
