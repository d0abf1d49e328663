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
	"wardicon/core/session/ipsec"
	"wardicon/core/suite"
	"wardicon/core/wire/ikev1"
	"wardicon/core/wire/ikev2"
	"wardicon/core/wire/isakmp"
)

// associations are the devices that came as far as keys.
type associations struct {
	mu   sync.Mutex
	list map[uint64]*ikesession.Responder
	// devices that came by IKEv1 for L2TP
	peers map[uint64]*peer
}

const mostAssociations = 4096

// resolvers are the name servers that devices are given by PPP.
func (g *Gateway) resolvers() []netip.Addr {
	if len(g.DNS) > 0 {
		return g.DNS
	}
	return []netip.Addr{insideNames}
}

// resolver is the name server that devices are given where there is one alone.
func (g *Gateway) resolver() netip.Addr {
	return g.resolvers()[0]
}

// complete tells whether the simulator lets devices sign in by IKEv2.
func (g *Gateway) complete() bool {
	return g.Accounts != nil || g.PSK != "" || g.Certificates
}

// eapTLS is how devices sign in by EAP-TLS.
func (g *Gateway) eapTLS() *tls.Config {
	return &tls.Config{
		Certificates: []tls.Certificate{shownBy(*g.shownIdentity())},
		ClientAuth:   tls.RequireAnyClientCert,
	}
}

// associate goes on where a suite was chosen: the payloads get keys in the place of echoes. It
// tells the name of the association, and what it has to be told of the message that is sent.
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
		Who: ipsec.ParseIdentity(cmp.Or(g.IKEv2ID, g.Name), nil), Key: id.Key,
		Chain: append([]*x509.Certificate{id.Leaf}, id.Chain...), PSK: g.PSK, Child: child,
		Address: insideClient, DNS: g.resolver(), Random: rand.Reader,
	}
	if g.EAPTLS {
		r.TLS = g.eapTLS()
	}
	r.EAPOnly = g.EAPOnly
	if r.Both = g.EAPBoth; g.Accounts != nil && (r.Both || !g.EAPTLS) {
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
		p := g.associations.peers[h.InitiatorSPI]
		if p != nil && h.Flags&ikev1.FlagEncrypted != 0 && !g.has(FaultMidway) {
			if b := p.ike.Handle(packet); b != nil {
				answer(b)
			}
			return true
		}
	}
	if marked {
		return false
	}
	for _, p := range g.associations.peers {
		if child := p.ike.Child(); child != nil && child.Takes(packet) {
			p.carry(packet, answer)
			return true
		}
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
