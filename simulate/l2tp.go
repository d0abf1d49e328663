package simulate

import (
	"cmp"
	"crypto/rand"
	"crypto/x509"
	"encoding/binary"
	"net/netip"
	"time"

	"wardicon/core/inside"
	ikev1session "wardicon/core/session/ikev1"
	"wardicon/core/session/ipsec"
	l2tpsession "wardicon/core/session/l2tp"
	pppsession "wardicon/core/session/ppp"
	"wardicon/core/suite"
	"wardicon/core/wire/ikev1"
	"wardicon/core/wire/isakmp"
	"wardicon/core/wire/l2tp"
)

const (
	portL2TP = 1701
	again    = time.Second // until what was not acknowledged is sent again
)

// l2tp answers a request for a tunnel without IPsec, which a sound gateway does not.
func (g *Gateway) l2tp(packet []byte, _ netip.AddrPort, answer reply) {
	m, err := l2tp.Decode(packet)
	theirs, ok := m.Uint(l2tp.AttrTunnel)
	if err != nil || !ok || m.Kind() != l2tp.StartRequest || !g.has(FaultBare) {
		return
	}
	avps := append(
		l2tp.Start(l2tp.StartReply, g.introduced(), 17),
		l2tp.Text(l2tp.AttrVendor, "simulator"),
		l2tp.AVP{Type: l2tp.AttrFirmware, Value: []byte{1, 2}},
	)
	if b, err := (l2tp.Message{
		Tunnel:   theirs,
		Expected: m.Sent + 1,
		AVPs:     avps,
	}).Encode(); err == nil {
		answer(b)
	}
}

// peer is a device that came by IKEv1, with its tunnel and its link in that.
type peer struct {
	g      *Gateway
	ike    *ikev1session.Responder
	tunnel *l2tpsession.Tunnel
	link   *pppsession.Link
	timer  *time.Timer // sends again what was not acknowledged
}

// meet begins an association by IKEv1. The payloads are those of aggressive mode, beside the
// choice.
func (g *Gateway) meet(
	question ikev1.Message,
	chosen suite.Proposal,
	cookie uint64,
) ([]isakmp.Payload, error) {
	id := g.shownIdentity()
	esp, err := suite.ParseAll(
		[]string{"aes256-sha256", "aes256-sha1", "aes128-sha256", "aes128-sha1"},
	)
	if err != nil {
		return nil, err
	}
	p := &peer{g: g, ike: &ikev1session.Responder{
		Who: ipsec.ParseIdentity(cmp.Or(g.IKEv2ID, g.Name), nil), PSK: g.KeyL2TP, Key: id.Key,
		Chain: append([]*x509.Certificate{id.Leaf}, id.Chain...), ESP: esp, Random: rand.Reader,
	}}
	list, err := p.ike.Begin(question, chosen, cookie)
	if err != nil {
		return nil, err
	}
	g.associations.mu.Lock()
	defer g.associations.mu.Unlock()
	if g.associations.peers == nil || len(g.associations.peers) >= mostAssociations {
		g.associations.peers = map[uint64]*peer{}
	}
	g.associations.peers[question.InitiatorCookie] = p
	return list, nil
}

// peer is the device that an association belongs to; nil where there is none.
func (g *Gateway) peer(cookie uint64) *peer {
	g.associations.mu.Lock()
	defer g.associations.mu.Unlock()
	return g.associations.peers[cookie]
}

// carry takes a packet of ESP: L2TP, PPP in it, and IP in that.
func (p *peer) carry(b []byte, answer reply) {
	child := p.ike.Child()
	datagram, err := child.Open(b)
	if err != nil || len(datagram) < 8 || binary.BigEndian.Uint16(datagram[2:]) != portL2TP {
		return
	}
	out := func(message []byte) {
		b := binary.BigEndian.AppendUint16(nil, portL2TP)
		b = append(b, datagram[:2]...) // to where it came from
		b = binary.BigEndian.AppendUint16(b, uint16(8+len(message)))
		if sealed, err := child.Seal(append(append(b, 0, 0), message...), rand.Reader); err == nil {
			answer(sealed)
		}
	}
	if p.tunnel == nil {
		p.tunnel = l2tpsession.New(l2tpsession.Config{
			Gateway: true, HostName: p.g.introduced(), Tunnel: 17, Session: 4,
		})
	}
	frame := p.tunnel.Receive(datagram[8:])
	for _, m := range p.tunnel.Take() {
		out(m)
	}
	if p.link == nil && p.tunnel.Phase == l2tpsession.Up {
		if p.link, err = p.g.newLink(nil); err != nil {
			return
		}
	}
	if p.link == nil {
		return
	}
	if p.tunnel.Phase == l2tpsession.Ended {
		p.g.note(p.link, true)
		p.link = nil
		return
	}
	send := func(frame []byte) { out(p.tunnel.Data(frame)) }
	p.g.through(p.link, frame, send)
	if p.timer == nil {
		p.timer = time.AfterFunc(again, func() { p.again(send) })
	}
}

// again sends again what was not acknowledged, until the link is open or has ended.
func (p *peer) again(send func(frame []byte)) {
	p.g.associations.mu.Lock()
	defer p.g.associations.mu.Unlock()
	if p.link == nil || p.g.ctx.Err() != nil || p.link.Phase == pppsession.Open ||
		p.link.Phase == pppsession.Ended {
		return
	}
	p.link.Again()
	p.g.through(p.link, nil, send)
	p.timer.Reset(again)
}

// through hands a frame to the gateway's end of a link, and sends what it says to that: of a packet
// in it, what the network behind says.
func (g *Gateway) through(
	link *pppsession.Link,
	frame []byte,
	send func(frame []byte),
) {
	var packet []byte
	if frame != nil {
		packet = link.Receive(frame)
	}
	for _, f := range link.Take() {
		send(f)
	}
	if packet == nil {
		return
	}
	answer := inner(packet)
	if p, err := inside.Read(packet); err == nil && p.Solicits() && g.IPv6.IsValid() {
		answer = inside.Advertise(link.Local6(), p.From.Addr(), g.IPv6, g.IPv6.Addr().Next())
	}
	if answer != nil {
		send(link.Packet(answer))
	}
}
