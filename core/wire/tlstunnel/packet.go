// Package tlstunnel encodes and decodes the control channel of the TLS tunnel whose client files
// are .ovpn, and wraps it by each kind of control-channel key. The wire format is that of
// draft-openvpn-wire-protocol-00. It opens no sockets.
package tlstunnel

import (
	"encoding/binary"
	"fmt"

	"wardicon/core/wire"
)

// Opcode is the kind of a packet (draft §3.1).
type Opcode uint8

// The kinds of the control channel.
const (
	SoftReset     Opcode = 3
	Control       Opcode = 4
	Ack           Opcode = 5
	ClientReset   Opcode = 7
	ServerReset   Opcode = 8
	ClientResetV3 Opcode = 10 // carries the wrapped key of a client
	ControlKeyed  Opcode = 11 // the same, later
)

// Bounds.
const (
	MaxPacket = 2 << 10 // of a packet that is read, in bytes
	maxAcks   = 8
)

const opcodeShift, keyMask = 3, 7

// Packet is a packet of the control channel. Remote is the session that the acknowledgements belong
// to; an acknowledgement alone has no ID and no payload.
type Packet struct {
	Opcode  Opcode
	Key     uint8
	Session uint64
	Acks    []uint32
	Remote  uint64
	ID      uint32
	Payload []byte
}

func malformed(format string, args ...any) error {
	return wire.Malformed("TLS tunnel", format, args...)
}

// head is what no wrapping hides: kind and session.
func (p Packet) head() []byte {
	return binary.BigEndian.AppendUint64(
		[]byte{byte(p.Opcode)<<opcodeShift | p.Key&keyMask},
		p.Session,
	)
}

const headSize = 9

// rest is what a wrapping may hide.
func (p Packet) rest() ([]byte, error) {
	if len(p.Acks) > maxAcks {
		return nil, fmt.Errorf(
			"TLS tunnel message: %d acknowledgements, expected at most %d",
			len(p.Acks),
			maxAcks,
		)
	}
	b := []byte{byte(len(p.Acks))}
	for _, id := range p.Acks {
		b = binary.BigEndian.AppendUint32(b, id)
	}
	if len(p.Acks) > 0 {
		b = binary.BigEndian.AppendUint64(b, p.Remote)
	}
	if p.Opcode == Ack {
		return b, nil
	}
	return append(binary.BigEndian.AppendUint32(b, p.ID), p.Payload...), nil
}

func decodeHead(b []byte) (p Packet, err error) {
	if len(b) < headSize || len(b) > MaxPacket {
		return p, malformed("%d bytes, expected %d to %d", len(b), headSize, MaxPacket)
	}
	p = Packet{
		Opcode:  Opcode(b[0] >> opcodeShift),
		Key:     b[0] & keyMask,
		Session: binary.BigEndian.Uint64(b[1:]),
	}
	switch p.Opcode {
	case SoftReset, Control, Ack, ClientReset, ServerReset, ClientResetV3, ControlKeyed:
		return p, nil
	}
	return p, malformed("kind %d is not of the control channel", p.Opcode)
}

func (p *Packet) decodeRest(b []byte) error {
	if len(b) < 1 || b[0] > maxAcks {
		return malformed("%d bytes behind the session", len(b))
	}
	count := int(b[0])
	if b = b[1:]; len(b) < 4*count || count > 0 && len(b) < 4*count+8 {
		return malformed("%d acknowledgements in %d bytes", count, len(b))
	}
	for ; count > 0; count-- {
		p.Acks = append(p.Acks, binary.BigEndian.Uint32(b))
		if b = b[4:]; count == 1 {
			p.Remote = binary.BigEndian.Uint64(b)
			b = b[8:]
		}
	}
	switch {
	case p.Opcode == Ack && len(b) > 0:
		return malformed("%d bytes behind an acknowledgement", len(b))
	case p.Opcode == Ack:
		return nil
	case len(b) < 4:
		return malformed("no number of the packet")
	}
	p.ID = binary.BigEndian.Uint32(b)
	if b = b[4:]; len(b) > 0 {
		p.Payload = b
	}
	return nil
}
