// Package sstp encodes and decodes the beginning of SSTP: the HTTP request that opens the stream,
// and the control messages in it (MS-SSTP §2.2 and §3.1.5). It opens no sockets.
package sstp

import (
	"encoding/binary"
	"fmt"

	"wardicon/core/wire"
)

// Path is what the HTTP request asks for, Method how, and Length what its Content-Length says
// (MS-SSTP §3.2.4.1).
const (
	Path   = "/sra_{BA195980-CD49-458b-9E23-C84EE0ADCD75}/"
	Method = "SSTP_DUPLEX_POST"
	Length = "18446744073709551615"
)

// Kind is the kind of a control message (MS-SSTP §2.2.2).
type Kind uint16

// The kinds.
const (
	ConnectRequest Kind = 1
	ConnectAck     Kind = 2
	ConnectNak     Kind = 3
	Connected      Kind = 4
	Abort          Kind = 5
	Disconnect     Kind = 6
	DisconnectAck  Kind = 7
	EchoRequest    Kind = 8
	EchoReply      Kind = 9
)

// Attributes (MS-SSTP §2.2.4).
const (
	AttrProtocol       = 1
	AttrStatus         = 2
	AttrBinding        = 3
	AttrBindingRequest = 4
)

const (
	version       = 0x10
	controlBit    = 1
	headerSize    = 4
	controlSize   = 8
	attributeSize = 4
	lengthMask    = 0x0FFF
	mostAttrs     = 16
	protocolPPP   = 1

	// HashSHA1 and HashSHA256 are the bits of the digests that crypto binding may use (MS-SSTP
	// §2.2.5).
	HashSHA1   = 1
	HashSHA256 = 2
)

// Attribute is a part of a control message: its identifier and its value.
type Attribute struct {
	ID    uint8
	Value []byte
}

// Message is a control message.
type Message struct {
	Kind       Kind
	Attributes []Attribute
}

// Request asks for a call that carries PPP (MS-SSTP §2.2.9).
func Request() Message {
	return Message{
		Kind:       ConnectRequest,
		Attributes: []Attribute{{AttrProtocol, []byte{0, protocolPPP}}},
	}
}

// Ack accepts a call: digests for crypto binding, and a nonce of 32 bytes (MS-SSTP §2.2.10).
func Ack(hashes uint8, nonce [32]byte) Message {
	return Message{
		Kind:       ConnectAck,
		Attributes: []Attribute{{AttrBindingRequest, append([]byte{0, 0, 0, hashes}, nonce[:]...)}},
	}
}

// Refusal is a message that refuses or ends a call, for a status about an attribute (MS-SSTP
// §2.2.7).
func Refusal(kind Kind, attribute uint8, status uint32) Message {
	return Message{
		Kind: kind,
		Attributes: []Attribute{
			{AttrStatus, binary.BigEndian.AppendUint32([]byte{0, 0, 0, attribute}, status)},
		},
	}
}

// Find is the value of the first attribute with an identifier.
func (m Message) Find(id uint8) ([]byte, bool) {
	for _, a := range m.Attributes {
		if a.ID == id {
			return a.Value, true
		}
	}
	return nil, false
}

// Hashes are the digests that an acknowledgement offers; false where it does not.
func (m Message) Hashes() (uint8, bool) {
	b, ok := m.Find(AttrBindingRequest)
	if !ok || len(b) != 36 {
		return 0, false
	}
	return b[3], true
}

// Status is why a call was refused or ended; false where it is not said.
func (m Message) Status() (attribute uint8, status uint32, ok bool) {
	b, ok := m.Find(AttrStatus)
	if !ok || len(b) < 8 {
		return 0, 0, false
	}
	return b[3], binary.BigEndian.Uint32(b[4:]), true
}

// Statuses are what the status of a refusal means (MS-SSTP §2.2.7).
var Statuses = map[uint32]string{
	0:  "no error",
	1:  "an attribute comes twice",
	2:  "an attribute is not known",
	3:  "an attribute has the wrong length",
	4:  "a value is not supported",
	5:  "a message came that is not taken now",
	6:  "tries were too many",
	7:  "a message came that is not valid",
	8:  "the negotiation took too long",
	9:  "an attribute does not belong into its message",
	10: "an attribute is missing",
	11: "a status does not belong there",
}

func malformed(format string, args ...any) error { return wire.Malformed("SSTP", format, args...) }

// Encode writes the message. One of more than 4,095 bytes is refused.
func (m Message) Encode() ([]byte, error) {
	b := []byte{version, controlBit, 0, 0}
	b = binary.BigEndian.AppendUint16(b, uint16(m.Kind))
	b = binary.BigEndian.AppendUint16(b, uint16(len(m.Attributes)))
	for _, a := range m.Attributes {
		if len(a.Value)+attributeSize > lengthMask {
			return nil, fmt.Errorf(
				"SSTP message: attribute %d has %d bytes, expected at most %d",
				a.ID,
				len(a.Value),
				lengthMask-attributeSize,
			)
		}
		b = append(b, 0, a.ID)
		b = binary.BigEndian.AppendUint16(b, uint16(attributeSize+len(a.Value)))
		b = append(b, a.Value...)
	}
	if len(b) > lengthMask {
		return nil, fmt.Errorf("SSTP message: %d bytes, expected at most %d", len(b), lengthMask)
	}
	binary.BigEndian.PutUint16(b[2:], uint16(len(b)))
	return b, nil
}

// Data puts a PPP frame of at most 4091 bytes into a data packet (MS-SSTP §2.2.1).
func Data(frame []byte) []byte {
	return append(
		binary.BigEndian.AppendUint16([]byte{version, 0}, uint16(headerSize+len(frame))),
		frame...)
}

// Frame is how long the packet is that begins like this, in bytes, and whether it is a control
// message.
func Frame(header [headerSize]byte) (size int, control bool, err error) {
	size = int(binary.BigEndian.Uint16(header[2:]) & lengthMask)
	if header[0] != version || size < headerSize {
		return 0, false, malformed(
			"it begins with %x, expected version 1.0 and a length of at least %d",
			header[:],
			headerSize,
		)
	}
	return size, header[1]&controlBit != 0, nil
}

// Decode reads a control message. Values point into b.
func Decode(b []byte) (m Message, err error) {
	if len(b) < controlSize {
		return m, malformed("%d bytes, expected at least %d", len(b), controlSize)
	}
	size, control, err := Frame([headerSize]byte(b))
	switch {
	case err != nil:
		return m, err
	case size != len(b):
		return m, malformed("its length says %d bytes, there are %d", size, len(b))
	case !control:
		return m, malformed("it carries data")
	}
	m.Kind = Kind(binary.BigEndian.Uint16(b[4:]))
	count, rest := int(binary.BigEndian.Uint16(b[6:])), b[controlSize:]
	if count > mostAttrs {
		return m, malformed("%d attributes, expected at most %d", count, mostAttrs)
	}
	for range count {
		if len(rest) < attributeSize {
			return m, malformed(
				"an attribute of %d bytes, expected at least %d",
				len(rest),
				attributeSize,
			)
		}
		n := int(binary.BigEndian.Uint16(rest[2:]) & lengthMask)
		if n < attributeSize || n > len(rest) {
			return m, malformed("an attribute of %d bytes where %d are left", n, len(rest))
		}
		m.Attributes = append(m.Attributes, Attribute{rest[1], rest[attributeSize:n]})
		rest = rest[n:]
	}
	if len(rest) > 0 {
		return m, malformed("%d bytes behind the last attribute", len(rest))
	}
	return m, nil
}
