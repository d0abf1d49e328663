// Package l2tp encodes and decodes the control messages of L2TP version 2 (RFC 2661 §3 to §5). It
// opens no sockets.
package l2tp

import (
	"encoding/binary"
	"fmt"

	"wardicon/core/wire"
)

// Kind is the kind of a control message (RFC 2661 §3.2).
type Kind uint16

// The kinds that belong to tunnels, and those that end a session.
const (
	StartRequest   Kind = 1  // SCCRQ
	StartReply     Kind = 2  // SCCRP
	StartConnected Kind = 3  // SCCCN
	StopNotify     Kind = 4  // StopCCN
	Hello          Kind = 6  // HELLO
	CallRequest    Kind = 10 // ICRQ
	CallReply      Kind = 11 // ICRP
	CallConnected  Kind = 12 // ICCN
	CallDisconnect Kind = 14 // CDN
)

// Attributes (RFC 2661 §4.4).
const (
	AttrMessageType  = 0
	AttrResult       = 1
	AttrVersion      = 2
	AttrFraming      = 3
	AttrBearer       = 4
	AttrTieBreaker   = 5
	AttrFirmware     = 6
	AttrHostName     = 7
	AttrVendor       = 8
	AttrTunnel       = 9
	AttrWindow       = 10
	AttrChallenge    = 11
	AttrCause        = 12
	AttrResponse     = 13
	AttrSession      = 14
	AttrCallSerial   = 15
	AttrTxSpeed      = 24
	AttrFramingType  = 19
	AttrRandomVector = 36
	AttrPrivateGroup = 37
	AttrRxSpeed      = 38
	AttrSequencing   = 39
)

// MaxMessage is the longest message that is read, in bytes.
const MaxMessage = 4 << 10

// The header (RFC 2661 §3.1), and that of an attribute (§4.1).
const (
	headerSize      = 12
	versionTwo      = 2
	flagsControl    = 0x8000 | 0x4000 | 0x0800 // control, with length and with sequence numbers
	avpMandatory    = 0x8000
	avpHidden       = 0x4000
	avpSize         = 0x03FF
	avpHeader       = 6
	mostAVPs        = 100
	mostValue       = avpSize - avpHeader
	protocolVersion = 0x0100
)

// AVP is an attribute and its value (RFC 2661 §4.1). A hidden value cannot be read without the
// tunnel's secret.
type AVP struct {
	Mandatory, Hidden bool
	Vendor, Type      uint16
	Value             []byte
}

// Message is a control message. One without attributes only acknowledges (RFC 2661 §5.8).
type Message struct {
	Tunnel, Session uint16 // as the other end named them; 0 where it has not yet
	Sent, Expected  uint16 // sequence numbers: of this message, and the next that is expected
	AVPs            []AVP
}

// Number writes a value of two bytes, as an attribute that must be understood.
func Number(kind, value uint16) AVP {
	return AVP{Mandatory: true, Type: kind, Value: binary.BigEndian.AppendUint16(nil, value)}
}

// Text writes a text as an attribute.
func Text(kind uint16, value string) AVP {
	return AVP{Mandatory: kind == AttrHostName, Type: kind, Value: []byte(value)}
}

// Start writes a request for a tunnel (RFC 2661 §6.1) or, with that kind, the reply to one.
func Start(kind Kind, host string, tunnel uint16) []AVP {
	return []AVP{
		Number(
			AttrMessageType,
			uint16(kind),
		),
		Number(AttrVersion, protocolVersion),
		{Mandatory: true, Type: AttrFraming, Value: []byte{0, 0, 0, 3}},
		Text(AttrHostName, host),
		Number(AttrTunnel, tunnel),
		Number(AttrWindow, 4),
	}
}

// Stop writes the end of a tunnel (RFC 2661 §6.4) with its result (§4.4.2): 1 is a general request
// to clear it.
func Stop(tunnel, result uint16) []AVP {
	return []AVP{
		Number(AttrMessageType, uint16(StopNotify)),
		Number(AttrTunnel, tunnel),
		Number(AttrResult, result),
	}
}

// Kind is the kind of the message, 0 for an acknowledgement.
func (m Message) Kind() Kind {
	if len(m.AVPs) == 0 {
		return 0
	}
	return Kind(binary.BigEndian.Uint16(m.AVPs[0].Value)) // Decode saw to its length
}

// Find is the value of the first attribute of a type that can be read.
func (m Message) Find(kind uint16) ([]byte, bool) {
	for _, a := range m.AVPs {
		if a.Vendor == 0 && a.Type == kind && !a.Hidden {
			return a.Value, true
		}
	}
	return nil, false
}

// Uint is the value of an attribute of two bytes; false where there is none of that length.
func (m Message) Uint(kind uint16) (uint16, bool) {
	b, ok := m.Find(kind)
	if !ok || len(b) < 2 {
		return 0, false
	}
	return binary.BigEndian.Uint16(b), true
}

// Result is the result code and the error code of a message that ends something, and its text (RFC
// 2661 §4.4.2).
func (m Message) Result() (result, fault uint16, text string) {
	b, _ := m.Find(AttrResult)
	if len(b) >= 2 {
		result = binary.BigEndian.Uint16(b)
	}
	if len(b) >= 4 {
		fault, text = binary.BigEndian.Uint16(b[2:]), string(b[4:])
	}
	return result, fault, text
}

func malformed(format string, args ...any) error { return wire.Malformed("L2TP", format, args...) }

// Encode writes the message. A value of more than 1,017 bytes is refused.
func (m Message) Encode() ([]byte, error) {
	b := binary.BigEndian.AppendUint16(nil, flagsControl|versionTwo)
	b = append(b, 0, 0)
	for _, n := range []uint16{m.Tunnel, m.Session, m.Sent, m.Expected} {
		b = binary.BigEndian.AppendUint16(b, n)
	}
	for _, a := range m.AVPs {
		if len(a.Value) > mostValue {
			return nil, fmt.Errorf(
				"L2TP message: attribute %d has %d bytes, expected at most %d",
				a.Type,
				len(a.Value),
				mostValue,
			)
		}
		flags := uint16(avpHeader + len(a.Value))
		if a.Mandatory {
			flags |= avpMandatory
		}
		if a.Hidden {
			flags |= avpHidden
		}
		for _, n := range []uint16{flags, a.Vendor, a.Type} {
			b = binary.BigEndian.AppendUint16(b, n)
		}
		b = append(b, a.Value...)
	}
	if len(b) > MaxMessage {
		return nil, fmt.Errorf("L2TP message: %d bytes, expected at most %d", len(b), MaxMessage)
	}
	binary.BigEndian.PutUint16(b[2:], uint16(len(b)))
	return b, nil
}

// Decode reads a control message; a data message is refused. Values point into b.
func Decode(b []byte) (m Message, err error) {
	if len(b) < headerSize || len(b) > MaxMessage {
		return m, malformed("%d bytes, expected %d to %d", len(b), headerSize, MaxMessage)
	}
	flags := binary.BigEndian.Uint16(b)
	if flags&flagsControl != flagsControl || flags&0xF != versionTwo {
		return m, malformed("it begins with %04x, expected a control message of version 2", flags)
	}
	n := int(binary.BigEndian.Uint16(b[2:]))
	if n < headerSize || n > len(b) {
		return m, malformed("its length says %d bytes, there are %d", n, len(b))
	}
	m = Message{
		Tunnel:   binary.BigEndian.Uint16(b[4:]),
		Session:  binary.BigEndian.Uint16(b[6:]),
		Sent:     binary.BigEndian.Uint16(b[8:]),
		Expected: binary.BigEndian.Uint16(b[10:]),
	}
	for rest := b[headerSize:n]; len(rest) > 0; {
		if len(m.AVPs) == mostAVPs {
			return m, malformed("more than %d attributes", mostAVPs)
		}
		if len(rest) < avpHeader {
			return m, malformed(
				"an attribute of %d bytes, expected at least %d",
				len(rest),
				avpHeader,
			)
		}
		flags := binary.BigEndian.Uint16(rest)
		size := int(flags & avpSize)
		if size < avpHeader || size > len(rest) {
			return m, malformed("an attribute of %d bytes where %d are left", size, len(rest))
		}
		m.AVPs = append(m.AVPs, AVP{
			Mandatory: flags&avpMandatory != 0,
			Hidden:    flags&avpHidden != 0,
			Vendor:    binary.BigEndian.Uint16(rest[2:]),
			Type:      binary.BigEndian.Uint16(rest[4:]),
			Value:     rest[avpHeader:size],
		})
		rest = rest[size:]
	}
	if len(m.AVPs) > 0 {
		if first := m.AVPs[0]; first.Type != AttrMessageType || first.Vendor != 0 || first.Hidden ||
			len(first.Value) != 2 {
			return m, malformed(
				"its first attribute is %d, expected the kind of the message",
				first.Type,
			)
		}
	}
	return m, nil
}
