package simulate

import (
	"net/netip"
	"strings"

	"github.com/miekg/dns"

	"wardicon/core/inside"
)

// network is what lies behind a simulator: every address in it answers echoes, knows names under
// inside., and accepts connections to the ports of the web.
var (
	network  = netip.MustParsePrefix("10.0.0.0/8")
	network6 = netip.MustParsePrefix("fd00::/8")
)

// inner answers a packet from the tunnel as that network does; nil where nothing answers.
func inner(b []byte) []byte {
	p, err := inside.Read(b)
	if err != nil || !network.Contains(p.To.Addr()) && !network6.Contains(p.To.Addr()) {
		return nil
	}
	switch p.Protocol {
	case inside.ICMP, inside.ICMPv6:
		return inside.EchoReply(b)
	case inside.UDP:
		if p.To.Port() == 53 {
			return named(p)
		}
	case inside.TCP:
		flags := byte(inside.RST | inside.ACK)
		if p.To.Port() == 80 || p.To.Port() == 443 {
			flags = inside.SYN | inside.ACK
		}
		if p.Flags&inside.SYN != 0 {
			return inside.Segment(p.To, p.From, 1, p.Number+1, flags)
		}
	}
	return nil
}

// named answers a question for a name.
func named(p inside.Packet) []byte {
	var q dns.Msg
	if q.Unpack(p.Payload) != nil || len(q.Question) != 1 {
		return nil
	}
	m := new(dns.Msg).SetReply(&q)
	name := q.Question[0].Name
	if strings.Contains(name, ".inside.") && q.Question[0].Qtype == dns.TypeA {
		m.Answer = []dns.RR{&dns.A{
			Hdr: dns.RR_Header{Name: name, Rrtype: dns.TypeA, Class: dns.ClassINET, Ttl: 60},
			A:   insideHost.AsSlice(),
		}}
	} else if !strings.HasPrefix(name, "inside.") {
		m.Rcode = dns.RcodeNameError
	}
	b, err := m.Pack()
	if err != nil {
		return nil
	}
	return inside.Datagram(p.To, p.From, b)
}
