package drift

import (
	"net/netip"
	"slices"
	"strings"

	"wardicon/core/suite"
	"wardicon/core/vpn"
	"wardicon/core/wire/tlstunnel"
)

// Ports on which protocols answer (RFC 7296 §2, RFC 3948 §2.2, RFC 2661 §8.1, RFC 2637 §1.3,
// MS-SSTP §2.1).
const (
	PortIKE  = 500
	PortNATT = 4500
	PortL2TP = 1701
	PortPPTP = 1723
	PortSSTP = 443
)

// Question is one thing that a gateway is asked for, at one address and port.
type Question struct {
	Method      string
	Transport   vpn.Transport
	At          netip.AddrPort
	Port        int              // on record, where At has another one
	Name        string           // that the certificate should have
	Suites      []suite.Proposal // on record: asked for first
	More        []suite.Proposal // asked for when everything else was
	Certificate bool             // the machines prove themselves by certificates
	Group       string           // identity that aggressive mode sends
	Wrapping    tlstunnel.Wrapping
	Untold      string // why it cannot be asked
}

// Protocol of a question.
func (q Question) Protocol() vpn.Protocol {
	return map[string]vpn.Protocol{
		MethodIKEv2:      vpn.IKEv2,
		MethodMain:       vpn.L2TP,
		MethodAggressive: vpn.L2TP,
		MethodBareL2TP:   vpn.L2TP,
		MethodPPTP:       vpn.PPTP,
		MethodSSTP:       vpn.SSTP,
		MethodTunnel:     vpn.TLS,
	}[q.Method]
}

// usual suites are asked for beside those on record: the weak ones that old devices still send
// first, then what many gateways take.
var usual = []string{
	"3des-sha1-modp1024",
	"aes256-sha1-modp1024",
	"aes256-sha256-modp2048",
	"aes256-sha256-ecp256",
	"aes128-sha256-modp2048",
	"aes256gcm16-prfsha384-ecp384",
}

// plainSuites are what a gateway without suites on record is asked for.
var plainSuites = []string{"aes256-sha256-modp2048", "aes256-sha1-modp2048"}

const mostSuites = 8

// suites reads those of a record, and the usual ones that it lacks.
func suites(record []string) (own, more []suite.Proposal) {
	if len(record) == 0 {
		record = plainSuites
	}
	for _, text := range record {
		if s, err := suite.Parse(
			text,
		); err == nil && s.Group != "" && !slices.ContainsFunc(own, s.Same) &&
			len(own) < mostSuites {
			own = append(own, s)
		}
	}
	for _, text := range usual {
		if s, err := suite.Parse(text); err == nil && !slices.ContainsFunc(own, s.Same) {
			more = append(more, s)
		}
	}
	return own, more
}

// Questions are what a gateway is asked for at some addresses: what its record offers, and what no
// gateway should answer. Names lead to the addresses of further remotes.
func Questions(
	g *vpn.Gateway,
	addresses []netip.Addr,
	names map[string][]netip.Addr,
) (list []Question) {
	for _, a := range addresses {
		list = append(list, plainQuestions(g, a)...)
	}
	if t := g.Offers.TLS; t != nil {
		list = append(list, tunnels(g, t, addresses, names)...)
	}
	for i := range list {
		q := &list[i]
		if q.Port = int(q.At.Port()); g.ProbeAt != nil {
			q.At = netip.AddrPortFrom(q.At.Addr(), uint16(g.ProbeAt.Moved(q.Port)))
		}
	}
	return list
}

// plainQuestions are the questions at one address, without the TLS tunnel.
func plainQuestions(g *vpn.Gateway, a netip.Addr) (list []Question) {
	at := func(port int) netip.AddrPort { return netip.AddrPortFrom(a, uint16(port)) }
	if o := g.Offers.IKEv2; o != nil {
		own, more := suites(o.IKE)
		list = append(
			list,
			Question{
				Method:    MethodIKEv2,
				Transport: vpn.UDP,
				At:        at(PortIKE),
				Suites:    own,
				More:      more,
			},
			Question{Method: MethodIKEv2, Transport: vpn.UDP, At: at(PortNATT), Suites: own[:1]},
		)
	}
	if o := g.Offers.L2TP; o != nil {
		own, more := suites(o.IKE)
		more = slices.DeleteFunc(
			more,
			func(s suite.Proposal) bool {
				return s.Integrity == "" ||
					strings.Contains(s.Encryption, "gcm")
			},
		) // which IKEv1 cannot say
		q := Question{
			Method:      MethodMain,
			Transport:   vpn.UDP,
			At:          at(PortIKE),
			Suites:      own,
			More:        more,
			Certificate: len(o.Auth) > 0 && o.Auth[0] == vpn.MachineCertificate,
			Group:       o.Group,
		}
		list = append(list, q)
		q.More = nil
		if q.Suites = own[:1]; g.Offers.IKEv2 == nil {
			marked := q
			marked.At = at(PortNATT)
			list = append(list, marked)
		}
		q.Method = MethodAggressive
		list = append(
			list,
			q,
			Question{Method: MethodBareL2TP, Transport: vpn.UDP, At: at(PortL2TP)},
		)
	}
	if g.Offers.PPTP != nil {
		list = append(list, Question{Method: MethodPPTP, Transport: vpn.TCP, At: at(PortPPTP)})
	}
	if o := g.Offers.SSTP; o != nil {
		port := o.Port
		if port == 0 {
			port = PortSSTP
		}
		list = append(
			list,
			Question{
				Method:    MethodSSTP,
				Transport: vpn.TCP,
				At:        at(port),
				Name:      first(o.ServerName, g.Address),
			},
		)
	}
	return list
}

// tunnels are the questions for the TLS tunnel, one for each remote and address.
func tunnels(
	g *vpn.Gateway,
	t *vpn.TLSOffer,
	addresses []netip.Addr,
	names map[string][]netip.Addr,
) (list []Question) {
	q := Question{Method: MethodTunnel, Name: first(t.ServerName, g.Address)}
	if k := t.ControlKey; k != nil {
		var err error
		if q.Wrapping, err = wrapping(k, t.Digest); err != nil {
			q.Untold = "the control-channel key cannot be used: " + err.Error()
		}
	}
	for _, r := range t.Remotes {
		at := addresses
		if r.Address != "" && r.Address != g.Address && g.ProbeAt == nil {
			at = names[r.Address]
		}
		for _, a := range at {
			q.At, q.Transport = netip.AddrPortFrom(a, uint16(r.Port)), r.Transport
			list = append(list, q)
		}
	}
	return list
}

func wrapping(k *vpn.ControlKey, digest string) (w tlstunnel.Wrapping, err error) {
	if k.Key == nil {
		return w, vpn.ErrNoKey
	}
	text, err := tlstunnel.ForClient(k.Kind, k.Key.Reveal(), "probe")
	if err != nil {
		return w, err
	}
	return tlstunnel.Wrap(k.Kind, text, k.Direction, digest)
}

func first(texts ...string) string {
	for _, t := range texts {
		if t != "" {
			return t
		}
	}
	return ""
}
