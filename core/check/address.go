package check

import (
	"fmt"
	"net/netip"
	"strings"
	"unicode"

	"wardicon/core/vpn"
)

var shared = netip.MustParsePrefix("100.64.0.0/10") // RFC 6598

// server parses the address as a number; ok is false for a name.
func (s *Subject) server() (netip.Addr, bool) {
	a, err := netip.ParseAddr(s.Connection.Server)
	return a.Unmap(), err == nil
}

func serverHit(found string, args ...any) []Hit {
	return []Hit{{Field: vpn.FieldServer, Found: fmt.Sprintf(found, args...)}}
}

var addressRules = []Rule{
	{
		Code:     "address-malformed",
		Title:    "Neither a host name nor an IP address",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldServer},
		Why:      "The device looks up exactly this text and finds nothing.",
		Fix:      "Write only the host name or the IP address.",
		Source:   "RFC 1123 §2.1",
		Bad: Example{
			"a name with a space inside",
			func(s *Subject) { s.Connection.Server = "norrvik skerryline.example" },
		},
		Good: Example{
			"the host name",
			func(s *Subject) { s.Connection.Server = "norrvik.skerryline.example" },
		},
		run: func(s *Subject) []Hit {
			v := s.Connection.Server
			expected, fix := vpn.HostProblem(v)
			if host, what := pasted(v); what != "" { // told by a rule of its own
				if inner, _ := vpn.HostProblem(host); inner == "" || international(host) {
					return nil
				}
			}
			if expected == "" || international(v) {
				return nil
			}
			return []Hit{
				{
					Field: vpn.FieldServer,
					Found: quote(v) + ", expected " + expected,
					Fix:   strings.ToUpper(fix[:1]) + fix[1:] + ".",
				},
			}
		},
	},
	{
		Code:     "address-not-ascii",
		Title:    "Internationalised name not in ASCII form (punycode)",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldServer},
		Why:      "Most VPN clients do not convert the name and do not find the gateway.",
		Fix:      "Write the name in its xn-- form.",
		Source:   "RFC 5891 §4.4",
		Bad: Example{
			"a name with an umlaut",
			func(s *Subject) { s.Connection.Server = "tällholm.skerryline.example" },
		},
		Good: Example{
			"its xn-- form",
			func(s *Subject) { s.Connection.Server = "xn--tllholm-5wa.skerryline.example" },
		},
		run: func(s *Subject) []Hit {
			if international(s.Connection.Server) {
				return []Hit{
					{
						Field: vpn.FieldServer,
						Found: quote(s.Connection.Server),
						From:  s.Connection.Server,
						To:    ascii(s.Connection.Server),
					},
				}
			}
			return nil
		},
	},
	{
		Code:     "address-inside-name",
		Title:    "Host name that resolves only on the internal network",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldServer},
		Why: "The name does not exist outside the internal network, where people connect " +
			"from.",
		Fix:    "Use the gateway's public name.",
		Source: "RFC 6762 §3, RFC 8375",
		Bad: Example{
			"a name under .local",
			func(s *Subject) { s.Connection.Server = "norrvik.local" },
		},
		Good: Example{
			"a public name",
			func(s *Subject) { s.Connection.Server = "norrvik.skerryline.example" },
		},
		run: func(s *Subject) []Hit {
			v := strings.ToLower(strings.TrimSuffix(s.Connection.Server, "."))
			if _, number := s.server(); number || v == "" {
				return nil
			}
			if expected, _ := vpn.HostProblem(v); expected != "" {
				return nil
			}
			if !strings.Contains(v, ".") {
				return serverHit("%s has one label only", quote(v))
			}
			for _, end := range []string{".local", ".lan", ".home", ".internal", ".home.arpa",
				".localdomain", ".corp"} {
				if strings.HasSuffix(v, end) {
					return serverHit("%s ends in %s", quote(v), end)
				}
			}
			return nil
		},
	},
	{
		Code:     "address-private",
		Title:    "Private address, not routed on the internet",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldServer},
		Why:      "It is reachable only in the gateway's own network.",
		Fix:      "Use the public address, or a name that resolves to it.",
		Source:   "RFC 1918, RFC 6598, RFC 4193, RFC 3927",
		Bad: Example{
			"an address from 192.168/16",
			func(s *Subject) { s.Connection.Server = "192.168.178.2" },
		},
		Good: Example{
			"a public address",
			func(s *Subject) { s.Connection.Server = "198.51.100.7" },
		},
		run: func(s *Subject) []Hit {
			a, ok := s.server()
			switch {
			case !ok:
			case a.IsPrivate():
				return serverHit("%s is a private address", a)
			case shared.Contains(a):
				return serverHit("%s is shared by a provider's customers", a)
			case a.IsLinkLocalUnicast():
				return serverHit("%s is valid on one link only", a)
			}
			return nil
		},
	},
	{
		Code:     "address-unusable",
		Title:    "Address cannot be connected to",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldServer},
		Why:      "The address stands for the device itself, several hosts, or none.",
		Fix:      "Write the gateway's address.",
		Source:   "RFC 6890 §2.2",
		Bad: Example{
			"the loopback address",
			func(s *Subject) { s.Connection.Server = "127.0.0.1" },
		},
		Good: Example{
			"the gateway's address",
			func(s *Subject) { s.Connection.Server = "198.51.100.7" },
		},
		run: func(s *Subject) []Hit {
			a, ok := s.server()
			switch {
			case !ok:
			case a.IsLoopback():
				return serverHit("%s is the device itself", a)
			case a.IsMulticast():
				return serverHit("%s is a multicast address", a)
			case a.IsUnspecified():
				return serverHit("%s is no address of a host", a)
			}
			return nil
		},
	},
	{
		Code:     "address-dynamic",
		Title:    "Dynamic address given as an IP address",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldServer},
		Why:      "When the address changes, all devices lose the gateway.",
		Fix:      "Use a name that is updated with the address (dynamic DNS).",
		Source:   "practice",
		Bad: Example{
			"a number at a gateway whose address changes",
			func(s *Subject) { s.Gateway.Dynamic = true; s.Connection.Server = "198.51.100.7" },
		},
		Good: Example{"a name at that gateway", func(s *Subject) { s.Gateway.Dynamic = true }},
		run: func(s *Subject) []Hit {
			if a, ok := s.server(); ok && s.Gateway != nil && s.Gateway.Dynamic {
				return serverHit("%s, while the record says that it changes", a)
			}
			return nil
		},
	},
	{
		Code:     "address-in-tunnel",
		Title:    "Gateway's address is routed into the tunnel",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldRoutes},
		Why: "Once connected, the tunnel's own packets are routed into the tunnel, and the " +
			"connection stalls.",
		Fix:    "Exclude the gateway's address from the routes.",
		Source: "practice",
		Bad: Example{"a route that covers the address", func(s *Subject) {
			s.Connection.Routes = []string{"198.51.100.0/24"}
			s.Connection.DNS = nil
			s.Connection.Domains = nil
		}},
		Good: Example{
			"a route beside it",
			func(s *Subject) { s.Connection.Routes = []string{"10.20.0.0/16"} },
		},
		run: func(s *Subject) []Hit {
			var addresses []netip.Addr
			if a, ok := s.server(); ok {
				addresses = append(addresses, a)
			}
			if s.Gateway != nil {
				for _, v := range s.Gateway.Addresses {
					if a, err := netip.ParseAddr(v); err == nil {
						addresses = append(addresses, a.Unmap())
					}
				}
			}
			for _, route := range prefixes(s.Connection.Routes) {
				for _, a := range addresses {
					if route.Contains(a) {
						return []Hit{
							{Field: vpn.FieldRoutes, Found: fmt.Sprintf("%s lies in %s", a, route)},
						}
					}
				}
			}
			return nil
		},
	},
}

// international tells a host name with letters outside ASCII that is otherwise sound.
func international(v string) bool {
	ascii := strings.Map(func(r rune) rune {
		if r > unicode.MaxASCII && unicode.IsLetter(r) {
			return 'x'
		}
		return r
	}, v)
	expected, _ := vpn.HostProblem(ascii)
	return ascii != v && expected == ""
}
