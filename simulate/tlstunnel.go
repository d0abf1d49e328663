package simulate

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"encoding/binary"
	"io"
	"net"
	"net/netip"
	"sync"
	"time"

	"wardicon/core/session/tunnel"
	"wardicon/core/wire/tlstunnel"
	"wardicon/probe/reliable"
)

// wrapping is how the simulator wraps the control channel.
func (g *Gateway) wrapping() tlstunnel.Wrapping {
	if g.has(FaultKey) {
		key := make([]byte, tlstunnel.KeySize)
		_, _ = rand.Read(key)
		other, err := tlstunnel.Crypt(key, true)
		if err == nil {
			return other
		}
	}
	return g.Wrapping
}

// session is one client of the TLS tunnel. It begins when a packet can be opened.
type session struct {
	stream *reliable.Stream
	stop   context.CancelFunc
	signIn *signIn
}

// left tells whether a packet begins another session: the client of before is gone, and another one
// has its port.
func (s *session) left(b []byte) bool {
	if len(b) < 9 {
		return false
	}
	kind := tlstunnel.Opcode(b[0] >> 3)
	return (kind == tlstunnel.ClientReset || kind == tlstunnel.ClientResetV3) &&
		binary.BigEndian.Uint64(b[1:]) != s.signIn.client
}

// feed takes a packet of either channel.
func (s *session) feed(b []byte) {
	if tunnel.IsData(b) {
		s.signIn.packet(append([]byte{}, b...))
		return
	}
	s.stream.Feed(b)
}

// newSession begins with a client's first packet; it is nil where that cannot be opened: a gateway
// keeps silent then.
func (g *Gateway) newSession(first []byte, send func([]byte) error) *session {
	w := g.wrapping()
	p, err := w.Open(append([]byte{}, first...))
	if err != nil || p.Opcode != tlstunnel.ClientReset && p.Opcode != tlstunnel.ClientResetV3 {
		return nil
	}
	ctx, stop := context.WithTimeout(g.ctx, 20*time.Second)
	own := newSPI()
	s := &session{
		stop: stop,
		signIn: &signIn{
			g: g, send: send, client: p.Session, server: own, address: insideClient,
		},
		stream: reliable.New(ctx, reliable.Options{
			Wrapping: g.wrapping(),
			Session:  own,
			Server:   true,
			Send:     send,
			Waits:    []time.Duration{time.Second, 2 * time.Second, 4 * time.Second},
		}),
	}
	s.stream.Feed(append([]byte{}, first...))
	g.done.Go(func() {
		defer stop()
		if s.stream.Begin() != nil || g.has(FaultMidway) {
			return
		}
		server := tls.Server(s.stream, g.config)
		if server.HandshakeContext(ctx) == nil {
			s.signIn.run(ctx, server)
		}
	})
	return s
}

// tunnelUDP tells the clients of a port apart.
type tunnelUDP struct {
	g        *Gateway
	mu       sync.Mutex
	sessions map[netip.AddrPort]*session
}

// mostSessions bounds how many clients are remembered.
const mostSessions = 4096

func (t *tunnelUDP) packet(b []byte, from netip.AddrPort, answer reply) {
	t.mu.Lock()
	defer t.mu.Unlock()
	s := t.sessions[from]
	if s != nil && s.left(b) {
		s.stop()
		s = nil
	}
	if s == nil {
		if s = t.g.newSession(b, func(b []byte) error { answer(b); return nil }); s == nil {
			return
		}
		if len(t.sessions) >= mostSessions {
			clear(t.sessions)
		}
		t.sessions[from] = s
		return
	}
	s.feed(b)
}

// tunnelTCP answers one client by TCP.
func (g *Gateway) tunnelTCP(conn net.Conn) {
	var s *session
	for {
		var size [2]byte
		if _, err := io.ReadFull(conn, size[:]); err != nil {
			break
		}
		b := make([]byte, binary.BigEndian.Uint16(size[:]))
		if _, err := io.ReadFull(conn, b); err != nil {
			break
		}
		if s != nil && g.has(FaultMidway) {
			break
		}
		if s != nil {
			s.feed(b)
			continue
		}
		if s = g.newSession(b, func(b []byte) error {
			_, err := conn.Write(append(binary.BigEndian.AppendUint16(nil, uint16(len(b))), b...))
			return err
		}); s == nil {
			return // a key that is not known: it hangs up
		}
	}
	if s != nil {
		s.stream.Fail(io.EOF)
		s.stop()
	}
}
