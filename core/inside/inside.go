// Package inside writes and reads the few IP packets that tell whether a tunnel carries: echo, a
// question by UDP, and the beginning of a connection by TCP (RFC 791, 792, 4443, 768, 9293, 8200).
// It is no stack: nothing is sent again, and no connection is ever used.
package inside

import (
	"encoding/binary"
	"errors"
	"net/netip"
)

// Protocols above IP.
const (
	ICMP   = 1
	TCP    = 6
	UDP    = 17
	ICMPv6 = 58
)

const (
	head4, head6 = 20, 40
	ttl          = 64
)

// Flags of TCP.
const (
	SYN = 0x02
	RST = 0x04
	ACK = 0x10
)

// checksum is that of the internet (RFC 1071).
func checksum(parts ...[]byte) uint16 {
	var sum uint32
	odd := false
	for _, p := range parts {
		for _, b := range p {
			if odd {
				sum += uint32(b)
			} else {
				sum += uint32(b) << 8
			}
			odd = !odd
		}
	}
	for sum > 0xFFFF {
		sum = sum&0xFFFF + sum>>16
	}
	return ^uint16(sum)
}

// pseudo is the header that checksums above IP are made over as well.
func pseudo(from, to netip.Addr, protocol byte, size int) []byte {
	b := append(from.AsSlice(), to.AsSlice()...)
	if from.Is4() {
		return binary.BigEndian.AppendUint16(append(b, 0, protocol), uint16(size))
	}
	b = binary.BigEndian.AppendUint32(b, uint32(size))
	return append(b, 0, 0, 0, protocol)
}

// packet puts the header of IP before a body. Both addresses are of one family.
func packet(from, to netip.Addr, protocol byte, body []byte) []byte {
	if from.Is4() {
		h := make([]byte, head4, head4+len(body))
		h[0], h[8], h[9] = 0x45, ttl, protocol
		binary.BigEndian.PutUint16(h[2:], uint16(head4+len(body)))
		binary.BigEndian.PutUint16(h[6:], 0x4000) // not in pieces
		copy(h[12:], from.AsSlice())
		copy(h[16:], to.AsSlice())
		binary.BigEndian.PutUint16(h[10:], checksum(h))
		return append(h, body...)
	}
	h := make([]byte, head6, head6+len(body))
	h[0], h[6], h[7] = 0x60, protocol, ttl
	binary.BigEndian.PutUint16(h[4:], uint16(len(body)))
	copy(h[8:], from.AsSlice())
	copy(h[24:], to.AsSlice())
	return append(h, body...)
}

// Echo writes a question for an echo, with size bytes in it.
func Echo(from, to netip.Addr, id, number uint16, size int) []byte {
	b := make([]byte, 8+size)
	binary.BigEndian.PutUint16(b[4:], id)
	binary.BigEndian.PutUint16(b[6:], number)
	for i := 8; i < len(b); i++ {
		b[i] = byte(i)
	}
	if from.Is4() {
		b[0] = 8
		binary.BigEndian.PutUint16(b[2:], checksum(b))
		return packet(from, to, ICMP, b)
	}
	b[0] = 128
	binary.BigEndian.PutUint16(b[2:], checksum(pseudo(from, to, ICMPv6, len(b)), b))
	return packet(from, to, ICMPv6, b)
}

// EchoReply answers a question for an echo; nil for any other packet.
func EchoReply(b []byte) []byte {
	p, err := Read(b)
	asks := p.Protocol == ICMP && p.Kind == 8 || p.Protocol == ICMPv6 && p.Kind == 128
	if err != nil || !asks {
		return nil
	}
	from, to := p.To.Addr(), p.From.Addr()
	body := append([]byte{}, p.body...)
	body[2], body[3] = 0, 0
	if body[0] = 0; from.Is4() {
		binary.BigEndian.PutUint16(body[2:], checksum(body))
	} else {
		body[0] = 129
		binary.BigEndian.PutUint16(body[2:], checksum(pseudo(from, to, ICMPv6, len(body)), body))
	}
	return packet(from, to, p.Protocol, body)
}

// Datagram writes a datagram of UDP.
func Datagram(from, to netip.AddrPort, payload []byte) []byte {
	b := binary.BigEndian.AppendUint16(nil, from.Port())
	b = binary.BigEndian.AppendUint16(b, to.Port())
	b = binary.BigEndian.AppendUint16(b, uint16(8+len(payload)))
	b = append(append(b, 0, 0), payload...)
	sum := checksum(pseudo(from.Addr(), to.Addr(), UDP, len(b)), b)
	if sum == 0 {
		sum = 0xFFFF
	}
	binary.BigEndian.PutUint16(b[6:], sum)
	return packet(from.Addr(), to.Addr(), UDP, b)
}

// Segment writes a segment of TCP without data.
func Segment(from, to netip.AddrPort, number, acknowledged uint32, flags byte) []byte {
	b := binary.BigEndian.AppendUint16(nil, from.Port())
	b = binary.BigEndian.AppendUint16(b, to.Port())
	b = binary.BigEndian.AppendUint32(b, number)
	b = binary.BigEndian.AppendUint32(b, acknowledged)
	b = append(b, 5<<4, flags, 0xFF, 0xFF, 0, 0, 0, 0)
	binary.BigEndian.PutUint16(b[16:], checksum(pseudo(from.Addr(), to.Addr(), TCP, len(b)), b))
	return packet(from.Addr(), to.Addr(), TCP, b)
}

// Packet is what was read of one.
type Packet struct {
	From, To netip.AddrPort // without ports where the protocol has none
	Protocol byte
	Kind     byte   // of ICMP: 0 or 129 is an echo, 3 and 1 unreachable
	ID       uint16 // of an echo
	Number   uint32 // of an echo, or the sequence number of TCP
	Flags    byte   // of TCP
	Payload  []byte // of UDP

	body []byte // above IP
}

// Echoed tells whether the packet answers an echo.
func (p Packet) Echoed() bool {
	return p.Protocol == ICMP && p.Kind == 0 || p.Protocol == ICMPv6 && p.Kind == 129
}

var errShort = errors.New("an IP packet that is cut short")

// Read reads a packet. Pieces of packets and extension headers are not put together.
func Read(b []byte) (p Packet, err error) {
	if len(b) < head4 {
		return p, errShort
	}
	var from, to netip.Addr
	var body []byte
	switch b[0] >> 4 {
	case 4:
		n, total := int(b[0]&15)*4, int(binary.BigEndian.Uint16(b[2:]))
		if n < head4 || total < n || total > len(b) {
			return p, errShort
		}
		from, _ = netip.AddrFromSlice(b[12:16])
		to, _ = netip.AddrFromSlice(b[16:20])
		p.Protocol, body = b[9], b[n:total]
		if binary.BigEndian.Uint16(b[6:])&0x3FFF != 0 {
			return p, errors.New("a piece of an IP packet")
		}
	case 6:
		if len(b) < head6 || head6+int(binary.BigEndian.Uint16(b[4:])) > len(b) {
			return p, errShort
		}
		from, _ = netip.AddrFromSlice(b[8:24])
		to, _ = netip.AddrFromSlice(b[24:40])
		p.Protocol, body = b[6], b[head6:head6+int(binary.BigEndian.Uint16(b[4:]))]
	default:
		return p, errors.New("not an IP packet")
	}
	p.From, p.To = netip.AddrPortFrom(from, 0), netip.AddrPortFrom(to, 0)
	if len(body) < 8 {
		return p, errShort
	}
	p.body = body
	ports := func() {
		p.From = netip.AddrPortFrom(from, binary.BigEndian.Uint16(body))
		p.To = netip.AddrPortFrom(to, binary.BigEndian.Uint16(body[2:]))
	}
	switch p.Protocol {
	case ICMP, ICMPv6:
		p.Kind, p.ID = body[0], binary.BigEndian.Uint16(body[4:])
		p.Number = uint32(binary.BigEndian.Uint16(body[6:]))
	case UDP:
		ports()
		p.Payload = body[8:]
	case TCP:
		if len(body) < 20 {
			return p, errShort
		}
		ports()
		p.Number, p.Flags = binary.BigEndian.Uint32(body[4:]), body[13]
	}
	return p, nil
}
