package simulate

import (
	"crypto/rand"
	"encoding/binary"
	"net"
	"net/netip"
	"slices"
	"sync"

	"wardicon/core/suite"
	"wardicon/core/wire/ikev2"
)

// IKEGateway is a stand-in for a gateway that answers to the beginning of IKEv2, on loopback. Its faults may be set
// before it is asked.
type IKEGateway struct {
	At netip.AddrPort

	Takes   []suite.Proposal // suites, the best first
	Silent  bool             // it answers nothing
	Lose    int              // so many questions are lost first
	Cookies bool             // it wants a cookie first (RFC 7296 §2.6)
	NAT     bool             // it sees other addresses than the client does
	Garbage bool             // noise before each answer
	Wrong   bool             // it chooses a group that was not offered

	conn *net.UDPConn
	done sync.WaitGroup
	lost int
}

// NewIKEGateway starts a stand-in. Close ends it.
func NewIKEGateway(g *IKEGateway) (*IKEGateway, error) {
	conn, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(netip.MustParseAddrPort("127.0.0.1:0")))
	if err != nil {
		return nil, err
	}
	g.conn, g.At = conn, conn.LocalAddr().(*net.UDPAddr).AddrPort()
	g.done.Go(g.serve)
	return g, nil
}

// Close ends the stand-in.
func (g *IKEGateway) Close() error {
	err := g.conn.Close()
	g.done.Wait()
	return err
}

func (g *IKEGateway) serve() {
	b := make([]byte, 64<<10)
	for {
		n, from, err := g.conn.ReadFromUDPAddrPort(b)
		if err != nil {
			return // closed
		}
		question, err := ikev2.Decode(b[:n])
		if err != nil || g.Silent {
			continue
		}
		if g.lost < g.Lose {
			g.lost++
			continue
		}
		if g.Garbage {
			_, _ = g.conn.WriteToUDPAddrPort([]byte("fog"), from)
			noise := ikev2.Message{InitiatorSPI: question.InitiatorSPI + 1, Exchange: ikev2.SAInit, Response: true}
			if packet, err := noise.Encode(); err == nil {
				_, _ = g.conn.WriteToUDPAddrPort(packet, from)
			}
		}
		answer := ikev2.Message{InitiatorSPI: question.InitiatorSPI, Exchange: ikev2.SAInit, Response: true, ID: question.ID, Payloads: g.answer(question, from)}
		if _, chosen := answer.Find(ikev2.KindSA); chosen {
			var spi [8]byte
			_, _ = rand.Read(spi[:])
			answer.ResponderSPI = binary.BigEndian.Uint64(spi[:])
			seen, own := from, g.At
			if g.NAT {
				seen, own = netip.MustParseAddrPort("203.0.113.9:40000"), netip.MustParseAddrPort("10.1.2.3:500")
			}
			answer.Payloads = append(answer.Payloads,
				ikev2.Notify(ikev2.NATSource, ikev2.NATHash(answer.InitiatorSPI, answer.ResponderSPI, own)),
				ikev2.Notify(ikev2.NATDestination, ikev2.NATHash(answer.InitiatorSPI, answer.ResponderSPI, seen)), ikev2.Notify(ikev2.FragmentationSupported, nil))
		}
		if packet, err := answer.Encode(); err == nil {
			_, _ = g.conn.WriteToUDPAddrPort(packet, from)
		}
	}
}

// answer chooses the first suite that it takes among those that are offered.
func (g *IKEGateway) answer(question ikev2.Message, from netip.AddrPort) []ikev2.Payload {
	if g.Cookies {
		want := ikev2.NATHash(question.InitiatorSPI, 0, from) // it remembers nothing
		notes, err := question.Notifications()
		if err != nil || len(notes) == 0 || notes[0].Type != ikev2.Cookie || !slices.Equal(notes[0].Data, want) {
			return []ikev2.Payload{ikev2.Notify(ikev2.Cookie, want)}
		}
	}
	body, _ := question.Find(ikev2.KindSA)
	offered, err := ikev2.DecodeSA(body)
	if err != nil {
		return []ikev2.Payload{ikev2.Notify(ikev2.InvalidSyntax, nil)}
	}
	exchange, _ := question.Find(ikev2.KindKE)
	group, public, err := ikev2.DecodeKE(exchange)
	if err != nil {
		return []ikev2.Payload{ikev2.Notify(ikev2.InvalidSyntax, nil)}
	}
	for _, s := range g.Takes {
		own, ok := ikev2.Offer(1, s)
		if !ok {
			continue
		}
		for _, p := range offered {
			if !covers(p, own) {
				continue
			}
			own.Number = p.Number
			if g.Wrong {
				own.Transforms[len(own.Transforms)-1].ID++
			}
			return []ikev2.Payload{ikev2.SA(own), ikev2.KE(group, public), {Kind: ikev2.KindNonce, Body: make([]byte, 32)}}
		}
	}
	return []ikev2.Payload{ikev2.Notify(ikev2.NoProposalChosen, nil)}
}

// covers tells whether an offer has what a suite needs.
func covers(offer, own ikev2.Proposal) bool {
	for _, t := range own.Transforms {
		if t.Type != ikev2.PRF && !slices.Contains(offer.Transforms, t) {
			return false
		}
	}
	return true
}
