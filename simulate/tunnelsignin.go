package simulate

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/subtle"
	"crypto/tls"
	"errors"
	"net/netip"
	"strings"
	"sync"

	"wardicon/core/session/tunnel"
)

// signIn goes on where the control channel of the TLS tunnel stands: keys, sign-in, options, and
// the data channel to the network behind.
type signIn struct {
	g       *Gateway
	send    func([]byte) error
	client  uint64
	server  uint64
	address netip.Addr

	mu   sync.Mutex
	data *tunnel.Data
}

// run serves one client until it goes.
func (s *signIn) run(ctx context.Context, conn *tls.Conn) {
	var came []byte
	b := make([]byte, 4096)
	read := func() bool {
		n, err := conn.Read(b)
		came = append(came, b[:n]...)
		return err == nil && len(came) < 1<<16 && ctx.Err() == nil
	}
	var greeting tunnel.Greeting
	var err error
	for {
		if greeting, came, err = tunnel.ReadHello(came); err == nil {
			break
		}
		if !errors.Is(err, tunnel.ErrMore) || !read() {
			return
		}
	}
	theirs, err := tunnel.NewTheirs(rand.Reader)
	if err != nil {
		return
	}
	if _, err := conn.Write(theirs.Bytes()); err != nil {
		return
	}
	allowed := s.allows(greeting, conn.ConnectionState())
	for !bytes.Contains(came, []byte("PUSH_REQUEST\x00")) {
		if !read() {
			return
		}
	}
	cipher := "AES-256-GCM"
	if list := greeting.Info["IV_CIPHERS"]; !strings.Contains(list, cipher) {
		_, _ = conn.Write([]byte("AUTH_FAILED,Data channel cipher negotiation failed (no shared " +
			"cipher)\x00"))
		return
	}
	if !allowed {
		_, _ = conn.Write([]byte("AUTH_FAILED\x00"))
		return
	}
	p := tunnel.Pushed{Peer: 1}
	material := tunnel.Material(greeting.Own, theirs, s.client, s.server)
	data, err := tunnel.NewServerData(material, cipher, "", p)
	if err != nil {
		return
	}
	s.mu.Lock()
	s.data = data
	s.mu.Unlock()
	if _, err := conn.Write([]byte("PUSH_REPLY,topology subnet,route-gateway 10.20.0.1,ifconfig " +
		s.address.String() + " 255.255.0.0,route 10.20.0.0 255.255.0.0,dhcp-option DNS " +
		s.g.resolver().String() + ",peer-id 1,cipher " + cipher + "\x00")); err != nil {
		return
	}
	<-ctx.Done()
}

// allows tells whether a client may in: by an account, or by a certificate where there are none.
func (s *signIn) allows(g tunnel.Greeting, state tls.ConnectionState) bool {
	if g.Login == "" {
		return len(state.PeerCertificates) > 0 || len(s.g.Accounts) == 0
	}
	password, known := s.g.Accounts[g.Login]
	return known && subtle.ConstantTimeCompare([]byte(password), []byte(g.Password)) == 1
}

// packet takes one of the data channel, and answers as the network behind does.
func (s *signIn) packet(b []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.data == nil {
		return
	}
	packet, err := s.data.Open(b)
	if err != nil || packet == nil {
		return
	}
	if answer := inner(packet); answer != nil {
		if sealed, err := s.data.Seal(answer, rand.Reader); err == nil {
			_ = s.send(sealed)
		}
	}
}
