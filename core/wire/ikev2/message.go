// Package ikev2 encodes and decodes the messages of IKE version 2 that are sent before anything is
// encrypted (RFC 7296 §1.2, §2.6 and §3). It opens no sockets.
package ikev2

import (
	"wardicon/core/wire"
	"wardicon/core/wire/isakmp"
)

// Kinds of payloads (RFC 7296 §3.2).
const (
	KindSA         = 33
	KindKE         = 34
	KindIDi        = 35
	KindIDr        = 36
	KindCert       = 37
	KindCertReq    = 38
	KindAuth       = 39
	KindNonce      = 40
	KindNotify     = 41
	KindDelete     = 42
	KindVendor     = 43
	KindTSi        = 44
	KindTSr        = 45
	KindEncrypted  = 46
	KindConfig     = 47
	KindEAP        = 48
	KindFragmented = 53 // RFC 7383 §2.5
)

// Exchange is the kind of an exchange (RFC 7296 §3.1).
type Exchange uint8

// The exchanges.
const (
	SAInit        Exchange = 34 // begins an association
	Auth          Exchange = 35
	CreateChild   Exchange = 36
	Informational Exchange = 37
)

const (
	version = 2
	// FlagInitiator marks messages of the end that began, FlagResponse answers.
	FlagInitiator = 0x08
	FlagResponse  = 0x20
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
		h.Flags |= FlagInitiator
	}
	if m.Response {
		h.Flags |= FlagResponse
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
		Initiator:    h.Flags&FlagInitiator != 0,
		Response:     h.Flags&FlagResponse != 0,
		ID:           h.ID,
		Payloads:     payloads,
	}, nil
}

// Find is the body of the first payload of a kind.
func (m Message) Find(kind uint8) ([]byte, bool) { return isakmp.Find(m.Payloads, kind) }
