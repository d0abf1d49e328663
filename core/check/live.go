package check

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"wardicon/core/vpn"
)

// Live is what the name server said of the gateway's name when it was asked. Core asks
// nobody: whoever has sockets hands it in.
type Live struct {
	Name      string
	Addresses []netip.Addr
	Missing   bool   // there is no such name
	Fault     string // why there was no answer at all
}

// liveRules look at what was asked on the network.
var liveRules = []Rule{
	{
		Code: "name-unanswered", Title: "Name server knows no such gateway (live)", Severity: vpn.Blocker, Fields: []vpn.Field{vpn.FieldServer},
		Why: "Devices cannot find the gateway by this name.", Mend: "Correct the name, or enter it at the name server.", Source: "RFC 1035 §4.1.1",
		Bad: Example{"a name that does not exist", asked(Live{Missing: true})}, Good: Example{"a name with an address", asked(Live{Addresses: []netip.Addr{netip.MustParseAddr("198.51.100.7")}})},
		look: func(s *Subject) []Hit {
			switch l := s.Live; {
			case l == nil:
			case l.Missing:
				return serverHit("no address for %s", quote(l.Name))
			case l.Fault != "":
				return serverHit("%s: %s", quote(l.Name), l.Fault)
			}
			return nil
		},
	},
	{
		Code: "name-elsewhere", Title: "Name leads to another address than the record's (live)", Severity: vpn.Warning, Fields: []vpn.Field{vpn.FieldServer},
		Why: "Devices reach another machine than the one that is meant, or the record is out of date.", Mend: "Correct the record or the name server.", Source: "practice",
		Bad: Example{"another address", asked(Live{Addresses: []netip.Addr{netip.MustParseAddr("203.0.113.9")}})}, Good: Example{"the address on record", asked(Live{Addresses: []netip.Addr{netip.MustParseAddr("198.51.100.7")}})},
		look: func(s *Subject) []Hit {
			g := s.record()
			if s.Live == nil || g == nil || g.Dynamic || len(g.Addresses) == 0 {
				return nil
			}
			for _, a := range s.Live.Addresses {
				if !slices.Contains(g.Addresses, a.Unmap().String()) {
					return serverHit("%s leads to %s, the record has %s", quote(s.Live.Name), a.Unmap(), strings.Join(g.Addresses, ", "))
				}
			}
			return nil
		},
	},
	{
		Code: "name-ipv6-only", Title: "Name has an IPv6 address only (live)", Severity: vpn.Advice, Fields: []vpn.Field{vpn.FieldServer},
		Why: "In networks without IPv6, which are many, the gateway cannot be reached.", Mend: "Give the name an IPv4 address too.", Source: "practice",
		Bad: Example{"an IPv6 address alone", asked(Live{Addresses: []netip.Addr{netip.MustParseAddr("2001:db8::7")}})}, Good: Example{"an IPv4 address too", asked(Live{Addresses: []netip.Addr{netip.MustParseAddr("198.51.100.7")}})},
		look: func(s *Subject) []Hit {
			if s.Live == nil || len(s.Live.Addresses) == 0 || slices.ContainsFunc(s.Live.Addresses, func(a netip.Addr) bool { return a.Unmap().Is4() }) {
				return nil
			}
			return serverHit("%s has %s", quote(s.Live.Name), fmt.Sprint(s.Live.Addresses))
		},
	},
}

func asked(l Live) func(*Subject) {
	return func(s *Subject) {
		l.Name = s.Connection.Server
		s.Live = &l
	}
}
