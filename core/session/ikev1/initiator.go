// Package ikev1 is the device's side of IKE version 1 up to ESP: main and aggressive mode with a
// pre-shared key or certificates, and quick mode, always as from behind a NAT (RFC 2409, RFC 2407,
// RFC 3947, RFC 3948). It opens no sockets: datagrams are sent and received by who has, and
// randomness is handed in.
package ikev1

import (
	"bytes"
	"crypto"
	"crypto/hmac"
	"crypto/x509"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net/netip"

	"wardicon/core/session/ipsec"
	"wardicon/core/suite"
	"wardicon/core/wire/ikev1"
	"wardicon/core/wire/isakmp"
)

// Options are what an initiator is told. Exactly one of PSK and Key proves the device.
type Options struct {
	IKE, ESP   []suite.Proposal
	Aggressive bool
	Local      ipsec.Identity
	Remote     *ipsec.Identity // nil takes any

	PSK   string
	Key   crypto.Signer
	Chain []*x509.Certificate // of the key, the device's own first

	Authorities []*x509.Certificate // that are asked for
	// Verify holds the gateway's certificates and its identity to what the device takes.
	Verify func(chain []*x509.Certificate, who ipsec.Identity) error

	// Own and Gateway are the addresses of both ends as this end has them.
	Own, Gateway netip.Addr
	// Protocol and Port are what is carried in transport mode; 0 is everything.
	Protocol uint8
	Port     uint16
	// Tunnel asks for tunnel mode in the place of transport mode.
	Tunnel bool
	Random io.Reader
	// Exchange sends datagrams, again if need be, until take has what answers them.
	Exchange func(datagrams [][]byte, take func([]byte) bool) error
}

// RefusedError is an error that the gateway notified (RFC 2408 §3.14.1).
type RefusedError struct {
	Kind  uint16
	Child bool // the first phase went well, and only the tunnel was refused
}

var refusals = map[uint16]string{
	4: "SITUATION-NOT-SUPPORTED", 7: "INVALID-EXCHANGE-TYPE", 14: "NO-PROPOSAL-CHOSEN",
	16: "PAYLOAD-MALFORMED", 17: "INVALID-KEY-INFORMATION", 18: "INVALID-ID-INFORMATION",
	20: "INVALID-CERTIFICATE", 22: "INVALID-CERT-AUTHORITY", 23: "INVALID-HASH-INFORMATION",
	24: "AUTHENTICATION-FAILED", 25: "INVALID-SIGNATURE",
}

// Name is the notification as the standard calls it.
func (e *RefusedError) Name() string {
	if name, ok := refusals[e.Kind]; ok {
		return name
	}
	return fmt.Sprintf("error %d", e.Kind)
}

func (e *RefusedError) Error() string { return "the gateway answers " + e.Name() }

// firstStatus is the first notification that is no error (RFC 2408 §3.14.1).
const firstStatus = 8192

// Session is one association with a gateway.
type Session struct {
	Options

	channel
	chosen    suite.Proposal
	auth      uint16
	half      ipsec.Half
	childID   []byte
	unsettled [][]byte // a message that nothing answers, sent again beside the next one

	// Suite is what the gateway chose for IKE.
	Suite string
	// Proof says how the gateway proved itself; Shown are its certificates.
	Proof string
	Shown []*x509.Certificate
	Who   ipsec.Identity
}

// Begin agrees on a suite and keys: the first four messages of main mode, or the first two of
// aggressive mode, by which the gateway proves itself as well (RFC 2409 §5.1, §5.4).
func (s *Session) Begin() error {
	b, err := numbers(s.Random, 8+32)
	if err != nil {
		return err
	}
	s.initiator, s.nonceI = binary.BigEndian.Uint64(b)|1<<63, b[8:]
	s.idI = s.Local.Body()
	s.auth = ikev1.AuthPSK
	if s.Key != nil {
		if s.auth, _, err = signature(s.Key.Public()); err != nil {
			return err
		}
	}
	var offers []ikev1.Transform
	for _, p := range s.IKE {
		// In aggressive mode the group cannot be chosen (RFC 2409 §5).
		if o, ok := ikev1.Offer(p, s.auth); ok && speaks(p) &&
			(!s.Aggressive || len(offers) == 0 ||
				offers[0][ikev1.ClassGroup] == o[ikev1.ClassGroup]) {
			offers = append(offers, o)
		}
	}
	if len(offers) == 0 {
		return ipsec.ErrSuite
	}
	sa := ikev1.SA(offers...)
	s.sa = sa.Body
	vendors := []isakmp.Payload{
		{
			Kind: ikev1.KindVendor,
			Body: ikev1.VendorNATT,
		}, {Kind: ikev1.KindVendor, Body: ikev1.VendorDPD},
	}
	if s.Aggressive {
		return s.aggressive(sa, offers[0], vendors)
	}
	answer, err := s.ask(ikev1.Main, ikev1.KindSA, append([]isakmp.Payload{sa}, vendors...)...)
	if err != nil {
		return err
	}
	if err := s.choice(answer); err != nil {
		return err
	}
	list := []isakmp.Payload{
		{Kind: ikev1.KindKE, Body: s.publicI}, {Kind: ikev1.KindNonce, Body: s.nonceI},
	}
	answer, err = s.ask(ikev1.Main, ikev1.KindKE, append(list, s.behindNAT()...)...)
	if err != nil {
		return err
	}
	return s.agreed(answer)
}

// ask sends payloads in clear, and waits for an answer that has a payload of a kind.
func (s *Session) ask(
	exchange ikev1.Exchange,
	kind uint8,
	payloads ...isakmp.Payload,
) (answer ikev1.Message, err error) {
	b, err := ikev1.Message{
		InitiatorCookie: s.initiator, ResponderCookie: s.responder, Exchange: exchange,
		Payloads: payloads,
	}.Encode()
	if err != nil {
		return answer, err
	}
	var refused error
	err = s.Exchange([][]byte{b}, func(b []byte) bool {
		m, err := ikev1.Decode(b)
		if err != nil || m.InitiatorCookie != s.initiator || m.Encrypted ||
			s.responder != 0 && m.ResponderCookie != s.responder {
			return false
		}
		if m.Exchange == ikev1.Informational {
			refused = notified(m.Payloads, false)
			return refused != nil
		}
		_, has := m.Find(kind)
		answer = m
		return has && m.Exchange == exchange && m.ResponderCookie != 0
	})
	if err == nil {
		err = refused
	}
	return answer, err
}

// notified is the error in payloads, nil where there is none.
func notified(list []isakmp.Payload, child bool) error {
	for _, p := range list {
		if p.Kind != ikev1.KindNotify {
			continue
		}
		kind, ok, err := ikev1.Message{Payloads: []isakmp.Payload{p}}.Notification()
		if err == nil && ok && kind < firstStatus {
			return &RefusedError{Kind: kind, Child: child}
		}
	}
	return nil
}

// choice reads which suite the gateway chose, and begins the key exchange.
func (s *Session) choice(m ikev1.Message) error {
	body, _ := m.Find(ikev1.KindSA)
	list, err := ikev1.DecodeSA(body)
	if err != nil {
		return err
	}
	if len(list) != 1 {
		return fmt.Errorf("the gateway chose %d suites, expected one", len(list))
	}
	ok := false
	if s.chosen, ok = suiteOf(list[0], s.IKE, s.auth); !ok {
		return errors.New("the gateway chose what was not offered")
	}
	s.responder = m.ResponderCookie
	s.Suite = s.chosen.String()
	if s.publicI != nil {
		return nil
	}
	return s.exchange(s.chosen.Group)
}

func (s *Session) exchange(group string) (err error) {
	g, _ := suite.Find(group)
	s.half, err = ipsec.NewHalf(g, s.Random)
	s.publicI = s.half.Public
	return err
}

// behindNAT says addresses that nobody has: so the gateway sees a NAT, and ESP goes by UDP
// (RFC 3947 §3.2).
func (s *Session) behindNAT() []isakmp.Payload {
	size := ipsec.Digests[s.chosen.Integrity].Make().Size()
	return []isakmp.Payload{
		{Kind: ikev1.KindNATD, Body: make([]byte, size)},
		{Kind: ikev1.KindNATD, Body: make([]byte, size)},
	}
}

// agreed derives the keys from the gateway's half.
func (s *Session) agreed(m ikev1.Message) error {
	ke, _ := m.Find(ikev1.KindKE)
	nonce, ok := m.Find(ikev1.KindNonce)
	if !ok || len(nonce) < 8 || len(nonce) > 256 {
		return fmt.Errorf("the gateway sends a nonce of %d bytes, expected 8 to 256", len(nonce))
	}
	secret, err := s.half.Agree(ke)
	if err != nil {
		return err
	}
	s.publicR, s.nonceR = bytes.Clone(ke), bytes.Clone(nonce)
	return s.derive(s.chosen, s.PSK, secret)
}

// aggressive makes the first two messages of aggressive mode (RFC 2409 §5.4).
func (s *Session) aggressive(
	sa isakmp.Payload,
	first ikev1.Transform,
	vendors []isakmp.Payload,
) error {
	p, _ := suiteOf(first, s.IKE, s.auth)
	if err := s.exchange(p.Group); err != nil {
		return err
	}
	list := append([]isakmp.Payload{
		sa, {Kind: ikev1.KindKE, Body: s.publicI}, {Kind: ikev1.KindNonce, Body: s.nonceI},
		{Kind: ikev1.KindIdentification, Body: s.idI},
	}, vendors...)
	answer, err := s.ask(ikev1.Aggressive, ikev1.KindSA, list...)
	if err != nil {
		return err
	}
	if err := s.choice(answer); err != nil {
		return err
	}
	if err := s.agreed(answer); err != nil {
		return err
	}
	if err := s.proven(answer.Payloads); err != nil {
		return err
	}
	out, err := s.proofs(s.behindNAT())
	if err != nil {
		return err
	}
	b, next, err := s.wrap(ikev1.Aggressive, 0, s.chain, out...)
	s.chain, s.unsettled = next, [][]byte{b}
	return err
}

// proofs are what the device proves itself with, behind what stands before.
func (s *Session) proofs(before []isakmp.Payload) ([]isakmp.Payload, error) {
	if s.Key == nil {
		return append(before, isakmp.Payload{Kind: ikev1.KindHash, Body: s.proof(false)}), nil
	}
	signed, err := sign(s.Key, s.proof(false), s.Random)
	if err != nil {
		return nil, err
	}
	list := append(before, certificates(s.Chain)...)
	list = append(list, isakmp.Payload{Kind: ikev1.KindSignature, Body: signed})
	for _, c := range s.Authorities {
		list = append(list, isakmp.Payload{
			Kind: ikev1.KindCertRequest, Body: append([]byte{certX509}, c.RawSubject...),
		})
	}
	if len(s.Authorities) == 0 {
		list = append(list, isakmp.Payload{Kind: ikev1.KindCertRequest, Body: []byte{certX509}})
	}
	return list, nil
}

// Prove proves both ends: the last two messages of main mode. In aggressive mode there is nothing
// left to wait for.
func (s *Session) Prove() error {
	if s.Aggressive {
		return nil
	}
	out, err := s.proofs([]isakmp.Payload{{Kind: ikev1.KindIdentification, Body: s.idI}})
	if err != nil {
		return err
	}
	b, next, err := s.wrap(ikev1.Main, 0, s.chain, out...)
	if err != nil {
		return err
	}
	s.chain = next
	var list []isakmp.Payload
	var refused error
	unreadable := false
	err = s.Exchange([][]byte{b}, func(b []byte) bool {
		h, err := isakmp.DecodeHeader(b)
		if err != nil || h.Major != 1 || h.InitiatorSPI != s.initiator ||
			h.ResponderSPI != s.responder {
			return false
		}
		if h.Exchange == uint8(ikev1.Informational) {
			refused = s.informed(b, h, false)
			unreadable = unreadable || errors.Is(refused, errUnreadable)
			return refused != nil && !errors.Is(refused, errUnreadable)
		}
		if h.Exchange != uint8(ikev1.Main) || h.Flags&ikev1.FlagEncrypted == 0 {
			return false
		}
		got, _, next, err := s.unwrap(b, s.chain)
		if err != nil {
			unreadable = true
			return false
		}
		if _, ok := isakmp.Find(got, ikev1.KindIdentification); !ok {
			return false
		}
		list, s.chain = got, next
		return true
	})
	switch {
	case err != nil && unreadable && s.PSK != "":
		return fmt.Errorf("%w: its messages do not decrypt", ErrKey)
	case err != nil && s.PSK != "":
		return fmt.Errorf("%w: %w", ErrKey, err)
	case err != nil:
		return err
	case list == nil:
		return refused
	}
	return s.proven(list)
}

// informed reads a notification, in clear or encrypted.
func (s *Session) informed(b []byte, h isakmp.Header, child bool) error {
	if h.Flags&ikev1.FlagEncrypted == 0 {
		m, err := ikev1.Decode(b)
		if err != nil {
			return nil
		}
		return notified(m.Payloads, child)
	}
	list, raw, _, err := s.unwrap(b, s.begins(h.ID))
	if err != nil {
		return err
	}
	proof, rest, err := split(list, raw)
	if err != nil || !hmac.Equal(proof, s.second(h.ID, rest)) {
		return errUnreadable
	}
	return notified(list, child)
}

// proven holds the gateway's identity, certificates and proof to what the device expects.
func (s *Session) proven(list []isakmp.Payload) error {
	body, _ := isakmp.Find(list, ikev1.KindIdentification)
	who, err := ipsec.DecodeIdentity(body)
	if err != nil {
		return err
	}
	s.Who, s.idR = who, bytes.Clone(body)
	if s.PSK != "" {
		proof, _ := isakmp.Find(list, ikev1.KindHash)
		if !hmac.Equal(proof, s.proof(true)) {
			return ErrProof
		}
		s.Proof = "the pre-shared key"
		return s.Remote.Demand(s.Who)
	}
	if s.Shown, err = shown(list); err != nil {
		return err
	}
	if len(s.Shown) == 0 {
		return errors.New("the gateway shows no certificate")
	}
	signed, _ := isakmp.Find(list, ikev1.KindSignature)
	if s.Proof, err = verify(s.Shown[0].PublicKey, s.proof(true), signed); err != nil {
		return err
	}
	if err := s.Remote.Demand(s.Who); err != nil {
		return err
	}
	return s.Verify(s.Shown, who)
}
