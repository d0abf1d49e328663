package ikev2

import (
	"bytes"
	"crypto/x509"
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"strings"

	"wardicon/core/session/eap"
	"wardicon/core/session/ipsec"
	"wardicon/core/suite"
	"wardicon/core/wire/ikev2"
	"wardicon/core/wire/isakmp"
)

// Phase is how far a sign-in has come.
type Phase int

// The phases, each reported when it is over.
const (
	GatewayProven Phase = iota
	SignedIn
)

// Inside is what the gateway gave the device.
type Inside struct {
	Addresses []netip.Addr
	DNS       []netip.Addr
	Domains   []string
	// Selectors are the networks behind the gateway (RFC 7296 §3.13).
	Selectors []Range
	Child     *ipsec.Child
}

// Range is a range of addresses of one family.
type Range struct{ From, To netip.Addr }

// String writes both ends.
func (r Range) String() string { return r.From.String() + " - " + r.To.String() }

// Covers tells whether a network lies within.
func (r Range) Covers(p netip.Prefix) bool {
	last := p.Addr().AsSlice()
	for bit := p.Bits(); bit < len(last)*8; bit++ {
		last[bit/8] |= 0x80 >> (bit % 8)
	}
	end, _ := netip.AddrFromSlice(last)
	return r.From.BitLen() == p.Addr().BitLen() && r.From.Compare(p.Masked().Addr()) <= 0 &&
		end.Compare(r.To) <= 0
}

// SignIn proves both ends, and asks for an address and a tunnel (RFC 7296 §1.2, §2.16, §2.19).
func (s *Session) SignIn(reached func(Phase)) (in Inside, err error) {
	mine := s.octets(s.request, s.its, s.keyPi, s.Local.Body())
	list := []isakmp.Payload{{Kind: ikev2.KindIDi, Body: s.Local.Body()}}
	for _, c := range s.Chain {
		list = append(list, isakmp.Payload{
			Kind: ikev2.KindCert, Body: append([]byte{certX509}, c.Raw...),
		})
	}
	// Without INITIAL_CONTACT: a device that is connected with the same identity is to stay so
	// (RFC 7296 §2.4).
	if len(s.Authorities) > 0 {
		list = append(list, isakmp.Payload{Kind: ikev2.KindCertReq, Body: requested(s.Authorities)})
	}
	if s.Remote != nil {
		list = append(list, isakmp.Payload{Kind: ikev2.KindIDr, Body: s.Remote.Body()})
	}
	switch {
	case s.PSK != "":
		list = append(list, isakmp.Payload{
			Kind: ikev2.KindAuth,
			Body: append([]byte{authShared, 0, 0, 0}, shared(s.prf, []byte(s.PSK), mine)...),
		})
	case s.Key != nil:
		proof, err := sign(s.Key, mine, s.hashes, s.Random)
		if err != nil {
			return in, err
		}
		list = append(list, isakmp.Payload{Kind: ikev2.KindAuth, Body: proof})
	}
	child, err := s.child()
	if err != nil {
		return in, err
	}
	if s.EAPOnly {
		list = append(list, ikev2.Notify(ikev2.EAPOnly, nil))
	}
	answer, err := s.send(ikev2.Auth, append(list, child...)...)
	if err != nil {
		return in, err
	}
	byEAP, err := s.proveGateway(answer)
	if err != nil {
		return in, err
	}
	if !byEAP {
		reached(GatewayProven)
	}
	if s.EAP != nil {
		if answer, err = s.byEAP(answer, mine); err != nil {
			return in, err
		}
	}
	if byEAP {
		reached(GatewayProven)
	}
	if err := refused(answer, false); err != nil {
		return in, err
	}
	reached(SignedIn)
	return s.given(answer)
}

// child asks for an address of each family and for a tunnel to everywhere.
func (s *Session) child() ([]isakmp.Payload, error) {
	var offers []ikev2.Proposal
	for _, p := range s.Child {
		p.Group = "" // there is no key exchange of its own in the first one
		o, ok := ikev2.OfferChild(uint8(len(offers)+1), s.childSPI, p)
		if !ok {
			continue
		}
		if _, err := methodOf(o); err == nil {
			offers = append(offers, o)
		}
	}
	if len(offers) == 0 {
		return nil, ipsec.ErrSuite
	}
	everywhere := append([]byte{2, 0, 0, 0}, 7, 0, 0, 16, 0, 0, 0xFF, 0xFF)
	everywhere = append(everywhere, 0, 0, 0, 0, 0xFF, 0xFF, 0xFF, 0xFF)
	everywhere = append(everywhere, 8, 0, 0, 40, 0, 0, 0xFF, 0xFF)
	everywhere = append(everywhere, make([]byte, 16)...)
	everywhere = append(everywhere, bytes.Repeat([]byte{0xFF}, 16)...)
	config := []byte{1, 0, 0, 0} // CFG_REQUEST
	for _, kind := range []uint16{ip4Address, ip4DNS, ip6Address, ip6DNS, domain} {
		config = binary.BigEndian.AppendUint16(config, kind)
		config = append(config, 0, 0)
	}
	list := []isakmp.Payload{
		{Kind: ikev2.KindConfig, Body: config},
		ikev2.SA(offers...),
		{Kind: ikev2.KindTSi, Body: everywhere},
		{Kind: ikev2.KindTSr, Body: everywhere},
	}
	if s.MOBIKE {
		list = append(list, ikev2.Notify(ikev2.MOBIKESupported, nil))
	}
	return list, nil
}

// refused finds the error in an answer. Errors about the tunnel come beside a proof.
func refused(list []isakmp.Payload, child bool) error {
	notes, err := ikev2.Message{Payloads: list}.Notifications()
	if err != nil {
		return err
	}
	_, proven := isakmp.Find(list, ikev2.KindAuth)
	for _, n := range notes {
		if n.Type < ikev2.InitialContact && (child || !proven) {
			return &RefusedError{Kind: n.Type, Child: child && proven}
		}
	}
	return nil
}

// proveGateway holds the gateway's identity, certificates and proof to what the device expects.
// byEAP tells that it leaves the proof to EAP, which both ends are proven by (RFC 5998 §3): there
// has to be a method by which the gateway is.
func (s *Session) proveGateway(list []isakmp.Payload) (byEAP bool, err error) {
	if err := refused(list, false); err != nil {
		return false, err
	}
	body, _ := isakmp.Find(list, ikev2.KindIDr)
	if s.Who, err = ipsec.DecodeIdentity(body); err != nil {
		return false, err
	}
	auth, proven := isakmp.Find(list, ikev2.KindAuth)
	if proven {
		return false, s.proved(list, s.octets(s.response, s.own, s.keyPr, body), auth)
	}
	if s.EAPOnly && s.EAP != nil && s.EAP.Method.Type() == eap.TypeTLS {
		s.Proof = "its certificate, by EAP-TLS"
		return true, s.Remote.Demand(s.Who)
	}
	return false, errors.New("the gateway does not prove itself before the device signs in")
}

// proved holds a proof and what it is made with to what the device expects.
func (s *Session) proved(list []isakmp.Payload, theirs, auth []byte) (err error) {
	if s.PSK != "" {
		if err := sharedProof(s.prf, []byte(s.PSK), theirs, auth); err != nil {
			return err
		}
		s.Proof = "the pre-shared key"
		return s.Remote.Demand(s.Who)
	}
	for _, p := range list {
		if p.Kind != ikev2.KindCert || len(p.Body) < 2 || p.Body[0] != certX509 {
			continue
		}
		c, err := x509.ParseCertificate(p.Body[1:])
		if err != nil {
			return fmt.Errorf("a certificate of the gateway cannot be read: %w", err)
		}
		s.Shown = append(s.Shown, c)
	}
	if len(s.Shown) == 0 {
		return errors.New("the gateway shows no certificate")
	}
	if s.Proof, err = verify(s.Shown[0].PublicKey, auth, theirs); err != nil {
		return err
	}
	if err := s.Remote.Demand(s.Who); err != nil {
		return err
	}
	return s.Verify(s.Shown, s.Who)
}

// byEAP signs in by EAP, and proves both ends by the key that comes out of it (RFC 7296 §2.16).
func (s *Session) byEAP(answer []isakmp.Payload, mine []byte) ([]isakmp.Payload, error) {
	for {
		body, ok := isakmp.Find(answer, ikev2.KindEAP)
		if !ok {
			if err := refused(answer, false); err != nil {
				return nil, err
			}
			return nil, errors.New("the gateway does not ask for a sign-in by EAP")
		}
		out, done, err := s.EAP.Handle(body)
		if err != nil {
			return nil, err
		}
		if done {
			break
		}
		answer, err = s.send(ikev2.Auth, isakmp.Payload{Kind: ikev2.KindEAP, Body: out})
		if err != nil {
			return nil, err
		}
	}
	msk := s.EAP.Method.MSK()
	answer, err := s.send(ikev2.Auth, isakmp.Payload{
		Kind: ikev2.KindAuth,
		Body: append([]byte{authShared, 0, 0, 0}, shared(s.prf, msk, mine)...),
	})
	if err != nil {
		return nil, err
	}
	if err := refused(answer, false); err != nil {
		return nil, err
	}
	auth, _ := isakmp.Find(answer, ikev2.KindAuth)
	theirs := s.octets(s.response, s.own, s.keyPr, s.Who.Body())
	if err := sharedProof(s.prf, msk, theirs, auth); err != nil {
		return nil, err
	}
	return answer, nil
}

// Attributes of a configuration (RFC 7296 §3.15.1, RFC 8598 §4).
const (
	ip4Address = 1
	ip4DNS     = 3
	ip6Address = 8
	ip6DNS     = 10
	domain     = 25
)

// given reads what the gateway gave, and makes the keys of the tunnel (RFC 7296 §2.17).
func (s *Session) given(list []isakmp.Payload) (in Inside, err error) {
	if err := refused(list, true); err != nil {
		return in, err
	}
	config, _ := isakmp.Find(list, ikev2.KindConfig)
	if err := in.configure(config); err != nil {
		return in, err
	}
	selectors, _ := isakmp.Find(list, ikev2.KindTSr)
	if in.Selectors, err = readSelectors(selectors); err != nil {
		return in, err
	}
	sa, _ := isakmp.Find(list, ikev2.KindSA)
	chosen, err := ikev2.DecodeSA(sa)
	if err != nil {
		return in, err
	}
	if len(chosen) != 1 || len(chosen[0].SPI) != 4 {
		return in, errors.New("the gateway chose no tunnel")
	}
	how, err := methodOf(chosen[0])
	if err != nil {
		return in, err
	}
	out, back, err := s.childBoxes(how, append(append([]byte{}, s.own...), s.its...))
	if err != nil {
		return in, err
	}
	in.Child = ipsec.NewChild(out, back, binary.BigEndian.Uint32(chosen[0].SPI),
		binary.BigEndian.Uint32(s.childSPI),
		strings.Join(named(chosen[0], how, suite.Algorithm{}), "-"), false)
	return in, nil
}

// configure reads a configuration payload.
func (in *Inside) configure(b []byte) error {
	if len(b) == 0 {
		return nil
	}
	if len(b) < 4 {
		return fmt.Errorf("a configuration of %d bytes", len(b))
	}
	for b = b[4:]; len(b) > 0; {
		if len(b) < 4 || len(b) < 4+int(binary.BigEndian.Uint16(b[2:])) {
			return errors.New("an attribute of the configuration is cut short")
		}
		kind, value := binary.BigEndian.Uint16(b)&0x7FFF, b[4:4+binary.BigEndian.Uint16(b[2:])]
		b = b[4+len(value):]
		if kind == ip6Address && len(value) == 17 { // with the length of its prefix
			value = value[:16]
		}
		a, isAddress := netip.AddrFromSlice(value)
		switch {
		case isAddress && (kind == ip4Address || kind == ip6Address):
			in.Addresses = append(in.Addresses, a)
		case isAddress && (kind == ip4DNS || kind == ip6DNS):
			in.DNS = append(in.DNS, a)
		case kind == domain && len(value) > 0:
			in.Domains = append(in.Domains, string(value))
		}
	}
	return nil
}

// readSelectors reads traffic selectors.
func readSelectors(b []byte) (list []Range, err error) {
	if len(b) < 4 {
		return nil, errors.New("the gateway names no networks")
	}
	for b = b[4:]; len(b) > 0; {
		if len(b) < 8 || int(binary.BigEndian.Uint16(b[2:])) > len(b) ||
			binary.BigEndian.Uint16(b[2:]) < 8 {
			return nil, errors.New("a traffic selector is cut short")
		}
		one := b[8:binary.BigEndian.Uint16(b[2:])]
		b = b[binary.BigEndian.Uint16(b[2:]):]
		from, ok1 := netip.AddrFromSlice(one[:len(one)/2])
		to, ok2 := netip.AddrFromSlice(one[len(one)/2:])
		if !ok1 || !ok2 {
			return nil, errors.New("a traffic selector of another family")
		}
		list = append(list, Range{from, to})
	}
	return list, nil
}

// End tells the gateway that the association is over (RFC 7296 §1.4.1).
func (s *Session) End() error {
	_, err := s.send(ikev2.Informational, isakmp.Payload{
		Kind: ikev2.KindDelete, Body: []byte{ikev2.ProtocolIKE, 0, 0, 0},
	})
	return err
}
