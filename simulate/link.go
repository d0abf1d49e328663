package simulate

import (
	"bufio"
	"crypto/rand"
	"io"
	"net"
	"net/netip"
	"time"

	"wardicon/core/session/eap"
	pppsession "wardicon/core/session/ppp"
	"wardicon/core/suite"
	"wardicon/core/wire/sstp"
)

// Addresses within a simulator's network.
var (
	insideHost   = netip.MustParseAddr("10.20.0.1")
	insideClient = netip.MustParseAddr("10.20.0.199")
	insideNames  = netip.MustParseAddr("10.20.0.53")
)

// newLink is a gateway's end of PPP, for the accounts that the simulator knows.
func (g *Gateway) newLink(mppe []suite.MPPE) (*pppsession.Link, error) {
	methods := g.Methods
	if len(methods) == 0 {
		methods = []suite.PPPMethod{suite.MSCHAPv2}
	}
	lookup := func(login string) (string, bool) {
		password, known := g.Accounts[login]
		return password, known
	}
	server := &eap.Server{Lookup: lookup, Random: rand.Reader}
	if g.EAPTLS {
		server.TLS = g.eapTLS()
	}
	return pppsession.New(pppsession.Config{
		Gateway: true,
		Methods: methods,
		Address: insideHost,
		Peer:    insideClient,
		DNS:     g.resolvers(),
		MPPE:    mppe,
		IPv6:    g.IPv6.IsValid(),
		Random:  rand.Reader,
		Lookup:  lookup,
		Server:  server,
	})
}

// note keeps how far a client came.
func (g *Gateway) note(l *pppsession.Link, bound bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.links = append(
		g.links,
		LinkSeen{
			Login: l.Login, Method: l.Method, Phase: l.Phase, Reason: l.Reason, Bound: bound,
		},
	)
}

// LinkSeen is how far the PPP of one client came.
type LinkSeen struct {
	Login  string
	Method suite.PPPMethod
	Phase  pppsession.Phase
	Reason string
	Bound  bool // SSTP: to TLS, by the keys of the sign-in
}

// Links lists the clients that came as far as PPP, and have gone.
func (g *Gateway) Links() []LinkSeen {
	g.mu.Lock()
	defer g.mu.Unlock()
	return append([]LinkSeen{}, g.links...)
}

// carry speaks PPP within SSTP until one side ends it.
func (g *Gateway) carry(conn net.Conn, in *bufio.Reader, nonce [32]byte) {
	link, err := g.newLink(nil)
	if err != nil {
		return
	}
	bound := false
	defer func() { g.note(link, bound) }()
	data := func(frame []byte) bool {
		_, err := conn.Write(sstp.Data(frame))
		return err == nil
	}
	var header [4]byte
	for {
		for _, frame := range link.Take() {
			if !data(frame) {
				return
			}
		}
		if link.Phase == pppsession.Ended {
			return
		}
		_ = conn.SetReadDeadline(time.Now().Add(10 * time.Second))
		if _, err := io.ReadFull(in, header[:]); err != nil {
			return
		}
		size, control, err := sstp.Frame(header)
		if err != nil {
			return
		}
		b := append(header[:], make([]byte, size-4)...)
		if _, err := io.ReadFull(in, b[4:]); err != nil {
			return
		}
		if control {
			m, err := sstp.Decode(b)
			if err != nil || m.Kind == sstp.Abort || m.Kind == sstp.Disconnect {
				return
			}
			if m.Kind == sstp.Connected {
				bound = sstp.Bound(b, nonce[:], g.shownIdentity().Leaf.Raw, link.Keys())
			}
			continue
		}
		g.through(link, b[4:], func(frame []byte) { _ = data(frame) })
	}
}
