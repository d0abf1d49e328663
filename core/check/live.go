package check

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"wardicon/core/drift"
	"wardicon/core/vpn"
)

// Live is what the name server said of the gateway's name when it was asked, and what the gateway
// answered. Core asks nobody: whoever has sockets hands it in.
type Live struct {
	Name      string
	Addresses []netip.Addr
	Missing   bool   // there is no such name
	Fault     string // why there was no answer at all

	// what the gateway answered when it was asked last, where that is not as on record
	Differences []drift.Difference

	At     time.Time // when it was asked
	From   string    // who asked which name server, such as "this service by 192.0.2.53:53"
	Before *Live     // what was seen some time before that; nil where nothing was
}

// liveFresh is how long what was seen on the network holds a parcel up: an outage passes.
const liveFresh = 24 * time.Hour

// firm tells whether what a rule sees on the network was seen twice, and lately: once may be a
// fault of the way there.
func (s *Subject) firm(rule *Rule) bool {
	if s.Live.Before == nil || s.Now.Sub(s.Live.At) > liveFresh {
		return false
	}
	before := *s
	before.Live = s.Live.Before
	return len(rule.run(&before)) > 0
}

// weighed is a finding on what was seen on the network: it says from where, and holds a parcel up
// only where it is firm.
func (s *Subject) weighed(rule *Rule, f Finding) Finding {
	if s.Live.From != "" {
		f.Found += ", as seen by " + s.Live.From + " on " + s.Live.At.UTC().
			Format("2006-01-02 15:04") +
			" UTC"
	}
	if f.Severity == vpn.Error && !s.firm(rule) {
		f.Severity = vpn.Warning
		f.Found += "; seen once, or not within a day: it does not block parcels until a second " +
			"probe sees it"
	}
	return f
}

// liveRules look at what was asked on the network.
var liveRules = []Rule{
	{
		Code:     "name-unanswered",
		Title:    "Gateway's name does not resolve (live)",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldServer},
		Why:      "Devices cannot resolve this name.",
		Fix:      "Correct the name, or add it to DNS.",
		Source:   "RFC 1035 §4.1.1",
		Bad: Example{
			"a name that does not exist",
			asked(Live{Missing: true}),
		},
		Good: Example{
			"a name with an address",
			asked(Live{Addresses: []netip.Addr{netip.MustParseAddr("198.51.100.7")}}),
		},
		run: func(s *Subject) []Hit {
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
		Code:     "name-elsewhere",
		Title:    "Gateway's name resolves to a different address (live)",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldServer},
		Why:      "Devices reach a different machine, or the record is outdated.",
		Fix:      "Correct the record or DNS.",
		Source:   "practice",
		Bad: Example{
			"another address",
			asked(Live{Addresses: []netip.Addr{netip.MustParseAddr("203.0.113.9")}}),
		},
		Good: Example{
			"the address on record",
			asked(Live{Addresses: []netip.Addr{netip.MustParseAddr("198.51.100.7")}}),
		},
		run: func(s *Subject) []Hit {
			g := s.record()
			if s.Live == nil || g == nil || g.Dynamic || len(g.Addresses) == 0 {
				return nil
			}
			for _, a := range s.Live.Addresses {
				if !slices.Contains(g.Addresses, a.Unmap().String()) {
					return serverHit(
						"%s leads to %s, the record has %s",
						quote(s.Live.Name),
						a.Unmap(),
						strings.Join(g.Addresses, ", "),
					)
				}
			}
			return nil
		},
	},
	{
		Code:     "name-ipv6-only",
		Title:    "Gateway's name has an IPv6 address only (live)",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldServer},
		Why:      "The gateway cannot be reached from networks without IPv6, which are common.",
		Fix:      "Add an IPv4 address for the name.",
		Source:   "practice",
		Bad: Example{
			"an IPv6 address alone",
			asked(Live{Addresses: []netip.Addr{netip.MustParseAddr("2001:db8::7")}}),
		},
		Good: Example{
			"an IPv4 address too",
			asked(Live{Addresses: []netip.Addr{netip.MustParseAddr("198.51.100.7")}}),
		},
		run: func(s *Subject) []Hit {
			if s.Live == nil || len(s.Live.Addresses) == 0 ||
				slices.ContainsFunc(
					s.Live.Addresses,
					func(a netip.Addr) bool { return a.Unmap().Is4() },
				) {
				return nil
			}
			return serverHit("%s has %s", quote(s.Live.Name), fmt.Sprint(s.Live.Addresses))
		},
	},
	seen(drift.NoAnswer, Rule{
		Code:     "gateway-no-response",
		Title:    "Gateway does not respond on this protocol (live)",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldServer},
		Why:      "The last probe got no response: devices could not connect.",
		Fix: "Check that the gateway runs and its ports are open in firewalls; then probe it " +
			"again.",
		Source: "practice",
	}),
	seen(drift.NotTheProtocol, Rule{
		Code:     "port-answers-else",
		Title:    "Another service responds on the gateway's port (live)",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldServer},
		Why: "A web server, proxy or another daemon responds where devices expect the " +
			"gateway.",
		Fix:    "Check what listens on that port, and what is in front of it.",
		Source: "practice",
	}),
	seen(drift.SuiteNone, Rule{
		Code:     "suites-refused",
		Title:    "Gateway accepts none of the proposals on record (live)",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldIKE},
		Why:      "The first exchange fails: no device can connect.",
		Fix:      "Accept the gateway's proposals into the record, or correct the gateway.",
		Source:   "RFC 7296 §2.7",
	}),
	seen(drift.ChainBroken, Rule{
		Code:     "shown-authority-other",
		Title:    "Gateway presents a certificate that the device does not trust (live)",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldServer},
		Why:      "The CA in the parcel did not issue the certificate that the gateway presents.",
		Fix: "Install a certificate of the CA on record at the gateway, or add the right CA " +
			"to the offer.",
		Source: "RFC 5280 §6",
	}),
	seen(drift.ChainPrivate, Rule{
		Code:     "shown-authority-private",
		Title:    "Gateway presents a certificate of a private CA that is not in the parcel (live)",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldServer},
		Why:      "The device trusts only public CAs and would reject the certificate.",
		Fix:      "Add the CA to the offer, so that the parcel includes it.",
		Source:   "RFC 5280 §6",
	}),
	seen(drift.TLSOld, Rule{
		Code:     "shown-tls-old",
		Title:    "Gateway supports only TLS versions that the device rejects (live)",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldServer},
		Why:      "Devices require a newer version and abort the handshake.",
		Fix:      "Update the gateway.",
		Source:   "RFC 8996",
	}),
	seen(drift.CertificateName, Rule{
		Code:     "shown-name-other",
		Title:    "Gateway presents a certificate for another name (live)",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldServer},
		Why:      "The device checks the name in the certificate and rejects a different one.",
		Fix: "Install a certificate with the name on record at the gateway, or correct the " +
			"record.",
		Source: "RFC 6125 §6",
	}),
	seen(drift.CertificateExpired, Rule{
		Code:     "shown-certificate-expired",
		Title:    "Gateway presents an expired certificate (live)",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldServer},
		Why:      "Devices reject it.",
		Fix:      "Install a new certificate at the gateway.",
		Source:   "RFC 5280 §4.1.2.5",
	}),
	seen(drift.BareL2TP, Rule{
		Code:     "l2tp-without-ipsec",
		Title:    "Gateway accepts L2TP without IPsec (live)",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldServer},
		Why:      "A device that does not enforce IPsec signs in unprotected, unnoticed.",
		Fix:      "Accept UDP 1701 only inside IPsec in the gateway's packet filter.",
		Source:   "RFC 3193 §4",
	}),
	seen(drift.NATDiffers, Rule{
		Code:     "nat-unrecorded",
		Title:    "Gateway's NAT setting differs from its record (live)",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldServer},
		Why:      "Windows devices reject a gateway behind NAT unless a registry value is set.",
		Fix:      "Accept the probe result into the record, and rebuild.",
		Source:   "RFC 3947 §3.2",
	}),
}

// seen makes a rule of a difference that a probe saw in the protocol of the connection.
func seen(code string, r Rule) Rule {
	difference := func(protocol vpn.Protocol) []drift.Difference {
		return []drift.Difference{
			{
				Code:     code,
				Protocol: protocol,
				Severity: r.Severity,
				Text:     "198.51.100.7: not as on record",
			},
		}
	}
	r.Bad = Example{
		"what was seen in this protocol",
		func(s *Subject) { asked(Live{Differences: difference(s.Connection.Protocol)})(s) },
	}
	r.Good = Example{
		"the same in another protocol",
		func(s *Subject) { asked(Live{Differences: difference("another")})(s) },
	}
	r.run = func(s *Subject) (hits []Hit) {
		if s.Live == nil || s.Against != nil {
			return nil
		}
		for _, d := range s.Live.Differences {
			if d.Code == code && d.Protocol == s.Connection.Protocol {
				hits = append(hits, Hit{Field: r.Fields[0], Found: d.Text})
			}
		}
		return hits
	}
	return r
}

func asked(l Live) func(*Subject) {
	return func(s *Subject) {
		l.Name, l.At = s.Connection.Server, s.Now
		before := l
		l.Before = &before
		s.Live = &l
	}
}
