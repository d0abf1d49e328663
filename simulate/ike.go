package simulate

import (
	"bytes"
	"crypto/rand"
	"encoding/binary"
	"net/netip"
	"slices"

	"wardicon/core/suite"
	"wardicon/core/vpn"
	"wardicon/core/wire/ikev1"
	"wardicon/core/wire/ikev2"
	"wardicon/core/wire/isakmp"
)

// Addresses that a simulator with address translation sees in the place of the true ones.
var (
	seenElsewhere = netip.MustParseAddrPort("203.0.113.9:40000")
	ownElsewhere  = netip.MustParseAddrPort("10.1.2.3:500")
)

// wantedGroup is what a simulator insists on that wants one group: 256-bit random ECP (RFC 5903).
const wantedGroup = 19

// taken are the suites that the simulator takes.
func (g *Gateway) taken() []suite.Proposal {
	if g.has(FaultSuite) {
		return []suite.Proposal{{Encryption: "3des", Integrity: "sha1", Group: "modp1024"}}
	}
	return g.Suites
}

// ike answers both versions of IKE, with the marker of port 4500 or without.
func (g *Gateway) ike(packet []byte, from netip.AddrPort, answer reply) {
	marker := make([]byte, 4)
	rest, marked := bytes.CutPrefix(packet, marker)
	if marked {
		packet = rest
		plain := answer
		answer = func(b []byte) { plain(append(slices.Clone(marker), b...)) }
	}
	if g.associated(packet, marked, answer) {
		return
	}
	if m, err := ikev2.Decode(packet); err == nil && slices.Contains(g.Protocols, vpn.IKEv2) {
		g.ikev2(packet, m, from, answer)
		return
	}
	if m, err := ikev1.Decode(packet); err == nil && slices.Contains(g.Protocols, vpn.L2TP) {
		g.ikev1(m, from, answer)
	}
}

func newSPI() uint64 {
	var b [8]byte
	_, _ = rand.Read(b[:])
	return binary.BigEndian.Uint64(b[:]) | 1<<63
}

// seen are the addresses of the client and of the gateway as the simulator says them.
func (g *Gateway) seen(from netip.AddrPort, port int) (client, own netip.AddrPort) {
	if g.has(FaultNAT) {
		return seenElsewhere, ownElsewhere
	}
	return from, g.At(port)
}

func (g *Gateway) ikev2(raw []byte, question ikev2.Message, from netip.AddrPort, send reply) {
	if g.has(FaultNoise) {
		noise := ikev2.Message{
			InitiatorSPI: question.InitiatorSPI + 1,
			Exchange:     ikev2.SAInit,
			Response:     true,
		}
		if packet, err := noise.Encode(); err == nil {
			send(packet)
		}
	}
	answer := ikev2.Message{
		InitiatorSPI: question.InitiatorSPI,
		Exchange:     ikev2.SAInit,
		Response:     true,
		ID:           question.ID,
		Payloads:     g.chooseIKEv2(question, from),
	}
	sent := func([]byte) {}
	if _, chosen := answer.Find(ikev2.KindSA); chosen {
		answer.Payloads, answer.ResponderSPI, sent = g.associate(raw, question, answer.Payloads)
		client, own := g.seen(from, 500)
		other := netip.AddrPortFrom(own.Addr(), uint16(g.ports[4500]))
		if g.has(FaultNAT) {
			other = own
		}
		answer.Payloads = append(
			answer.Payloads,
			ikev2.Notify(
				ikev2.NATSource,
				ikev2.NATHash(answer.InitiatorSPI, answer.ResponderSPI, own),
			),
			ikev2.Notify(
				ikev2.NATSource,
				ikev2.NATHash(answer.InitiatorSPI, answer.ResponderSPI, other),
			),
			ikev2.Notify(
				ikev2.NATDestination,
				ikev2.NATHash(answer.InitiatorSPI, answer.ResponderSPI, client),
			),
			ikev2.Notify(ikev2.FragmentationSupported, nil),
		)
	}
	if packet, err := answer.Encode(); err == nil {
		sent(packet)
		send(packet)
	}
}

// chooseIKEv2 chooses the first suite that it takes among those that are offered.
func (g *Gateway) chooseIKEv2(question ikev2.Message, from netip.AddrPort) []isakmp.Payload {
	if g.has(FaultRedirect) {
		to := "harbour.example"
		return []isakmp.Payload{
			ikev2.Notify(ikev2.Redirect, append([]byte{3, byte(len(to))}, to...)),
		}
	}
	if g.has(FaultCookies) {
		want := ikev2.NATHash(question.InitiatorSPI, 0, from) // it remembers nothing
		notes, err := question.Notifications()
		if err != nil || len(notes) == 0 || notes[0].Type != ikev2.Cookie ||
			!slices.Equal(notes[0].Data, want) {
			return []isakmp.Payload{ikev2.Notify(ikev2.Cookie, want)}
		}
	}
	body, _ := question.Find(ikev2.KindSA)
	offered, err := ikev2.DecodeSA(body)
	if err != nil {
		return []isakmp.Payload{ikev2.Notify(ikev2.InvalidSyntax, nil)}
	}
	exchange, _ := question.Find(ikev2.KindKE)
	group, public, err := ikev2.DecodeKE(exchange)
	if err != nil {
		return []isakmp.Payload{ikev2.Notify(ikev2.InvalidSyntax, nil)}
	}
	if g.has(FaultGroup) && group != wantedGroup {
		return []isakmp.Payload{
			ikev2.Notify(ikev2.InvalidKE, binary.BigEndian.AppendUint16(nil, wantedGroup)),
		}
	}
	for _, s := range g.taken() {
		own, ok := ikev2.Offer(1, s.ForIKE())
		if !ok {
			continue
		}
		for _, p := range offered {
			if !covers(p, own) {
				continue
			}
			own.Number = p.Number
			if g.has(FaultChoice) {
				own.Transforms[len(own.Transforms)-1].ID++
			}
			return []isakmp.Payload{
				ikev2.SA(own),
				ikev2.KE(group, public),
				{Kind: ikev2.KindNonce, Body: make([]byte, 32)},
			}
		}
	}
	return []isakmp.Payload{ikev2.Notify(ikev2.NoProposalChosen, nil)}
}

// covers tells whether an offer has what a suite needs.
func covers(offer, own ikev2.Proposal) bool {
	for _, t := range own.Transforms {
		if !slices.Contains(offer.Transforms, t) {
			return false
		}
	}
	return true
}

// ikev1 answers the first exchange of main and aggressive mode, and the second one of main mode.
func (g *Gateway) ikev1(question ikev1.Message, from netip.AddrPort, send reply) {
	answer := ikev1.Message{
		InitiatorCookie: question.InitiatorCookie,
		ResponderCookie: question.ResponderCookie,
		Exchange:        question.Exchange,
	}
	if answer.ResponderCookie == 0 {
		answer.ResponderCookie = newSPI()
	}
	body, begins := question.Find(ikev1.KindSA)
	switch {
	case question.Exchange == ikev1.Aggressive && !g.has(FaultAggressive):
		return // as a gateway does that does not know that mode
	case begins:
		chosen, s := g.chooseIKEv1(body)
		if chosen == nil {
			answer.Exchange, answer.Payloads = ikev1.Informational, []isakmp.Payload{
				ikev1.Notify(ikev1.NoProposalChosen, nil),
			}
			break
		}
		answer.Payloads = []isakmp.Payload{
			ikev1.SA(chosen),
			{Kind: ikev1.KindVendor, Body: ikev1.VendorNATT},
			{Kind: ikev1.KindVendor, Body: ikev1.VendorFragmentation},
		}
		rest := g.begun(question, s, answer.ResponderCookie)
		if question.Exchange == ikev1.Aggressive {
			answer.Payloads = append(append(answer.Payloads, rest...),
				g.natd(answer, s.Integrity, from)...)
		}
	default:
		public, exchanged := question.Find(ikev1.KindKE)
		if !exchanged || g.has(FaultMidway) {
			return
		}
		hash := "sha256"
		if at, ok := question.Find(ikev1.KindNATD); ok && len(at) == 20 {
			hash = "sha1"
		}
		answer.Payloads = []isakmp.Payload{
			{Kind: ikev1.KindKE, Body: public},
			{Kind: ikev1.KindNonce, Body: make([]byte, 32)},
		}
		if p := g.peer(question.InitiatorCookie); p != nil {
			own, err := p.ike.Exchange(question)
			if err != nil {
				return
			}
			answer.Payloads = own
		}
		answer.Payloads = append(answer.Payloads, g.natd(answer, hash, from)...)
	}
	if packet, err := answer.Encode(); err == nil {
		send(packet)
	}
}

// begun begins an association where devices can sign in. Its payloads stand beside the choice in
// aggressive mode; where nobody can they are echoes and zeros.
func (g *Gateway) begun(
	question ikev1.Message,
	chosen suite.Proposal,
	cookie uint64,
) []isakmp.Payload {
	if g.Accounts != nil && !g.has(FaultChoice) {
		if list, err := g.meet(question, chosen, cookie); err == nil {
			return list
		}
	}
	exchange, _ := question.Find(ikev1.KindKE)
	return []isakmp.Payload{
		{Kind: ikev1.KindKE, Body: exchange},
		{Kind: ikev1.KindNonce, Body: make([]byte, 32)},
		ikev1.Identification(ikev1.IDName, []byte(g.introduced())),
		{Kind: ikev1.KindHash, Body: make([]byte, 32)},
	}
}

// natd says which addresses the simulator sees: the client's, then its own (RFC 3947 §3.2).
func (g *Gateway) natd(m ikev1.Message, hash string, from netip.AddrPort) (list []isakmp.Payload) {
	client, own := g.seen(from, 500)
	for _, at := range []netip.AddrPort{client, own,
		netip.AddrPortFrom(own.Addr(), uint16(g.ports[4500]))} {
		list = append(
			list,
			isakmp.Payload{
				Kind: ikev1.KindNATD,
				Body: ikev1.NATD(hash, m.InitiatorCookie, m.ResponderCookie, at),
			},
		)
	}
	return list
}

// proofs are the ways of proving an end that it takes: all, where it does not go on anyway.
func (g *Gateway) proofs() []uint16 {
	switch {
	case g.Accounts == nil:
		return []uint16{ikev1.AuthPSK, ikev1.AuthRSA}
	case g.KeyL2TP != "":
		return []uint16{ikev1.AuthPSK}
	}
	return []uint16{ikev1.AuthRSA, ikev1.AuthP256, ikev1.AuthP384}
}

// chooseIKEv1 chooses the first suite that it takes among those that are offered.
func (g *Gateway) chooseIKEv1(body []byte) (chosen ikev1.Transform, s suite.Proposal) {
	offered, err := ikev1.DecodeSA(body)
	if err != nil {
		return nil, s
	}
	for _, s := range g.taken() {
		for _, auth := range g.proofs() {
			own, ok := ikev1.Offer(s, auth)
			if !ok {
				continue
			}
			for _, t := range offered {
				if !t.Says(own) {
					continue
				}
				if g.has(FaultChoice) {
					own[ikev1.ClassGroup]++
				}
				return own, s
			}
		}
	}
	return nil, suite.Proposal{}
}
