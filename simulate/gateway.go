package simulate

import (
	"bufio"
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"wardicon/core/pki"
	"wardicon/core/suite"
	"wardicon/core/vpn"
	"wardicon/core/wire/tlstunnel"
)

// Fault is something that is wrong with a simulator for a gateway.
type Fault string

// The faults.
const (
	FaultSilent Fault = "no-response" // it answers nothing
	FaultClosed Fault = "closed"      // it ends each connection at once
	// it answers the first message of a protocol and no other
	FaultMidway  Fault = "midway"
	FaultSlow    Fault = "slow"    // each answer takes 1.2 seconds
	FaultLossy   Fault = "lossy"   // the first two packets of each port are lost
	FaultGarbage Fault = "garbage" // it answers with noise alone
	FaultNoise   Fault = "noise"   // noise comes before each answer
	FaultNAT     Fault = "nat"     // it sees other addresses than its own and the client's
	// it takes only what nobody should offer: 3des-sha1-modp1024
	FaultSuite      Fault = "suite"
	FaultGroup      Fault = "group"      // it asks for group 19 in the place of any other
	FaultChoice     Fault = "choice"     // it chooses what was not offered
	FaultCookies    Fault = "cookies"    // it is under load and wants a cookie first
	FaultRedirect   Fault = "redirect"   // it sends clients to another gateway
	FaultAggressive Fault = "aggressive" // it answers aggressive mode, with a hash of its key
	FaultBare       Fault = "bare"       // it answers L2TP without IPsec
	// its certificate is of another authority, for another name
	FaultCertificate Fault = "certificate"
	FaultExpired     Fault = "ended"     // its certificate ended yesterday
	FaultOldTLS      Fault = "old-tls"   // it has TLS 1.0 alone
	FaultRealm       Fault = "realm"     // it introduces itself as somebody else
	FaultKey         Fault = "key"       // its control-channel key is another one
	FaultPort4500    Fault = "port-4500" // it answers on port 500, but not on 4500
)

// Faults lists them all.
var Faults = []Fault{
	FaultSilent,
	FaultClosed,
	FaultMidway,
	FaultSlow,
	FaultLossy,
	FaultGarbage,
	FaultNoise,
	FaultNAT,
	FaultSuite,
	FaultGroup,
	FaultChoice,
	FaultCookies,
	FaultRedirect,
	FaultAggressive,
	FaultBare,
	FaultCertificate,
	FaultExpired,
	FaultOldTLS,
	FaultRealm,
	FaultKey,
	FaultPort4500,
}

// Gateway is a simulator for a gateway with any of the five protocols, on loopback. Its fields may
// be set before it is started, and its faults while it runs.
type Gateway struct {
	Name      string // host name; empty means gateway.example
	Bind      netip.Addr
	Protocols []vpn.Protocol   // none means all
	Suites    []suite.Proposal // that it takes, the best first; none means usual ones
	// what it shows by TLS; nil makes one under an authority of its own
	Identity *pki.Identity
	Wrapping tlstunnel.Wrapping // of the control channel, as the server
	Tunnel   []vpn.Remote       // ports of the TLS tunnel on record; none means 1194 by UDP

	// ports to listen on, by the port that they stand for; free ones where none is named
	Fixed map[int]int

	// Accounts are the passwords by login; with them SSTP, L2TP and PPTP go on with PPP, by
	// Methods.
	Accounts map[string]string
	Methods  []suite.PPPMethod
	// Certificates of clients are asked for; by EAP-TLS in IKEv2.
	Certificates, EAPTLS bool
	// EAPBoth takes passwords by EAP too from who rejects EAP-TLS.
	EAPBoth bool
	// EAPOnly leaves the gateway's proof to EAP-TLS where the device allows it (RFC 5998).
	EAPOnly bool
	PSK     string       // of IKEv2
	KeyL2TP string       // pre-shared key of L2TP/IPsec; without it by certificate
	MPPE    []suite.MPPE // of PPTP
	IPv6    netip.Prefix // that devices get by PPP; invalid means none
	DNS     []netip.Addr // that devices are given; none means a usual one
	IKEv2ID string       // how it calls itself there; empty means its name

	// Authority vouches for what was made where no identity was given, PEM.
	Authority string

	mu     sync.Mutex
	faults []Fault
	links  []LinkSeen

	associations associations

	lost   map[int]int
	ports  map[int]int
	config *tls.Config

	shownIdentity func() *pki.Identity // with or without a fault

	ctx   context.Context
	stop  context.CancelFunc
	close []func() error
	loops []func() // begin when every port is known
	done  sync.WaitGroup
}

// Start starts a simulator with some faults.
func (g *Gateway) Start(faults ...Fault) (err error) {
	if g.Name == "" {
		g.Name = "gateway.example"
	}
	if !g.Bind.IsValid() {
		g.Bind = netip.MustParseAddr("127.0.0.1")
	}
	if len(g.Protocols) == 0 {
		g.Protocols = vpn.Protocols
	}
	if len(g.Suites) == 0 {
		if g.Suites, err = suite.ParseAll(
			[]string{
				"aes256-sha256-ecp256",
				"aes256-sha256-modp2048",
				"aes256gcm16-prfsha384-ecp384",
			},
		); err != nil {
			return err
		}
	}
	if len(g.Tunnel) == 0 {
		g.Tunnel = []vpn.Remote{{Port: 1194, Transport: vpn.UDP}}
	}
	g.faults, g.lost, g.ports = faults, map[int]int{}, map[int]int{}
	maps.Copy(g.ports, g.Fixed)
	g.ctx, g.stop = context.WithCancel(context.Background())
	if err := g.certify(); err != nil {
		return err
	}
	has := func(p vpn.Protocol) bool { return slices.Contains(g.Protocols, p) }
	if has(vpn.IKEv2) || has(vpn.L2TP) {
		err = errors.Join(g.udp(500, g.ike), g.udp(4500, g.ike))
	}
	if has(vpn.L2TP) {
		err = errors.Join(err, g.udp(1701, g.l2tp))
	}
	if has(vpn.PPTP) {
		err = errors.Join(err, g.tcp(1723, g.pptp))
	}
	if has(vpn.SSTP) {
		err = errors.Join(err, g.tcp(443, g.shared(443)))
	}
	for _, r := range g.Tunnel {
		switch {
		case !has(vpn.TLS), r.Transport == vpn.TCP && r.Port == 443 && has(vpn.SSTP):
		case r.Transport == vpn.TCP:
			err = errors.Join(err, g.tcp(r.Port, g.tunnelTCP))
		default:
			t := &tunnelUDP{g: g, sessions: map[netip.AddrPort]*session{}}
			err = errors.Join(err, g.udp(r.Port, t.packet))
		}
	}
	if err != nil {
		return errors.Join(err, g.Close())
	}
	for _, loop := range g.loops {
		g.done.Go(loop)
	}
	return nil
}

// Close ends the simulator.
func (g *Gateway) Close() error {
	g.stop()
	var err error
	for _, end := range g.close {
		err = errors.Join(err, end())
	}
	g.done.Wait()
	return err
}

// Ports are where the ports on record are answered.
func (g *Gateway) Ports() map[int]int { return g.ports }

// At is where a port on record is answered.
func (g *Gateway) At(port int) netip.AddrPort {
	return netip.AddrPortFrom(g.Bind, uint16(g.ports[port]))
}

// Break gives the simulator other faults.
func (g *Gateway) Break(faults ...Fault) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.faults, g.lost = faults, map[int]int{}
}

func (g *Gateway) has(f Fault) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return slices.Contains(g.faults, f)
}

// lose tells whether a packet to a port is lost on its way.
func (g *Gateway) lose(port int) bool {
	if !g.has(FaultLossy) {
		return false
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	g.lost[port]++
	return g.lost[port] <= 2
}

// pause lets a slow simulator wait.
func (g *Gateway) pause() {
	if g.has(FaultSlow) {
		select {
		case <-time.After(slowness):
		case <-g.ctx.Done():
		}
	}
}

const slowness = 1200 * time.Millisecond

// introduced is the name that the simulator gives itself.
func (g *Gateway) introduced() string {
	if g.has(FaultRealm) {
		return "pilots.other.example"
	}
	return g.Name
}

// shared answers SSTP and, where it is on record for the same port, the TLS tunnel: a TLS record
// begins with 22, a packet of the tunnel with its length.
func (g *Gateway) shared(port int) func(net.Conn) {
	if !slices.Contains(g.Protocols, vpn.TLS) ||
		!slices.Contains(g.Tunnel, vpn.Remote{Port: port, Transport: vpn.TCP}) {
		return g.sstp
	}
	return func(conn net.Conn) {
		in := bufio.NewReader(conn)
		peeked := &buffered{conn, in}
		switch first, err := in.Peek(1); {
		case err != nil:
		case first[0] == 22:
			g.sstp(peeked)
		default:
			g.tunnelTCP(peeked)
		}
	}
}

// buffered is a connection of which something was looked at already.
type buffered struct {
	net.Conn
	in *bufio.Reader
}

func (b *buffered) Read(p []byte) (int, error) { return b.in.Read(p) }

// reply sends a packet back.
type reply func([]byte)

// udp answers packets on a port of its own in the place of one on record.
func (g *Gateway) udp(
	port int,
	handle func(packet []byte, from netip.AddrPort, answer reply),
) error {
	conn, err := net.ListenUDP(
		"udp",
		net.UDPAddrFromAddrPort(netip.AddrPortFrom(g.Bind, uint16(g.ports[port]))),
	)
	if err != nil {
		return err
	}
	g.close = append(g.close, conn.Close)
	g.ports[port] = conn.LocalAddr().(*net.UDPAddr).Port
	g.loops = append(g.loops, func() {
		b := make([]byte, 64<<10)
		for {
			n, from, err := conn.ReadFromUDPAddrPort(b)
			if err != nil {
				return // closed
			}
			if g.has(FaultSilent) || port == 4500 && g.has(FaultPort4500) || g.lose(port) {
				continue
			}
			answer := func(b []byte) { _, _ = conn.WriteToUDPAddrPort(b, from) }
			packet := slices.Clone(b[:n])
			work := func() {
				if g.has(FaultGarbage) || g.has(FaultNoise) {
					answer([]byte(rand.Text()))
				}
				if !g.has(FaultGarbage) {
					handle(packet, from, answer)
				}
			}
			if !g.has(FaultSlow) {
				work()
				continue
			}
			g.done.Go(func() {
				g.pause()
				work()
			})
		}
	})
	return nil
}

// tcp answers connections on a port of its own in the place of one on record.
func (g *Gateway) tcp(port int, handle func(net.Conn)) error {
	listener, err := net.Listen("tcp", netip.AddrPortFrom(g.Bind, uint16(g.ports[port])).String())
	if err != nil {
		return err
	}
	g.close = append(g.close, listener.Close)
	g.ports[port] = listener.Addr().(*net.TCPAddr).Port
	g.loops = append(g.loops, func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return // closed
			}
			g.done.Go(func() {
				end := context.AfterFunc(g.ctx, func() { _ = conn.Close() })
				defer end()
				defer func() { _ = conn.Close() }()
				_ = conn.SetDeadline(time.Now().Add(30 * time.Second))
				switch {
				case g.has(FaultSilent):
					_, _ = conn.Read(make([]byte, 1))
					<-g.ctx.Done()
				case g.has(FaultClosed):
					_, _ = conn.Read(make([]byte, 2048))
				case g.has(FaultGarbage):
					g.pause()
					_, _ = conn.Read(make([]byte, 2048))
					_, _ = fmt.Fprintf(conn, "%s\n", strings.Repeat(rand.Text(), 8))
				default:
					g.pause()
					handle(conn)
				}
			})
		}
	})
	return nil
}
