package ikev1

import (
	"bytes"
	"crypto/hmac"
	"encoding/binary"
	"errors"

	"wardicon/core/session/ipsec"
	"wardicon/core/suite"
	"wardicon/core/wire/ikev1"
	"wardicon/core/wire/isakmp"
)

// Tunnel is an association for ESP that was agreed on.
type Tunnel struct {
	*ipsec.Child
	// Confirmed is the last message of quick mode. The gateway opens the association by it, and
	// answers it with nothing but packets: it is sent until one comes.
	Confirmed []byte
}

// mode is how what is carried is wrapped (RFC 3947 §5.1).
func (s *Session) mode() uint32 {
	if s.Tunnel {
		return ikev1.ModeUDPTunnel
	}
	return ikev1.ModeUDPTransport
}

// Child agrees on an association for ESP by quick mode (RFC 2409 §5.5).
func (s *Session) Child() (t Tunnel, err error) {
	b, err := numbers(s.Random, 4+4+32)
	if err != nil {
		return t, err
	}
	id, spi, nonce := binary.BigEndian.Uint32(b)|1, b[4:8], b[8:]
	s.childID = spi
	spi[0] |= 1 // none of the reserved ones
	offers, half, err := s.offersESP()
	if err != nil {
		return t, err
	}
	list := []isakmp.Payload{ikev1.SAESP(spi, offers...), {Kind: ikev1.KindNonce, Body: nonce}}
	if half.Public != nil {
		list = append(list, isakmp.Payload{Kind: ikev1.KindKE, Body: half.Public})
	}
	list = append(list, ikev1.Selector(s.Own, s.Protocol, s.Port),
		ikev1.Selector(s.Gateway, s.Protocol, s.Port))
	if !s.Tunnel {
		list = append(list, ikev1.Original(s.Own), ikev1.Original(s.Gateway))
	}
	rest, err := chained(list)
	if err != nil {
		return t, err
	}
	list = append([]isakmp.Payload{{Kind: ikev1.KindHash, Body: s.second(id, rest)}}, list...)
	request, next, err := s.wrap(ikev1.Quick, id, s.begins(id), list...)
	if err != nil {
		return t, err
	}
	var answer []isakmp.Payload
	var refused error
	err = s.Exchange(append(s.unsettled, request), func(b []byte) bool {
		h, err := isakmp.DecodeHeader(b)
		if err != nil || h.Major != 1 || h.InitiatorSPI != s.initiator ||
			h.ResponderSPI != s.responder {
			return false
		}
		if h.Exchange == uint8(ikev1.Informational) {
			refused = s.informed(b, h, true)
			if errors.Is(refused, errUnreadable) {
				refused = nil
			}
			return refused != nil
		}
		if h.Exchange != uint8(ikev1.Quick) || h.ID != id {
			return false
		}
		got, raw, after, err := s.unwrap(b, next)
		if err != nil {
			return false
		}
		proof, rest, err := split(got, raw)
		if err != nil || !hmac.Equal(proof, s.second(id, nonce, rest)) {
			return false
		}
		answer, next = got, after
		return true
	})
	if err == nil && answer == nil {
		err = refused
	}
	if err != nil {
		return t, err
	}
	if err := notified(answer, true); err != nil {
		return t, err
	}
	its, _ := isakmp.Find(answer, ikev1.KindNonce)
	if t.Child, err = s.chosenESP(answer, spi, nonce, its, half); err != nil {
		return t, err
	}
	proof := s.second3(id, nonce, its)
	t.Confirmed, _, err = s.wrap(ikev1.Quick, id, next,
		isakmp.Payload{Kind: ikev1.KindHash, Body: proof})
	return t, err
}

// second3 is the proof of the last message of quick mode (RFC 2409 §5.5).
func (c *channel) second3(id uint32, nonceI, nonceR []byte) []byte {
	return ipsec.MAC(c.digest, c.keyA, []byte{0}, binary.BigEndian.AppendUint32(nil, id), nonceI,
		nonceR)
}

// offersESP are the transforms, and the half of a key exchange where the first of them has one: all
// of quick mode has one group, or none.
func (s *Session) offersESP() (offers []ikev1.ESP, half ipsec.Half, err error) {
	group := ""
	for _, p := range s.ESP {
		o, ok := ikev1.OfferESP(p, s.mode())
		if _, err := methodOfESP(p); !ok || err != nil || len(offers) > 0 && p.Group != group {
			continue
		}
		group = p.Group
		offers = append(offers, o)
	}
	if len(offers) == 0 {
		return nil, half, ipsec.ErrSuite
	}
	if group != "" {
		g, _ := suite.Find(group)
		half, err = ipsec.NewHalf(g, s.Random)
	}
	return offers, half, err
}

// chosenESP makes the association that the gateway chose.
func (s *Session) chosenESP(
	answer []isakmp.Payload,
	spi, nonce, its []byte,
	half ipsec.Half,
) (*ipsec.Child, error) {
	body, _ := isakmp.Find(answer, ikev1.KindSA)
	outSPI, list, err := ikev1.DecodeESP(body)
	if err != nil {
		return nil, err
	}
	var chosen suite.Proposal
	found := false
	for _, p := range s.ESP {
		if o, ok := ikev1.OfferESP(p, s.mode()); ok && len(list) == 1 && o.Says(list[0]) {
			chosen, found = p, true
			break
		}
	}
	if !found || len(its) < 8 || len(its) > 256 {
		return nil, errors.New("the gateway chose what was not offered for ESP")
	}
	var secret []byte
	if half.Public != nil {
		public, _ := isakmp.Find(answer, ikev1.KindKE)
		if secret, err = half.Agree(public); err != nil {
			return nil, err
		}
	}
	how, err := methodOfESP(chosen)
	if err != nil {
		return nil, err
	}
	out, err := s.material(how, secret, outSPI, nonce, its)
	if err != nil {
		return nil, err
	}
	in, err := s.material(how, secret, spi, nonce, its)
	if err != nil {
		return nil, err
	}
	return ipsec.NewChild(out, in, binary.BigEndian.Uint32(outSPI), binary.BigEndian.Uint32(spi),
		chosen.String(), !s.Tunnel), nil
}

// End makes the messages that tell the gateway that all is over (RFC 2408 §3.15).
func (s *Session) End() (list [][]byte, err error) {
	for _, spi := range [][]byte{s.childID, s.cookies()} {
		if len(spi) == 0 {
			continue
		}
		b, err := numbers(s.Random, 4)
		if err != nil {
			return nil, err
		}
		id, over := binary.BigEndian.Uint32(b)|1, ikev1.Delete(bytes.Clone(spi))
		rest, err := chained([]isakmp.Payload{over})
		if err != nil {
			return nil, err
		}
		out, _, err := s.wrap(ikev1.Informational, id, s.begins(id),
			isakmp.Payload{Kind: ikev1.KindHash, Body: s.second(id, rest)}, over)
		if err != nil {
			return nil, err
		}
		list = append(list, out)
	}
	return list, nil
}
