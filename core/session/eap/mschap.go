package eap

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"strings"

	"wardicon/core/wire/ppp"
)

// Codes of MS-CHAPv2 in EAP (draft-kamath-pppext-eap-mschapv2-02 §2).
const (
	challenge     = 1
	answer        = 2
	accepted      = 3
	rejected      = 4
	challengeSize = 16
)

// MSCHAP signs in by MS-CHAPv2.
type MSCHAP struct {
	Login, Password string
	Random          io.Reader

	sent     []byte // the response of 24 bytes
	expected string // what the gateway proves itself with
	msk      []byte
}

// Type is its number.
func (m *MSCHAP) Type() byte { return TypeMSCHAP }

// MSK is the key of both directions, with zeros behind it (draft-kamath §3.2 by RFC 3079).
func (m *MSCHAP) MSK() []byte { return m.msk }

// Answer takes a challenge, or what came of the response to it.
func (m *MSCHAP) Answer(b []byte, _ byte) ([]byte, error) {
	if len(b) < 1 {
		return nil, errors.New("an empty message of MS-CHAPv2")
	}
	switch b[0] {
	case challenge:
		return m.respond(b)
	case accepted:
		said := ""
		if len(b) > 4 {
			said = string(b[4:])
		}
		proof, _, _ := strings.Cut(said, " ")
		if m.expected == "" || proof != m.expected {
			return nil, ErrUnproven
		}
		master := ppp.MasterKey(m.Password, m.sent)
		// The gateway receives with what the device sends with; the order is the gateway's.
		m.msk = append(ppp.StartKey(master, 16, true), ppp.StartKey(master, 16, false)...)
		m.msk = append(m.msk, make([]byte, 32)...)
		return []byte{accepted}, nil
	case rejected:
		said := ""
		if len(b) > 4 {
			said = string(b[4:])
		}
		return nil, &RejectedError{said}
	}
	return nil, errors.New("a message of MS-CHAPv2 of another kind")
}

func (m *MSCHAP) respond(b []byte) ([]byte, error) {
	if len(b) < 5+challengeSize || b[4] != challengeSize {
		return nil, errors.New("a challenge of MS-CHAPv2 that is cut short")
	}
	its := bytes.Clone(b[5 : 5+challengeSize])
	own := make([]byte, challengeSize)
	if _, err := io.ReadFull(m.Random, own); err != nil {
		return nil, err
	}
	m.sent = ppp.NTResponse(its, own, m.Login, m.Password)
	m.expected = ppp.AuthenticatorResponse(m.Password, m.sent, own, its, m.Login)
	value := bytes.Join([][]byte{own, make([]byte, 8), m.sent, {0}}, nil)
	out := []byte{answer, b[1], 0, 0, byte(len(value))}
	out = append(append(out, value...), m.Login...)
	binary.BigEndian.PutUint16(out[2:], uint16(len(out)))
	return out, nil
}
