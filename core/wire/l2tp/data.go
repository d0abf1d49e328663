package l2tp

import "encoding/binary"

// Flags of the header (RFC 2661 §3.1).
const (
	flagControl  = 0x8000
	flagLength   = 0x4000
	flagSequence = 0x0800
	flagOffset   = 0x0200
)

// Data writes a data message: a frame of PPP in a session of a tunnel, both as the other end named
// them (RFC 2661 §3.1).
func Data(tunnel, session uint16, frame []byte) []byte {
	b := make([]byte, 0, 8+len(frame))
	for _, n := range []uint16{flagLength | versionTwo, uint16(8 + len(frame)), tunnel, session} {
		b = binary.BigEndian.AppendUint16(b, n)
	}
	return append(b, frame...)
}

// IsControl tells whether a message is a control message.
func IsControl(b []byte) bool {
	return len(b) >= 2 && binary.BigEndian.Uint16(b)&flagControl != 0
}

// DecodeData reads a data message. The frame points into b.
func DecodeData(b []byte) (tunnel, session uint16, frame []byte, err error) {
	if len(b) < 6 || IsControl(b) || b[1]&0xF != versionTwo {
		return 0, 0, nil, malformed("%d bytes that are no data message of version 2", len(b))
	}
	flags, rest := binary.BigEndian.Uint16(b), b[2:]
	need := func(n int) bool { return len(rest) >= n }
	if flags&flagLength != 0 {
		n := int(binary.BigEndian.Uint16(rest))
		if n < 8 || n > len(b) {
			return 0, 0, nil, malformed("its length says %d bytes, there are %d", n, len(b))
		}
		rest = b[4:n]
	}
	if !need(4) {
		return 0, 0, nil, malformed("a data message that is cut short")
	}
	tunnel, session = binary.BigEndian.Uint16(rest), binary.BigEndian.Uint16(rest[2:])
	rest = rest[4:]
	if flags&flagSequence != 0 {
		if !need(4) {
			return 0, 0, nil, malformed("a data message that is cut short")
		}
		rest = rest[4:]
	}
	if flags&flagOffset != 0 {
		if !need(2) || !need(2+int(binary.BigEndian.Uint16(rest))) {
			return 0, 0, nil, malformed("an offset that is behind the end")
		}
		rest = rest[2+binary.BigEndian.Uint16(rest):]
	}
	return tunnel, session, rest, nil
}
