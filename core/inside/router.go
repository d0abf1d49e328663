package inside

import (
	"encoding/binary"
	"net/netip"
)

// Messages by which a device gets an address of its own (RFC 4861 §4.1, §4.2).
const (
	solicitation  = 133
	advertisement = 134

	optionPrefix = 3  // RFC 4861 §4.6.2
	optionDNS    = 25 // RFC 8106 §5.1
	autonomous   = 0x40
)

var allRouters = netip.MustParseAddr("ff02::2")

// hops is what messages to neighbours bear, which no router lets pass (RFC 4861 §4.1).
const hops = 255

// Solicit asks a router for a prefix, from a link-local address.
func Solicit(from netip.Addr) []byte { return neighbour(from, allRouters, solicitation, nil) }

// Advertise answers that with a prefix of 64 bits and DNS servers, as a simulated gateway does.
func Advertise(from, to netip.Addr, prefix netip.Prefix, dns ...netip.Addr) []byte {
	body := []byte{64, 0, 0x07, 0x08, 0, 0, 0, 0, 0, 0, 0, 0} // for half an hour
	body = append(body, optionPrefix, 4, byte(prefix.Bits()), autonomous)
	body = append(body, 0, 0, 0x0E, 0x10, 0, 0, 0x0E, 0x10, 0, 0, 0, 0)
	body = append(body, prefix.Addr().AsSlice()...)
	if len(dns) > 0 {
		body = append(body, optionDNS, byte(1+2*len(dns)), 0, 0, 0, 0, 0x0E, 0x10)
		for _, a := range dns {
			body = append(body, a.AsSlice()...)
		}
	}
	return neighbour(from, to, advertisement, body)
}

// neighbour writes a message; without a body it has the four bytes that are reserved.
func neighbour(from, to netip.Addr, kind byte, body []byte) []byte {
	b := append([]byte{kind, 0, 0, 0}, body...)
	if body == nil {
		b = append(b, 0, 0, 0, 0)
	}
	binary.BigEndian.PutUint16(b[2:], checksum(pseudo(from, to, ICMPv6, len(b)), b))
	out := packet(from, to, ICMPv6, b)
	out[7] = hops
	return out
}

// Solicits tells whether a packet asks a router for a prefix.
func (p Packet) Solicits() bool { return p.Protocol == ICMPv6 && p.Kind == solicitation }

// Advertised are the prefix and the DNS servers that a router tells; false for any other packet,
// and where the prefix is not for addresses that devices make themselves.
func (p Packet) Advertised() (prefix netip.Prefix, dns []netip.Addr, ok bool) {
	if p.Protocol != ICMPv6 || p.Kind != advertisement || len(p.body) < 16 {
		return prefix, nil, false
	}
	for b := p.body[16:]; len(b) >= 8; {
		n := int(b[1]) * 8
		if n == 0 || n > len(b) {
			break
		}
		switch {
		case b[0] == optionPrefix && n == 32 && b[2] == 64 && b[3]&autonomous != 0 && !ok:
			a, _ := netip.AddrFromSlice(b[16:32])
			prefix, ok = netip.PrefixFrom(a, 64).Masked(), true
		case b[0] == optionDNS:
			for servers := b[8:n]; len(servers) >= 16 && len(dns) < 4; servers = servers[16:] {
				a, _ := netip.AddrFromSlice(servers[:16])
				dns = append(dns, a)
			}
		}
		b = b[n:]
	}
	return prefix, dns, ok
}
