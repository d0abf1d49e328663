package ikev1

import (
	"bytes"
	"crypto"
	"crypto/hmac"
	"crypto/x509"
	"encoding/binary"
	"errors"
	"io"

	"wardicon/core/session/ipsec"
	"wardicon/core/suite"
	"wardicon/core/wire/ikev1"
	"wardicon/core/wire/isakmp"
)

// Responder is a gateway's side of one association, for simulated gateways: with a pre-shared key,
// or else with certificates.
type Responder struct {
	Who   ipsec.Identity
	PSK   string
	Key   crypto.Signer
	Chain []*x509.Certificate
	// Trusts tells whether a device's certificate is one of the gateway's; nil trusts any.
	Trusts func(*x509.Certificate) bool
	ESP    []suite.Proposal
	Random io.Reader

	channel
	chosen     suite.Proposal
	aggressive bool
	half       ipsec.Half
	proven     bool
	quick      uint32 // message that is under way in quick mode
	expects    []byte // the last proof of it
	chainQuick []byte // where the encryption of the last message of it begins
	waiting    *ipsec.Child
	child      *ipsec.Child
	answers    map[[16]byte][]byte // to messages that came before, by their begin
}

// Begin takes the message that begins an association, by the suite that was chosen of it. The
// payloads stand behind those that choose; they are none in main mode.
func (r *Responder) Begin(
	m ikev1.Message,
	chosen suite.Proposal,
	cookie uint64,
) (list []isakmp.Payload, err error) {
	body, _ := m.Find(ikev1.KindSA)
	r.initiator, r.responder, r.sa, r.chosen = m.InitiatorCookie, cookie, bytes.Clone(body), chosen
	r.idR = r.Who.Body()
	if !speaks(chosen) {
		return nil, ipsec.ErrSuite
	}
	if m.Exchange != ikev1.Aggressive {
		return nil, nil
	}
	r.aggressive = true
	id, _ := m.Find(ikev1.KindIdentification)
	r.idI = bytes.Clone(id)
	if list, err = r.exchange(m); err != nil {
		return nil, err
	}
	proof, err := r.prove()
	if err != nil {
		return nil, err
	}
	list = append(list, isakmp.Payload{Kind: ikev1.KindIdentification, Body: r.idR})
	return append(list, proof...), nil
}

// exchange answers the half of a key exchange, and derives the keys.
func (r *Responder) exchange(m ikev1.Message) ([]isakmp.Payload, error) {
	ke, _ := m.Find(ikev1.KindKE)
	nonce, _ := m.Find(ikev1.KindNonce)
	g, ok := suite.Find(r.chosen.Group)
	if !ok || len(nonce) == 0 {
		return nil, errNotOurs
	}
	var err error
	if r.half, err = ipsec.NewHalf(g, r.Random); err != nil {
		return nil, err
	}
	secret, err := r.half.Agree(ke)
	if err != nil {
		return nil, err
	}
	if r.nonceR, err = numbers(r.Random, 32); err != nil {
		return nil, err
	}
	r.publicI, r.publicR, r.nonceI = bytes.Clone(ke), r.half.Public, bytes.Clone(nonce)
	if err := r.derive(r.chosen, r.PSK, secret); err != nil {
		return nil, err
	}
	return []isakmp.Payload{
		{Kind: ikev1.KindKE, Body: r.publicR}, {Kind: ikev1.KindNonce, Body: r.nonceR},
	}, nil
}

// Exchange answers the third message of main mode; the payloads are the half of the gateway.
func (r *Responder) Exchange(m ikev1.Message) ([]isakmp.Payload, error) {
	if r.aggressive || r.block != nil {
		return nil, errNotOurs
	}
	return r.exchange(m)
}

func (r *Responder) prove() ([]isakmp.Payload, error) {
	if r.PSK != "" {
		return []isakmp.Payload{{Kind: ikev1.KindHash, Body: r.proof(true)}}, nil
	}
	signed, err := sign(r.Key, r.proof(true), r.Random)
	return append(
		certificates(r.Chain),
		isakmp.Payload{Kind: ikev1.KindSignature, Body: signed},
	), err
}

// Handle answers an encrypted message; nil answers nothing. The same message gets the same answer.
func (r *Responder) Handle(b []byte) []byte {
	h, err := isakmp.DecodeHeader(b)
	if err != nil || r.block == nil || h.Flags&ikev1.FlagEncrypted == 0 || len(b) < headSize+16 {
		return nil
	}
	key := [16]byte(b[len(b)-16:])
	if out, ok := r.answers[key]; ok {
		return out
	}
	var out []byte
	switch ikev1.Exchange(h.Exchange) {
	case ikev1.Main, ikev1.Aggressive:
		out, err = r.lastOfFirst(b, ikev1.Exchange(h.Exchange))
	case ikev1.Quick:
		out, err = r.quickMode(b, h)
	}
	if err != nil {
		return r.refuse(ikev1.NoProposalChosen, err)
	}
	if r.answers == nil || len(r.answers) > 32 {
		r.answers = map[[16]byte][]byte{}
	}
	r.answers[key] = out
	return out
}

// errSuites says that no suite for ESP is shared.
var errSuites = errors.New("no shared suite")

// refuse tells of what went wrong: of suites alone, as gateways do.
func (r *Responder) refuse(kind uint16, why error) []byte {
	b, err := numbers(r.Random, 4)
	if err != nil || !errors.Is(why, errSuites) {
		return nil
	}
	id, note := binary.BigEndian.Uint32(b)|1, ikev1.Notify(kind, nil)
	rest, err := chained([]isakmp.Payload{note})
	if err != nil {
		return nil
	}
	out, _, err := r.wrap(ikev1.Informational, id, r.begins(id),
		isakmp.Payload{Kind: ikev1.KindHash, Body: r.second(id, rest)}, note)
	if err != nil {
		return nil
	}
	return out
}

// lastOfFirst takes the device's proof, and answers it in main mode.
func (r *Responder) lastOfFirst(b []byte, exchange ikev1.Exchange) ([]byte, error) {
	list, _, next, err := r.unwrap(b, r.chain)
	if err != nil || r.proven {
		return nil, errNotOurs
	}
	if !r.aggressive {
		id, ok := isakmp.Find(list, ikev1.KindIdentification)
		if !ok {
			return nil, errNotOurs
		}
		r.idI = bytes.Clone(id)
	}
	want := r.proof(false)
	if r.PSK != "" {
		proof, _ := isakmp.Find(list, ikev1.KindHash)
		if !hmac.Equal(proof, want) {
			return nil, ErrProof
		}
	} else {
		chain, err := shown(list)
		if err != nil || len(chain) == 0 || r.Trusts != nil && !r.Trusts(chain[0]) {
			return nil, ErrProof
		}
		signed, _ := isakmp.Find(list, ikev1.KindSignature)
		if _, err := verify(chain[0].PublicKey, want, signed); err != nil {
			return nil, err
		}
	}
	r.proven, r.chain = true, next
	if r.aggressive {
		return nil, nil
	}
	proof, err := r.prove()
	if err != nil {
		return nil, err
	}
	out, last, err := r.wrap(exchange, 0, r.chain, append([]isakmp.Payload{
		{Kind: ikev1.KindIdentification, Body: r.idR},
	}, proof...)...)
	r.chain = last
	return out, err
}

// quickMode answers quick mode.
func (r *Responder) quickMode(b []byte, h isakmp.Header) ([]byte, error) {
	if !r.proven {
		return nil, errNotOurs
	}
	if h.ID == r.quick && r.waiting != nil {
		// the last message: the association is open
		list, _, _, err := r.unwrap(b, r.chainQuick)
		if err != nil || len(list) == 0 || !hmac.Equal(list[0].Body, r.expects) {
			return nil, errNotOurs
		}
		r.child, r.waiting = r.waiting, nil
		return nil, nil
	}
	list, raw, next, err := r.unwrap(b, r.begins(h.ID))
	if err != nil {
		return nil, err
	}
	proof, rest, err := split(list, raw)
	if err != nil || !hmac.Equal(proof, r.second(h.ID, rest)) {
		return nil, errNotOurs
	}
	nonce, _ := isakmp.Find(list, ikev1.KindNonce)
	answer, own, err := r.choose(list, nonce)
	if err != nil {
		return nil, err
	}
	rest, err = chained(answer)
	if err != nil {
		return nil, err
	}
	answer = append([]isakmp.Payload{{
		Kind: ikev1.KindHash, Body: r.second(h.ID, nonce, rest),
	}}, answer...)
	out, last, err := r.wrap(ikev1.Quick, h.ID, next, answer...)
	r.quick, r.chainQuick, r.expects = h.ID, last, r.second3(h.ID, nonce, own)
	return out, err
}

// choose chooses an association for ESP, and makes its keys.
func (r *Responder) choose(list []isakmp.Payload, nonce []byte) ([]isakmp.Payload, []byte, error) {
	body, _ := isakmp.Find(list, ikev1.KindSA)
	outSPI, offers, err := ikev1.DecodeESP(body)
	if err != nil {
		return nil, nil, err
	}
	for _, p := range r.ESP {
		for _, o := range offers {
			p.Group = groupOf(o)
			own, ok := ikev1.OfferESP(p, ikev1.ModeUDPTransport)
			if !ok || !own.Says(o) {
				continue
			}
			return r.open(list, p, o, bytes.Clone(outSPI), nonce)
		}
	}
	return nil, nil, errSuites
}

func groupOf(e ikev1.ESP) string {
	if n, ok := e.Transform[ikev1.ClassESPGroup]; ok {
		return suite.Numbered(suite.Group, int(n))
	}
	return ""
}

func (r *Responder) open(
	list []isakmp.Payload,
	p suite.Proposal,
	chosen ikev1.ESP,
	outSPI, nonce []byte,
) (answer []isakmp.Payload, own []byte, err error) {
	b, err := numbers(r.Random, 4+32)
	if err != nil {
		return nil, nil, err
	}
	spi, own := b[:4], b[4:]
	spi[0] |= 1
	answer = []isakmp.Payload{ikev1.SAESP(spi, chosen), {Kind: ikev1.KindNonce, Body: own}}
	var secret []byte
	if p.Group != "" {
		g, _ := suite.Find(p.Group)
		half, err := ipsec.NewHalf(g, r.Random)
		if err != nil {
			return nil, nil, err
		}
		public, _ := isakmp.Find(list, ikev1.KindKE)
		if secret, err = half.Agree(public); err != nil {
			return nil, nil, err
		}
		answer = append(answer, isakmp.Payload{Kind: ikev1.KindKE, Body: half.Public})
	}
	for _, p := range list {
		if p.Kind == ikev1.KindIdentification || p.Kind == ikev1.KindNATOA {
			answer = append(answer, p)
		}
	}
	how, err := methodOfESP(p)
	if err != nil {
		return nil, nil, err
	}
	out, err := r.material(how, secret, outSPI, nonce, own)
	if err != nil {
		return nil, nil, err
	}
	in, err := r.material(how, secret, spi, nonce, own)
	if err != nil {
		return nil, nil, err
	}
	r.waiting = ipsec.NewChild(out, in, binary.BigEndian.Uint32(outSPI),
		binary.BigEndian.Uint32(spi), p.String(), true)
	return answer, own, nil
}

// Child is the association for ESP once it is open; nil before.
func (r *Responder) Child() *ipsec.Child { return r.child }
