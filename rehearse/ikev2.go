package rehearse

import (
	"bytes"
	"cmp"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"strings"
	"syscall"
	"time"

	"wardicon/core/pki"
	"wardicon/core/rehearsal"
	"wardicon/core/session/eap"
	"wardicon/core/session/ikev2"
	"wardicon/core/session/ipsec"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// Ports of IKE (RFC 7296 §2, §2.23). On the second one four zeros stand before it (RFC 3948 §2.2).
const (
	portIKE  = 500
	portNATT = 4500
)

var marker = make([]byte, 4)

// usual are proposals of devices that the file and the release say nothing of.
var (
	usualIKE = []string{"aes256-sha256-modp2048", "aes256gcm16-prfsha384-ecp384",
		"aes256-sha256-ecp256", "aes128-sha256-modp2048"}
	usualESP = []string{"aes256gcm16", "aes256-sha256", "aes128gcm16", "aes256-sha1"}
)

// ikeConn is the way to a gateway: one socket, then another on the port for encapsulated packets.
type ikeConn struct {
	ctx  context.Context
	at   netip.Addr
	conn net.Conn
	nat  bool
	ike  chan []byte
	esp  chan []byte
	lost chan error
	wait []time.Duration // for an answer, before it is asked again
}

func (c *ikeConn) dial(port uint16, nat bool) error {
	conn, err := (&net.Dialer{}).DialContext(c.ctx, "udp",
		netip.AddrPortFrom(c.at, port).String())
	if err != nil {
		return err
	}
	c.close()
	c.conn, c.nat = conn, nat
	c.ike, c.lost = make(chan []byte, 64), make(chan error, 1)
	if c.esp == nil {
		c.esp = make(chan []byte, 256)
	}
	go c.receive(conn, nat, c.ike, c.lost)
	return nil
}

func (c *ikeConn) receive(conn net.Conn, nat bool, ike chan<- []byte, lost chan<- error) {
	b := make([]byte, 64<<10)
	for {
		n, err := conn.Read(b)
		if errors.Is(err, syscall.ECONNREFUSED) {
			select {
			case lost <- err:
			default:
			}
			continue
		}
		if err != nil {
			return
		}
		to, packet := ike, bytes.Clone(b[:n])
		switch {
		case nat && bytes.HasPrefix(packet, marker):
			packet = packet[len(marker):]
		case nat && n > 8:
			to = c.esp
		case nat:
			continue // a keepalive
		}
		select {
		case to <- packet:
		default: // a flood: what is not taken is lost, as on a network
		}
	}
}

func (c *ikeConn) close() {
	if c.conn != nil {
		_ = c.conn.Close()
	}
}

// exchange sends datagrams until take has what answers them.
func (c *ikeConn) exchange(datagrams [][]byte, take func([]byte) bool) error {
	refused := false
	for _, wait := range c.wait {
		for _, d := range datagrams {
			if err := c.write(d); err != nil && !errors.Is(err, syscall.ECONNREFUSED) {
				return err
			}
		}
		timer := time.NewTimer(wait)
		for waiting := true; waiting; {
			select {
			case b := <-c.ike:
				if take(b) {
					timer.Stop()
					return nil
				}
			case <-c.lost:
				refused, waiting = true, false
			case <-timer.C:
				waiting = false
			case <-c.ctx.Done():
				timer.Stop()
				return c.ctx.Err()
			}
		}
		timer.Stop()
	}
	if refused {
		return fmt.Errorf("%w: the port is closed", errSilent)
	}
	return errSilent
}

// ikev2 rehearses a connection by IKEv2.
func (w *run) ikev2() error {
	addresses, err := w.resolve()
	if err != nil {
		return err
	}
	s, err := w.initiator()
	if err != nil {
		return err
	}
	if s.EAP != nil {
		if m, ok := s.EAP.Method.(*eap.TLS); ok {
			defer m.Close()
		}
	}
	c := &ikeConn{ctx: w.ctx, at: addresses[0], wait: waits}
	defer c.close()
	err = c.begin(addresses, w.port(portIKE), func() error {
		s.Exchange = c.exchange
		return s.Begin()
	})
	if err != nil {
		return w.ikeFault(err, rehearsal.Exchange)
	}
	w.result.Gateway, w.result.Suite = c.at.String()+" by UDP, ports 500 and 4500", s.Suite
	w.passed(rehearsal.Exchange, s.Suite)
	if err := c.dial(w.port(portNATT), true); err != nil {
		return err
	}
	in, err := s.SignIn(func(p ikev2.Phase) {
		switch p {
		case ikev2.GatewayProven:
			w.certificates(s.Shown)
			w.result.Proof = s.Proof
			w.passed(rehearsal.Gateway, s.Who.String()+", by "+s.Proof)
		case ikev2.SignedIn:
			w.passed(rehearsal.SignIn, w.signedInBy())
		}
	})
	if err != nil {
		w.certificates(s.Shown)
		return w.ikeFault(err, rehearsal.SignIn)
	}
	defer func() {
		c.wait = []time.Duration{goodbye}
		w.hangUp(s.End)
	}()
	w.result.Tunnel, w.result.Addresses = in.Child.Suite, in.Addresses
	w.result.DNS, w.result.Domains = in.DNS, cleaned(in.Domains)
	for _, r := range in.Selectors {
		w.result.Routes = append(w.result.Routes, r.String())
	}
	if len(in.Addresses) == 0 {
		return because("pool-empty", "the gateway gave no address")
	}
	w.passed(rehearsal.Address, join(in.Addresses)+", "+in.Child.Suite)
	w.compare(in.DNS, in.Domains)
	w.carriedIKEv2(in)
	w.look(&espTunnel{c, in.Child}, in.Addresses, in.DNS)
	w.result.Sent, w.result.Received = in.Child.Traffic()
	return nil
}

// hangUp ends what stands, even if time is up: the gateway should not keep it.
func (w *run) hangUp(end func() error) {
	if err := end(); err != nil {
		w.passed(rehearsal.HangUp, "the gateway did not confirm it")
		return
	}
	w.passed(rehearsal.HangUp, "")
}

func (w *run) signedInBy() string {
	switch c := w.Connection; c.IKEv2.Auth {
	case vpn.IKEv2MSCHAPv2:
		return "login " + c.Login + " by EAP-MSCHAPv2"
	case vpn.IKEv2EAPTLS:
		return "certificate by EAP-TLS"
	case vpn.IKEv2PSK:
		return "pre-shared key"
	}
	return "certificate"
}

// initiator makes the session that a file asks for.
func (w *run) initiator() (*ikev2.Session, error) {
	c, o := w.Connection, w.Connection.IKEv2
	ike, esp := w.proposals(o.IKE, o.ESP, usualIKE, usualESP)
	s := &ikev2.Session{Options: ikev2.Options{
		Fragment: !o.NoFragmentation, MOBIKE: !o.NoMOBIKE, Random: random,
	}}
	var err error
	if s.IKE, err = suite.ParseAll(ike); err == nil {
		s.Child, err = suite.ParseAll(esp)
	}
	if err != nil {
		return nil, because("file-broken", "%w", err)
	}
	if s.Authorities, err = pki.Certificates(c.Authority); err != nil && c.Authority != "" {
		return nil, because("authority-missing", "the CA in the file cannot be read: %w", err)
	}
	if remote := cmp.Or(o.RemoteID, c.Server); remote != "%any" {
		id := ipsec.ParseIdentity(remote, nil)
		s.Remote = &id
	}
	s.Verify = func(chain []*x509.Certificate, who ipsec.Identity) error {
		if err := w.trust(chain, true, w.serverUsage()...); err != nil {
			return err
		}
		if !who.In(chain[0]) {
			return because("certificate-name", "the gateway's certificate %q does not carry %s",
				called(chain[0]), who)
		}
		return nil
	}
	return s, w.proofs(s)
}

// proofs puts in what the device proves itself with.
func (w *run) proofs(s *ikev2.Session) error {
	o := w.Connection.IKEv2
	switch o.Auth {
	case vpn.IKEv2PSK:
		if s.PSK = o.PSK.Reveal(); s.PSK == "" {
			return because("secret-missing", "the file has no pre-shared key")
		}
		s.Local = ipsec.ParseIdentity(cmp.Or(o.LocalID, "0.0.0.0"), nil)
	case vpn.IKEv2MSCHAPv2:
		login, password, err := w.credentials()
		if err != nil {
			return err
		}
		s.Local = ipsec.ParseIdentity(cmp.Or(o.LocalID, login), nil)
		s.EAP = &eap.Conversation{Name: login, Method: &eap.MSCHAP{
			Login: login, Password: password, Random: random,
		}}
	default:
		id, err := w.identity()
		if err != nil {
			return err
		}
		s.Local = ipsec.ParseIdentity(o.LocalID, id.Leaf)
		if o.Auth == vpn.IKEv2Certificate {
			s.Key, s.Chain = id.Key, append([]*x509.Certificate{id.Leaf}, id.Chain...)
			return nil
		}
		s.EAP = &eap.Conversation{
			Name: s.Local.String(), Method: &eap.TLS{Config: w.tlsOfEAP(id)},
		}
	}
	return nil
}

// ikeFault finds the likely cause of what went wrong in IKE.
func (w *run) ikeFault(err error, during rehearsal.StepName) error {
	var f *fault
	var refused *ikev2.RefusedError
	var rejected *eap.RejectedError
	var other *eap.OtherMethodError
	var who *ipsec.IdentityError
	var moved *ikev2.RedirectedError
	auth := w.Connection.IKEv2.Auth
	switch {
	case errors.As(err, &f):
		return err
	case errors.Is(err, errSilent):
		if during == rehearsal.SignIn {
			return because("packet-size", "%w after the key exchange", err)
		}
		return because("gateway-no-response", "%w", err)
	case errors.As(err, &rejected):
		if auth == vpn.IKEv2EAPTLS {
			return because("client-refused", "%w", err)
		}
		return because("password-wrong", "%w", err)
	case errors.As(err, &other):
		return because("methods-differ", "%w", err)
	case errors.As(err, &who):
		return because("identity-differs", "%w", err)
	case errors.As(err, &moved):
		return because("", "%w", err)
	case errors.Is(err, ikev2.ErrProof):
		if auth == vpn.IKEv2PSK {
			return because("key-wrong", "%w", err)
		}
		return because("peer-confused", "%w", err)
	case errors.Is(err, eap.ErrUnproven):
		return because("mutual-failed", "%w", err)
	case errors.As(err, &refused):
		err = because(w.refusal(refused), "%w", err)
		if during == rehearsal.SignIn && !refused.Child &&
			refused.Name() == "AUTHENTICATION_FAILED" {
			// It rejects the device, whatever it has shown by then.
			err = failing(rehearsal.SignIn, err)
		}
		return err
	case strings.Contains(err.Error(), "EAP-TLS"):
		return because("client-refused", "%w", err)
	}
	return because("peer-confused", "%w", err)
}

// refusal is the likely cause of an error that the gateway notified.
func (w *run) refusal(e *ikev2.RefusedError) string {
	switch e.Name() {
	case "NO_PROPOSAL_CHOSEN":
		if e.Child {
			return "child-suites-differ"
		}
		return "suites-differ"
	case "INVALID_KE_PAYLOAD":
		return "group-differs"
	case "AUTHENTICATION_FAILED":
		proven := slices.ContainsFunc(w.result.Steps, func(s rehearsal.Step) bool {
			return s.Name == rehearsal.Gateway
		})
		switch w.Connection.IKEv2.Auth {
		case vpn.IKEv2PSK:
			return "key-wrong"
		case vpn.IKEv2Certificate:
			return "client-refused"
		case vpn.IKEv2MSCHAPv2:
			if proven {
				return "password-wrong"
			}
		}
		return "identity-unknown"
	case "INTERNAL_ADDRESS_FAILURE", "FAILED_CP_REQUIRED":
		return "pool-empty"
	case "TS_UNACCEPTABLE":
		return "selectors-differ"
	}
	return "peer-confused"
}

// espTunnel carries packets in ESP in UDP.
type espTunnel struct {
	conn  *ikeConn
	child *ipsec.Child
}

func (t *espTunnel) send(packet []byte) error {
	b, err := t.child.Seal(packet, random)
	if err == nil {
		_, err = t.conn.conn.Write(b)
	}
	return err
}

func (t *espTunnel) receive(until time.Time) ([]byte, error) {
	for {
		select {
		case b := <-t.conn.esp:
			if packet, err := t.child.Open(b); err == nil {
				return packet, nil
			}
		case <-time.After(time.Until(until)):
			return nil, os.ErrDeadlineExceeded
		case <-t.conn.ctx.Done():
			return nil, t.conn.ctx.Err()
		}
	}
}
