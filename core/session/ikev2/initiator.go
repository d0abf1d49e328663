// Package ikev2 is the device's side of IKEv2 to the end: key exchange, proof of both sides,
// address and ESP (RFC 7296, RFC 7383, RFC 7427, RFC 4303). It opens no sockets: datagrams are sent
// and received by who has, and randomness is handed in.
package ikev2

import (
	"crypto"
	"crypto/x509"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"

	"wardicon/core/session/eap"
	"wardicon/core/session/ipsec"
	"wardicon/core/suite"
	"wardicon/core/wire/ikev2"
	"wardicon/core/wire/isakmp"
)

// Options are what an initiator is told. Exactly one of PSK, Key and EAP proves the device.
type Options struct {
	IKE, Child []suite.Proposal
	Local      ipsec.Identity
	Remote     *ipsec.Identity // nil takes any

	PSK   string
	Key   crypto.Signer
	Chain []*x509.Certificate // of the key, the device's own first
	EAP   *eap.Conversation

	Authorities []*x509.Certificate // that are asked for
	// Verify holds the gateway's certificates and its identity to what the device takes.
	Verify func(chain []*x509.Certificate, who ipsec.Identity) error

	Fragment bool // messages may come and go in pieces (RFC 7383)
	MOBIKE   bool // the device may change its address (RFC 4555)
	EAPOnly  bool // the gateway may prove itself by EAP alone (RFC 5998)
	Random   io.Reader
	// Exchange sends datagrams, again if need be, until take has what answers them.
	Exchange func(datagrams [][]byte, take func([]byte) bool) error
}

// RefusedError is an error that the gateway notified (RFC 7296 §3.10.1).
type RefusedError struct {
	Kind  uint16
	Child bool // the sign-in went well, and only the tunnel was refused
}

var refusals = map[uint16]string{
	ikev2.InvalidSyntax:         "INVALID_SYNTAX",
	ikev2.NoProposalChosen:      "NO_PROPOSAL_CHOSEN",
	ikev2.InvalidKE:             "INVALID_KE_PAYLOAD",
	ikev2.AuthenticationFailed:  "AUTHENTICATION_FAILED",
	ikev2.AddressFailure:        "INTERNAL_ADDRESS_FAILURE",
	ikev2.ConfigRequired:        "FAILED_CP_REQUIRED",
	ikev2.SelectorsUnacceptable: "TS_UNACCEPTABLE",
}

// Name is the notification as the standard calls it.
func (e *RefusedError) Name() string {
	if name, ok := refusals[e.Kind]; ok {
		return name
	}
	return fmt.Sprintf("error %d", e.Kind)
}

func (e *RefusedError) Error() string { return "the gateway answers " + e.Name() }

// RedirectedError says where the gateway sends its clients (RFC 5685). Nobody follows it here.
type RedirectedError struct{ To string }

func (e *RedirectedError) Error() string { return "the gateway redirects to " + e.To }

// Session is one association with a gateway.
type Session struct {
	Options

	channel
	request, response []byte // the first messages, as they were sent
	own, its          []byte // nonces
	hashes            []crypto.Hash
	fragment          bool
	id                uint32
	childSPI          []byte

	// Suite is what the gateway chose for IKE.
	Suite string
	// Proof says how the gateway proved itself; Shown are its certificates.
	Proof string
	Shown []*x509.Certificate
	Who   ipsec.Identity
	// Cookie tells that the gateway wanted one.
	Cookie bool
}

const mostCookies = 3

// Begin makes the exchange that agrees on keys (RFC 7296 §1.2).
func (s *Session) Begin() error {
	b := make([]byte, 8+32+4)
	if _, err := io.ReadFull(s.Random, b); err != nil {
		return err
	}
	s.initiator = binary.BigEndian.Uint64(b) | 1<<63
	s.own, s.childSPI = b[8:40], b[40:]
	s.childSPI[0] |= 1 // none of the reserved ones
	offers, groups, err := s.offers()
	if err != nil {
		return err
	}
	group := groups[0]
	var cookie []byte
	for range mostCookies + len(groups) {
		h, err := ipsec.NewHalf(group, s.Random)
		if err != nil {
			return err
		}
		answer, err := s.ask(offers, group, h, cookie)
		if err != nil {
			return err
		}
		notes, err := answer.Notifications()
		if err != nil {
			return err
		}
		if n := find(notes, ikev2.Cookie); n != nil {
			cookie, s.Cookie = n.Data, true
			continue
		}
		if n := find(notes, ikev2.InvalidKE); n != nil && len(n.Data) == 2 {
			i := indexGroup(groups, int(binary.BigEndian.Uint16(n.Data)))
			if i < 0 || groups[i].Number == group.Number {
				return &RefusedError{Kind: ikev2.InvalidKE}
			}
			group = groups[i]
			continue
		}
		return s.agreed(answer, notes, group, h)
	}
	return errors.New("the gateway keeps asking for another cookie or group")
}

func indexGroup(list []suite.Algorithm, number int) int {
	for i, g := range list {
		if g.Number == number {
			return i
		}
	}
	return -1
}

// offers are the proposals, and the groups that they name.
func (s *Session) offers() (list []ikev2.Proposal, groups []suite.Algorithm, err error) {
	for _, p := range s.IKE {
		o, ok := ikev2.Offer(uint8(len(list)+1), p)
		if !ok {
			continue
		}
		if _, err := methodOf(o); err != nil {
			continue
		}
		g, _ := suite.Find(p.Group)
		if !ipsec.Agrees(g) {
			continue
		}
		list = append(list, o)
		if indexGroup(groups, g.Number) < 0 {
			groups = append(groups, g)
		}
	}
	if len(list) == 0 {
		return nil, nil, ipsec.ErrSuite
	}
	return list, groups, nil
}

func find(notes []ikev2.Notification, kind uint16) *ikev2.Notification {
	for i := range notes {
		if notes[i].Type == kind {
			return &notes[i]
		}
	}
	return nil
}

func (s *Session) ask(
	offers []ikev2.Proposal,
	group suite.Algorithm,
	h ipsec.Half,
	cookie []byte,
) (answer ikev2.Message, err error) {
	m := ikev2.Message{InitiatorSPI: s.initiator, Exchange: ikev2.SAInit, Initiator: true}
	if cookie != nil {
		m.Payloads = append(m.Payloads, ikev2.Notify(ikev2.Cookie, cookie))
	}
	// Hashes of no address make the gateway see a NAT, so that ESP goes by UDP (RFC 7296 §2.23).
	m.Payloads = append(m.Payloads, ikev2.SA(offers...),
		ikev2.KE(uint16(group.Number), h.Public),
		isakmp.Payload{Kind: ikev2.KindNonce, Body: s.own},
		ikev2.Notify(ikev2.NATSource, make([]byte, 20)),
		ikev2.Notify(ikev2.NATDestination, make([]byte, 20)),
		ikev2.Notify(ikev2.SignatureHashes, announced()),
		ikev2.Notify(ikev2.RedirectSupported, nil))
	if s.Fragment {
		m.Payloads = append(m.Payloads, ikev2.Notify(ikev2.FragmentationSupported, nil))
	}
	if s.request, err = m.Encode(); err != nil {
		return answer, err
	}
	err = s.Exchange([][]byte{s.request}, func(b []byte) bool {
		got, err := ikev2.Decode(b)
		if err != nil || got.InitiatorSPI != s.initiator || !got.Response ||
			got.Exchange != ikev2.SAInit {
			return false
		}
		answer, s.response = got, b
		return true
	})
	return answer, err
}

// agreed derives the keys of an association (RFC 7296 §2.14).
func (s *Session) agreed(
	m ikev2.Message,
	notes []ikev2.Notification,
	group suite.Algorithm,
	h ipsec.Half,
) error {
	if n := find(notes, ikev2.Redirect); n != nil {
		to, err := ikev2.RedirectedTo(n.Data)
		if err != nil {
			return err
		}
		return &RedirectedError{to}
	}
	for _, n := range notes {
		if n.Type < ikev2.InitialContact {
			return &RefusedError{Kind: n.Type}
		}
	}
	sa, ok1 := m.Find(ikev2.KindSA)
	ke, ok2 := m.Find(ikev2.KindKE)
	nonce, ok3 := m.Find(ikev2.KindNonce)
	if !ok1 || !ok2 || !ok3 || len(nonce) < 16 || len(nonce) > 256 || m.ResponderSPI == 0 {
		return errors.New("the gateway answers without a choice and without an error")
	}
	chosen, err := ikev2.DecodeSA(sa)
	if err != nil {
		return err
	}
	if len(chosen) != 1 || chosen[0].ID(ikev2.Group) != group.Number {
		return errors.New("the gateway chose what was not offered")
	}
	_, public, err := ikev2.DecodeKE(ke)
	if err != nil {
		return err
	}
	secret, err := h.Agree(public)
	if err != nil {
		return err
	}
	how, err := methodOf(chosen[0])
	if err != nil {
		return err
	}
	if err := s.function(chosen[0]); err != nil {
		return err
	}
	s.Suite = strings.Join(named(chosen[0], how, group), "-")
	s.responder, s.its = m.ResponderSPI, nonce
	s.fragment = s.Fragment && find(notes, ikev2.FragmentationSupported) != nil
	if n := find(notes, ikev2.SignatureHashes); n != nil {
		s.hashes = theirHashes(n.Data)
	}
	return s.derive(how, s.own, s.its, secret)
}

// named writes a chosen proposal as Wardicon does.
func named(p ikev2.Proposal, how ipsec.Method, group suite.Algorithm) []string {
	list := []string{how.Name}
	if how.Integrity > 0 {
		list = append(list, suite.Numbered(suite.Integrity, p.ID(ikev2.Integrity)))
	}
	if prf := suite.Numbered(suite.PRF, p.ID(ikev2.PRF)); prf != "" &&
		(how.Integrity == 0 || prf != "prf"+list[1]) {
		list = append(list, prf)
	}
	if group.Name != "" {
		list = append(list, group.Name)
	}
	return list
}
