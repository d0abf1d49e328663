package simulate

import (
	"cmp"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"net/netip"
	"slices"
	"sync"

	ikesession "wardicon/core/session/ikev2"
	"wardicon/core/suite"
	"wardicon/core/wire/ikev2"
	"wardicon/core/wire/isakmp"
)

// associations are the devices that came by IKEv2 as far as keys.
type associations struct {
	mu   sync.Mutex
	list map[uint64]*ikesession.Responder
}

const mostAssociations = 4096

// resolver is the name server that devices are given.
func (g *Gateway) resolver() netip.Addr {
	if g.DNS.IsValid() {
		return g.DNS
	}
	return insideNames
}

// complete tells whether the simulator lets devices sign in by IKEv2.
func (g *Gateway) complete() bool {
	return g.Accounts != nil || g.PSK != "" || g.Certificates
}

// associate goes on where a suite was chosen: the payloads get keys in the place of echoes. It tells
// the name of the association, and what it has to be told of the message that is sent.
func (g *Gateway) associate(
	raw []byte,
	question ikev2.Message,
	payloads []isakmp.Payload,
) (list []isakmp.Payload, spi uint64, sent func([]byte)) {
	nothing := func([]byte) {}
	body, chosen := isakmp.Find(payloads, ikev2.KindSA)
	if !chosen {
		return payloads, 0, nothing
	}
	proposals, err := ikev2.DecodeSA(body)
	if err != nil || !g.complete() {
		return payloads, newSPI(), nothing
	}
	child, err := suite.ParseAll([]string{
		"aes256gcm16", "aes256-sha256", "aes128gcm16", "aes128-sha256", "aes256-sha1",
	})
	if err != nil {
		return payloads, newSPI(), nothing
	}
	id := g.shownIdentity()
	r := &ikesession.Responder{
		Who: ikesession.ParseIdentity(cmp.Or(g.IKEv2ID, g.Name), nil), Key: id.Key,
		Chain: append([]*x509.Certificate{id.Leaf}, id.Chain...), PSK: g.PSK, Child: child,
		Address: insideClient, DNS: g.resolver(), Random: rand.Reader,
	}
	if g.EAPTLS {
		shown := shownBy(*id)
		r.TLS = &tls.Config{
			Certificates: []tls.Certificate{shown}, ClientAuth: tls.RequireAnyClientCert,
		}
	} else if g.Accounts != nil {
		r.Lookup = func(login string) (string, bool) {
			password, known := g.Accounts[login]
			return password, known
		}
	}
	keys, spi, err := r.Begin(question, raw, proposals[0])
	if err != nil {
		return payloads, newSPI(), nothing
	}
	kept := slices.DeleteFunc(slices.Clone(payloads), func(p isakmp.Payload) bool {
		return p.Kind == ikev2.KindKE || p.Kind == ikev2.KindNonce
	})
	return append(kept, keys...), spi, func(b []byte) {
		r.Answered(b)
		g.associations.mu.Lock()
		defer g.associations.mu.Unlock()
		if g.associations.list == nil || len(g.associations.list) >= mostAssociations {
			g.associations.list = map[uint64]*ikesession.Responder{}
		}
		g.associations.list[question.InitiatorSPI] = r
	}
}

// associated takes what belongs to an association: encrypted requests, and ESP. It tells whether it
// did.
func (g *Gateway) associated(packet []byte, marked bool, answer reply) bool {
	g.associations.mu.Lock()
	defer g.associations.mu.Unlock()
	if h, err := isakmp.DecodeHeader(packet); err == nil {
		r := g.associations.list[h.InitiatorSPI]
		if r != nil && h.ResponderSPI != 0 && !g.has(FaultMidway) {
			if b := r.Handle(packet); b != nil {
				answer(b)
			}
			return true
		}
	}
	if marked {
		return false
	}
	for _, r := range g.associations.list {
		if r.Takes(packet) {
			if b := r.Carry(packet, inner); b != nil {
				answer(b)
			}
			return true
		}
	}
	return false
}
