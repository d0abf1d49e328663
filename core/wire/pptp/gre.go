package pptp

import "encoding/binary"

// ProtocolGRE is the number of GRE in IP (RFC 2637 §4).
const ProtocolGRE = 47

// Fields of the header of GRE (RFC 2637 §4.1).
const (
	greKey        = 0x2000
	greSequence   = 0x1000
	greAck        = 0x0080
	greVersion    = 0x0001
	grePPP        = 0x880B
	greHeaderSize = 8
)

// Packet is a packet of the enhanced GRE that carries PPP (RFC 2637 §4.1). One without a frame only
// acknowledges.
type Packet struct {
	CallID   uint16 // as the other end named the call
	Sequence uint32 // of a packet with a frame
	Ack      *uint32
	Frame    []byte
}

// Encode writes the packet.
func (p Packet) Encode() []byte {
	flags := uint16(greKey | greVersion)
	if len(p.Frame) > 0 {
		flags |= greSequence
	}
	if p.Ack != nil {
		flags |= greAck
	}
	b := make([]byte, 0, greHeaderSize+8+len(p.Frame))
	for _, n := range []uint16{flags, grePPP, uint16(len(p.Frame)), p.CallID} {
		b = binary.BigEndian.AppendUint16(b, n)
	}
	if len(p.Frame) > 0 {
		b = binary.BigEndian.AppendUint32(b, p.Sequence)
	}
	if p.Ack != nil {
		b = binary.BigEndian.AppendUint32(b, *p.Ack)
	}
	return append(b, p.Frame...)
}

// DecodePacket reads a packet of GRE. The frame points into b.
func DecodePacket(b []byte) (p Packet, err error) {
	if len(b) < greHeaderSize {
		return p, malformed("GRE of %d bytes, expected at least %d", len(b), greHeaderSize)
	}
	flags := binary.BigEndian.Uint16(b)
	if flags&^greSequence&^greAck != greKey|greVersion ||
		binary.BigEndian.Uint16(b[2:]) != grePPP {
		return p, malformed("GRE that begins with %04x, expected PPP of version 1", flags)
	}
	size := int(binary.BigEndian.Uint16(b[4:]))
	p.CallID = binary.BigEndian.Uint16(b[6:])
	rest := b[greHeaderSize:]
	number := func() (n uint32) {
		if len(rest) < 4 {
			err = malformed("GRE of %d bytes that is cut short", len(b))
			return 0
		}
		n, rest = binary.BigEndian.Uint32(rest), rest[4:]
		return n
	}
	if flags&greSequence != 0 {
		p.Sequence = number()
	}
	if flags&greAck != 0 {
		n := number()
		p.Ack = &n
	}
	if err == nil && size > len(rest) {
		err = malformed("GRE that says %d bytes and has %d", size, len(rest))
	}
	if err != nil {
		return Packet{}, err
	}
	if flags&greSequence != 0 {
		p.Frame = rest[:size]
	}
	return p, nil
}
