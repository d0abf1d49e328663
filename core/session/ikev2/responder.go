package ikev2

import (
	"bytes"
	"crypto"
	"crypto/tls"
	"crypto/x509"
	"encoding/binary"
	"errors"
	"io"
	"net/netip"

	"wardicon/core/session/eap"
	"wardicon/core/session/ipsec"
	"wardicon/core/suite"
	"wardicon/core/wire/ikev2"
	"wardicon/core/wire/isakmp"
)

// Responder is a gateway's side of one association, for simulated gateways.
type Responder struct {
	Who    ipsec.Identity
	Key    crypto.Signer       // proves the gateway, where there is no PSK
	Chain  []*x509.Certificate // of the key
	PSK    string
	Lookup func(login string) (password string, known bool) // of devices that sign in by EAP
	TLS    *tls.Config                                      // the same by EAP-TLS, in its place
	Both   bool                                             // or beside it
	// EAPOnly leaves the proof to EAP where the device allows it (RFC 5998).
	EAPOnly bool
	// Trusts tells whether a device's certificate is one of the gateway's; nil trusts any.
	Trusts  func(*x509.Certificate) bool
	Child   []suite.Proposal
	Address netip.Addr // that the device gets
	DNS     netip.Addr
	Random  io.Reader

	channel
	request, response []byte
	own, its          []byte
	id                []byte // identity of the device
	eap               *eap.Server
	msk               []byte
	asked             []isakmp.Payload // what the device asked for at first
	child             *ipsec.Child
}

// Begin answers the key exchange for a proposal that was chosen: the payloads that take the place
// of the gateway's half and of its nonce.
func (r *Responder) Begin(
	question ikev2.Message,
	raw []byte,
	chosen ikev2.Proposal,
) ([]isakmp.Payload, uint64, error) {
	ke, _ := question.Find(ikev2.KindKE)
	nonce, _ := question.Find(ikev2.KindNonce)
	number, public, err := ikev2.DecodeKE(ke)
	if err != nil {
		return nil, 0, err
	}
	group, ok := suite.Find(suite.Numbered(suite.Group, int(number)))
	if !ok || len(nonce) == 0 {
		return nil, 0, ipsec.ErrGroup
	}
	h, err := ipsec.NewHalf(group, r.Random)
	if err != nil {
		return nil, 0, err
	}
	secret, err := h.Agree(public)
	if err != nil {
		return nil, 0, err
	}
	b := make([]byte, 40)
	if _, err := io.ReadFull(r.Random, b); err != nil {
		return nil, 0, err
	}
	r.answers, r.own, r.its = true, b[8:], bytes.Clone(nonce)
	r.initiator, r.responder = question.InitiatorSPI, binary.BigEndian.Uint64(b)|1<<63
	r.request = bytes.Clone(raw)
	how, err := methodOf(chosen)
	if err == nil {
		err = r.function(chosen)
	}
	if err == nil {
		err = r.derive(how, r.its, r.own, secret)
	}
	return []isakmp.Payload{
		ikev2.KE(number, h.Public), {Kind: ikev2.KindNonce, Body: r.own},
	}, r.responder, err
}

// Answered is told the message that began the association, as it was sent.
func (r *Responder) Answered(response []byte) { r.response = bytes.Clone(response) }

// Handle answers an encrypted request; nil answers nothing.
func (r *Responder) Handle(b []byte) []byte {
	h, err := isakmp.DecodeHeader(b)
	if err != nil {
		return nil
	}
	kind, next, _, text, err := r.open(b)
	if err != nil || kind != ikev2.KindEncrypted {
		return nil
	}
	list, err := isakmp.DecodeChain(next, text)
	if err != nil {
		return nil
	}
	var answer []isakmp.Payload
	if ikev2.Exchange(h.Exchange) == ikev2.Auth {
		if answer, err = r.auth(list); err != nil {
			answer = []isakmp.Payload{ikev2.Notify(ikev2.AuthenticationFailed, nil)}
		}
	}
	first, chain, err := isakmp.EncodeChain(answer)
	if err != nil {
		return nil
	}
	out, err := r.wrap(ikev2.Exchange(h.Exchange), h.ID, ikev2.KindEncrypted, first, nil, chain,
		r.Random)
	if err != nil {
		return nil
	}
	return out
}

var errRefused = errors.New("refused")

// auth goes on with a sign-in.
func (r *Responder) auth(list []isakmp.Payload) ([]isakmp.Payload, error) {
	if body, ok := isakmp.Find(list, ikev2.KindEAP); ok && r.eap != nil {
		out, msk, ended := r.eap.Handle(body)
		r.msk = msk
		if ended && msk == nil {
			return []isakmp.Payload{
				{Kind: ikev2.KindEAP, Body: out}, ikev2.Notify(ikev2.AuthenticationFailed, nil),
			}, nil
		}
		return []isakmp.Payload{{Kind: ikev2.KindEAP, Body: out}}, nil
	}
	proof, proven := isakmp.Find(list, ikev2.KindAuth)
	if r.msk != nil {
		mine := r.octets(r.request, r.own, r.keyPi, r.id)
		if err := sharedProof(r.prf, r.msk, mine, proof); err != nil {
			return nil, err
		}
		theirs := r.octets(r.response, r.its, r.keyPr, r.Who.Body())
		return r.give(isakmp.Payload{
			Kind: ikev2.KindAuth,
			Body: append([]byte{authShared, 0, 0, 0}, shared(r.prf, r.msk, theirs)...),
		})
	}
	id, ok := isakmp.Find(list, ikev2.KindIDi)
	if !ok {
		return nil, errRefused
	}
	r.id, r.asked = bytes.Clone(id), cloned(list)
	own, err := r.prove()
	if err != nil {
		return nil, err
	}
	notes, err := ikev2.Message{Payloads: list}.Notifications()
	if err != nil {
		return nil, err
	}
	if r.EAPOnly && r.TLS != nil && find(notes, ikev2.EAPOnly) != nil {
		own = own[:1] // how it calls itself
	}
	mine := r.octets(r.request, r.own, r.keyPi, r.id)
	switch {
	case !proven && (r.Lookup != nil || r.TLS != nil):
		r.eap = &eap.Server{Lookup: r.Lookup, TLS: r.TLS, Both: r.Both, Random: r.Random}
		return append(own, isakmp.Payload{Kind: ikev2.KindEAP, Body: r.eap.Begin()}), nil
	case !proven:
		return nil, errRefused
	case r.PSK != "":
		if err := sharedProof(r.prf, []byte(r.PSK), mine, proof); err != nil {
			return nil, err
		}
	default:
		body, _ := isakmp.Find(list, ikev2.KindCert)
		if len(body) < 2 {
			return nil, errRefused
		}
		c, err := x509.ParseCertificate(body[1:])
		if err != nil || r.Trusts != nil && !r.Trusts(c) {
			return nil, errRefused
		}
		if _, err := verify(c.PublicKey, proof, mine); err != nil {
			return nil, err
		}
	}
	return r.give(own...)
}

func cloned(list []isakmp.Payload) []isakmp.Payload {
	out := make([]isakmp.Payload, len(list))
	for i, p := range list {
		out[i] = isakmp.Payload{Kind: p.Kind, Body: bytes.Clone(p.Body)}
	}
	return out
}

// prove is what the gateway proves itself with.
func (r *Responder) prove() ([]isakmp.Payload, error) {
	theirs := r.octets(r.response, r.its, r.keyPr, r.Who.Body())
	list := []isakmp.Payload{{Kind: ikev2.KindIDr, Body: r.Who.Body()}}
	if r.PSK != "" {
		return append(list, isakmp.Payload{
			Kind: ikev2.KindAuth,
			Body: append([]byte{authShared, 0, 0, 0}, shared(r.prf, []byte(r.PSK), theirs)...),
		}), nil
	}
	for _, c := range r.Chain {
		list = append(list, isakmp.Payload{
			Kind: ikev2.KindCert, Body: append([]byte{certX509}, c.Raw...),
		})
	}
	proof, err := sign(r.Key, theirs, hashes, r.Random)
	return append(list, isakmp.Payload{Kind: ikev2.KindAuth, Body: proof}), err
}

// give gives the device an address and a tunnel.
func (r *Responder) give(list ...isakmp.Payload) ([]isakmp.Payload, error) {
	sa, _ := isakmp.Find(r.asked, ikev2.KindSA)
	offered, err := ikev2.DecodeSA(sa)
	if err != nil {
		return nil, err
	}
	for _, p := range r.Child {
		want, _ := ikev2.OfferChild(1, nil, suite.Proposal{
			Encryption: p.Encryption, Integrity: p.Integrity,
		})
		for _, o := range offered {
			if !has(o, want) {
				continue
			}
			return r.tunnel(list, o, want)
		}
	}
	return append(list, ikev2.Notify(ikev2.NoProposalChosen, nil)), nil
}

func has(offer, want ikev2.Proposal) bool {
	for _, t := range want.Transforms {
		found := false
		for _, o := range offer.Transforms {
			found = found || o == t
		}
		if !found {
			return false
		}
	}
	return true
}

func (r *Responder) tunnel(
	list []isakmp.Payload,
	offer, chosen ikev2.Proposal,
) ([]isakmp.Payload, error) {
	how, err := methodOf(chosen)
	if err != nil || len(offer.SPI) != 4 {
		return nil, ipsec.ErrSuite
	}
	spi := make([]byte, 4)
	if _, err := io.ReadFull(r.Random, spi); err != nil {
		return nil, err
	}
	spi[0] |= 1
	out, in, err := r.childBoxes(how, append(append([]byte{}, r.its...), r.own...))
	if err != nil {
		return nil, err
	}
	r.child = ipsec.NewChild(out, in, binary.BigEndian.Uint32(offer.SPI),
		binary.BigEndian.Uint32(spi), how.Name, false)
	chosen.Number, chosen.SPI = offer.Number, spi
	config := []byte{2, 0, 0, 0} // CFG_REPLY
	for kind, a := range map[uint16]netip.Addr{ip4Address: r.Address, ip4DNS: r.DNS} {
		config = binary.BigEndian.AppendUint16(config, kind)
		config = binary.BigEndian.AppendUint16(config, uint16(len(a.AsSlice())))
		config = append(config, a.AsSlice()...)
	}
	ts, _ := isakmp.Find(r.asked, ikev2.KindTSr)
	return append(list,
		isakmp.Payload{Kind: ikev2.KindConfig, Body: config},
		ikev2.SA(chosen),
		isakmp.Payload{Kind: ikev2.KindTSi, Body: ts},
		isakmp.Payload{Kind: ikev2.KindTSr, Body: ts},
	), nil
}

// Carry answers a packet of ESP by what the network behind says to the packet in it; nil answers
// nothing.
func (r *Responder) Carry(b []byte, behind func([]byte) []byte) []byte {
	if r.child == nil {
		return nil
	}
	packet, err := r.child.Open(b)
	if err != nil {
		return nil
	}
	answer := behind(packet)
	if answer == nil {
		return nil
	}
	out, err := r.child.Seal(answer, r.Random)
	if err != nil {
		return nil
	}
	return out
}

// Takes tells whether a packet of ESP is of this association.
func (r *Responder) Takes(b []byte) bool {
	return r.child != nil && r.child.Takes(b)
}
