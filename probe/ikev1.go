package probe

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"

	"wardicon/core/drift"
	"wardicon/core/suite"
	"wardicon/core/vpn"
	"wardicon/core/wire/ikev1"
	"wardicon/core/wire/isakmp"
)

// IKEv1Question is what a gateway is asked for by IKEv1.
type IKEv1Question struct {
	Marked      bool // as on port 4500
	Certificate bool // the machines prove themselves by certificates, not by a key
	Suites      []suite.Proposal
	Group       string // the identity that aggressive mode sends
}

func (q IKEv1Question) auth() uint16 {
	if q.Certificate {
		return ikev1.AuthRSA
	}
	return ikev1.AuthPSK
}

func newIKE() *drift.IKE {
	return &drift.IKE{
		Taken:    []string{},
		Refused:  []string{},
		Wanted:   []string{},
		Vendors:  []string{},
		Unprobed: []string{},
	}
}

// Main asks for one association after another in main mode, each with one suite. With the first
// that is taken it goes one exchange further, to the addresses that the gateway sees (RFC 3947
// §3.2).
func (p *Prober) Main(ctx context.Context, at netip.AddrPort, q IKEv1Question) drift.Answer {
	return p.ask(
		ctx,
		vpn.L2TP,
		drift.MethodMain,
		vpn.UDP,
		at,
		connected(func(ctx context.Context, a *asker, conn net.Conn) error {
			a.answer.IKE = newIKE()
			return a.each(
				q.Suites,
				func(s *suite.Proposal) (bool, error) { return a.beginMain(ctx, conn, q, *s) },
			)
		}),
	)
}

// probeIKEv1 sends a message and reads the answer to it.
func (a *asker) probeIKEv1(
	ctx context.Context,
	conn net.Conn,
	marked bool,
	question ikev1.Message,
) (answer ikev1.Message, err error) {
	packet, err := question.Encode()
	if err != nil {
		return answer, err
	}
	if marked {
		packet = append(slices.Clone(marker), packet...)
	}
	err = a.exchange(ctx, conn, packet, func(b []byte) bool {
		m, err := ikev1.Decode(unmarked(b))
		if err != nil || m.InitiatorCookie != question.InitiatorCookie ||
			m.Exchange != question.Exchange && m.Exchange != ikev1.Informational {
			return false
		}
		answer = m
		return true
	})
	return answer, err
}

func (a *asker) beginMain(
	ctx context.Context,
	conn net.Conn,
	q IKEv1Question,
	s suite.Proposal,
) (taken bool, err error) {
	offer, ok := ikev1.Offer(s, q.auth())
	if !ok {
		return false, errNotHere
	}
	cookie, err := newSPI()
	if err != nil {
		return false, err
	}
	answer, err := a.probeIKEv1(
		ctx,
		conn,
		q.Marked,
		ikev1.Message{
			InitiatorCookie: cookie,
			Exchange:        ikev1.Main,
			Payloads: []isakmp.Payload{
				ikev1.SA(
					offer,
				),
				{Kind: ikev1.KindVendor, Body: ikev1.VendorNATT},
				{Kind: ikev1.KindVendor, Body: ikev1.VendorDPD},
				{Kind: ikev1.KindVendor, Body: ikev1.VendorFragmentation},
			},
		},
	)
	if err != nil {
		return false, err
	}
	taken, translated, err := a.readIKEv1(answer, offer)
	if err != nil || !taken || !translated || a.answer.IKE.NATKnown {
		return taken, err
	}
	return true, a.seeNAT(ctx, conn, q, s, answer)
}

// readIKEv1 reads the choice of a gateway, and whether it can look for address translation.
func (a *asker) readIKEv1(
	m ikev1.Message,
	offer ikev1.Transform,
) (taken, translated bool, err error) {
	for _, p := range m.Payloads {
		if p.Kind != ikev1.KindVendor {
			continue
		}
		translated = translated || bytes.Equal(p.Body, ikev1.VendorNATT)
		a.answer.IKE.Fragmentation = a.answer.IKE.Fragmentation ||
			bytes.HasPrefix(p.Body, ikev1.VendorFragmentation)
		for known, name := range vendors {
			if bytes.HasPrefix(p.Body, []byte(known)) &&
				!slices.Contains(a.answer.IKE.Vendors, name) {
				a.answer.IKE.Vendors = append(a.answer.IKE.Vendors, name)
			}
		}
	}
	kind, refused, err := m.Notification()
	switch {
	case err != nil:
		return false, false, err
	case refused:
		if kind != ikev1.NoProposalChosen {
			a.answer.Note(fmt.Sprintf("answers with error %d", kind))
		}
		return false, false, nil
	case m.Encrypted:
		return false, false, errors.New("an encrypted answer to the first question")
	}
	body, ok := m.Find(ikev1.KindSA)
	if !ok {
		return false, false, errors.New("an answer without a choice and without an error")
	}
	chosen, err := ikev1.DecodeSA(body)
	if err != nil {
		return false, false, err
	}
	if len(chosen) != 1 || !chosen[0].Says(offer) {
		return false, false, errors.New("it chose what was not offered")
	}
	return true, translated, nil
}

// seeNAT goes on to the second exchange of main mode, in which both ends say which addresses they
// see.
func (a *asker) seeNAT(
	ctx context.Context,
	conn net.Conn,
	q IKEv1Question,
	s suite.Proposal,
	first ikev1.Message,
) error {
	group, _ := suite.Find(s.Group)
	public, nonce, err := exchanged(group)
	if err != nil {
		return err
	}
	local, _ := netip.ParseAddrPort(conn.LocalAddr().String())
	hash := func(at netip.AddrPort) []byte {
		return ikev1.NATD(s.Integrity, first.InitiatorCookie, first.ResponderCookie, at)
	}
	answer, err := a.probeIKEv1(
		ctx,
		conn,
		q.Marked,
		ikev1.Message{
			InitiatorCookie: first.InitiatorCookie,
			ResponderCookie: first.ResponderCookie,
			Exchange:        ikev1.Main,
			Payloads: []isakmp.Payload{
				{
					Kind: ikev1.KindKE,
					Body: public,
				},
				{Kind: ikev1.KindNonce, Body: nonce},
				{Kind: ikev1.KindNATD, Body: hash(a.at)},
				{Kind: ikev1.KindNATD, Body: hash(local)},
			},
		},
	)
	if errors.Is(err, errSilent) {
		a.answer.Note("it accepted a suite and then stopped responding")
		return nil
	}
	if err != nil {
		return err
	}
	a.compareNAT(answer, hash(a.at), hash(local))
	return nil
}

// compareNAT reads what the gateway sees: our address first, then its own (RFC 3947 §3.2).
func (a *asker) compareNAT(m ikev1.Message, gateway, here []byte) {
	var seen [][]byte
	for _, p := range m.Payloads {
		if p.Kind == ikev1.KindNATD {
			seen = append(seen, p.Body)
		}
	}
	if len(seen) < 2 {
		return
	}
	r := a.answer.IKE
	r.NATKnown = true
	r.HereBehindNAT = !bytes.Equal(seen[0], here)
	r.GatewayBehindNAT = !slices.ContainsFunc(
		seen[1:],
		func(b []byte) bool { return bytes.Equal(b, gateway) },
	)
}

// Aggressive asks for an association in aggressive mode with the first suite alone: a gateway that
// answers shows its identity, and a hash from which a pre-shared key can be guessed off line.
func (p *Prober) Aggressive(ctx context.Context, at netip.AddrPort, q IKEv1Question) drift.Answer {
	return p.ask(
		ctx,
		vpn.L2TP,
		drift.MethodAggressive,
		vpn.UDP,
		at,
		func(ctx context.Context, a *asker) error {
			if len(q.Suites) == 0 {
				return errors.New("no suite to probe")
			}
			conn, err := a.dial(ctx)
			if err != nil {
				return err
			}
			defer func() { _ = conn.Close() }()
			a.answer.IKE = newIKE()
			s := q.Suites[0]
			offer, ok := ikev1.Offer(s, q.auth())
			if !ok {
				return errNotHere
			}
			group, _ := suite.Find(s.Group)
			public, nonce, err := exchanged(group)
			if err != nil {
				return err
			}
			cookie, err := newSPI()
			if err != nil {
				return err
			}
			name := q.Group
			if name == "" {
				name = "anybody"
			}
			answer, err := a.probeIKEv1(
				ctx,
				conn,
				q.Marked,
				ikev1.Message{
					InitiatorCookie: cookie,
					Exchange:        ikev1.Aggressive,
					Payloads: []isakmp.Payload{
						ikev1.SA(
							offer,
						),
						{Kind: ikev1.KindKE, Body: public},
						{Kind: ikev1.KindNonce, Body: nonce},
						ikev1.Identification(ikev1.IDKey, []byte(name)),
						{Kind: ikev1.KindVendor, Body: ikev1.VendorNATT},
					},
				},
			)
			if err != nil {
				return err
			}
			taken, _, err := a.readIKEv1(answer, offer)
			if err != nil || !taken {
				a.answer.IKE.Refused = append(a.answer.IKE.Refused, s.String())
				return err
			}
			a.answer.IKE.Taken = append(a.answer.IKE.Taken, s.String())
			if body, ok := answer.Find(ikev1.KindIdentification); ok {
				if _, a.answer.IKE.Identity, err = ikev1.DecodeIdentification(body); err != nil {
					return err
				}
			}
			_, a.answer.IKE.HashShown = answer.Find(ikev1.KindHash)
			a.answer.IKE.HashShown = a.answer.IKE.HashShown && !q.Certificate
			local, _ := netip.ParseAddrPort(conn.LocalAddr().String())
			a.compareNAT(
				answer,
				ikev1.NATD(s.Integrity, answer.InitiatorCookie, answer.ResponderCookie, a.at),
				ikev1.NATD(s.Integrity, answer.InitiatorCookie, answer.ResponderCookie, local),
			)
			return nil
		},
	)
}
