package inside

import (
	"bytes"
	"encoding/hex"
	"net/netip"
	"testing"
)

// TestPackets reads back what is written, and holds the checksums: over a packet with its own, the
// sum is nothing (RFC 1071 §1).
func TestPackets(t *testing.T) {
	four, host4 := netip.MustParseAddr("10.77.0.2"), netip.MustParseAddr("10.20.0.53")
	six, host6 := netip.MustParseAddr("fd00::2"), netip.MustParseAddr("fd00::53")
	for _, pair := range [][2]netip.Addr{{four, host4}, {six, host6}} {
		me, it := netip.AddrPortFrom(pair[0], 40000), netip.AddrPortFrom(pair[1], 53)
		for _, test := range []struct {
			packet   []byte
			protocol byte
			want     func(Packet) bool
		}{
			{Echo(pair[0], pair[1], 7, 9, 56), map[bool]byte{true: ICMP, false: ICMPv6}[pair[0].Is4()],
				func(p Packet) bool { return p.ID == 7 && p.Number == 9 && !p.Echoed() }},
			{Datagram(me, it, []byte("kelp")), UDP, func(p Packet) bool {
				return p.From == me && p.To == it && bytes.Equal(p.Payload, []byte("kelp"))
			}},
			{Segment(me, it, 5, 6, SYN), TCP, func(p Packet) bool {
				return p.From == me && p.Number == 5 && p.Flags == SYN
			}},
		} {
			p, err := Read(test.packet)
			if err != nil || p.Protocol != test.protocol || !test.want(p) {
				t.Errorf("%+v: %v", p, err)
			}
			head := head6
			if pair[0].Is4() {
				head = head4
				if checksum(test.packet[:head]) != 0 {
					t.Error("the header's checksum is wrong")
				}
			}
			body := test.packet[head:]
			sum := checksum(pseudo(pair[0], pair[1], test.protocol, len(body)), body)
			if test.protocol == ICMP {
				sum = checksum(body)
			}
			if sum != 0 {
				t.Errorf("the checksum of protocol %d is wrong", test.protocol)
			}
			if reply := EchoReply(test.packet); (reply != nil) != (p.ID == 7) {
				t.Errorf("protocol %d: answered with %x", test.protocol, reply)
			} else if reply != nil {
				r, err := Read(reply)
				if err != nil || !r.Echoed() || r.ID != 7 || r.Number != 9 ||
					r.From != p.To || r.To != p.From {
					t.Errorf("the echo is %+v (%v)", r, err)
				}
			}
			for n := range test.packet {
				if _, err := Read(test.packet[:n]); err == nil {
					t.Errorf("%d of %d bytes are taken", n, len(test.packet))
				}
			}
		}
	}
}

// FuzzRead reads anything.
func FuzzRead(f *testing.F) {
	f.Add(Echo(netip.MustParseAddr("10.0.0.1"), netip.MustParseAddr("10.0.0.2"), 1, 2, 3))
	f.Add(Segment(netip.MustParseAddrPort("[fd00::1]:1"), netip.MustParseAddrPort("[fd00::2]:2"), 1,
		2, SYN))
	f.Fuzz(func(_ *testing.T, b []byte) { _, _ = Read(b) })
}

// TestAdvertised reads what routers say, as it was worked out by hand (RFC 4861 §4.2, §4.6.2, RFC 8106
// §5.1), and nothing of what is cut short or not for devices.
func TestAdvertised(t *testing.T) {
	router, device := netip.MustParseAddr("fe80::1"), netip.MustParseAddr("fe80::2")
	const body = "40000708" + "0000000000000000" + // hops, flags, lifetime, times
		"0304404000000e1000000e1000000000" + "fd000010002000300000000000000000" +
		"1903000000000e10" + "fd000010002000300000000000000053"
	b := Advertise(router, device, netip.MustParsePrefix("fd00:10:20:30::/64"),
		netip.MustParseAddr("fd00:10:20:30::53"))
	if got := hex.EncodeToString(b[head6+4:]); got != body {
		t.Errorf("%s, expected %s", got, body)
	}
	p, err := Read(b)
	if err != nil {
		t.Fatal(err)
	}
	prefix, dns, ok := p.Advertised()
	if !ok || prefix.String() != "fd00:10:20:30::/64" || len(dns) != 1 || b[7] != 255 {
		t.Errorf("%s %v %t", prefix, dns, ok)
	}
	for _, at := range []int{head6 + 16 + 2, head6 + 16 + 3, head6, head6 + 16 + 1} {
		changed := append([]byte{}, b...)
		changed[at] ^= 0x41 // length of the prefix, its flags, kind of the message, length of an option
		if p, err := Read(changed); err == nil {
			if prefix, _, ok := p.Advertised(); ok {
				t.Errorf("with byte %d changed: %s", at, prefix)
			}
		}
	}
	if p, err := Read(Solicit(device)); err != nil || !p.Solicits() {
		t.Errorf("%+v (%v)", p, err)
	}
}
