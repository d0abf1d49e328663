package rehearse

import (
	"crypto/x509"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"time"

	"wardicon/core/inside"
	"wardicon/core/pki"
	"wardicon/core/rehearsal"
	"wardicon/core/session/ikev1"
	"wardicon/core/session/ipsec"
	l2tpsession "wardicon/core/session/l2tp"
	"wardicon/core/vpn"
)

// lastWait is that of L2TP after the others: it repeats at least five times (RFC 2661 §5.8).
const lastWait = 8 * time.Second

// portL2TP is that of both ends (RFC 2661 §8.1), within IPsec (RFC 3193 §3).
const portL2TP = 1701

// usualIKEv1 are proposals of devices that the file and the release say nothing of.
var (
	usualIKEv1 = []string{"aes256-sha256-modp2048", "aes256-sha1-modp2048", "aes128-sha1-modp2048",
		"aes256-sha1-modp1024", "3des-sha1-modp1024"}
	usualESPv1 = []string{"aes256-sha256", "aes256-sha1", "aes128-sha1", "3des-sha1"}
)

// l2tp rehearses a connection by L2TP/IPsec.
func (w *run) l2tp() error {
	login, password, err := w.credentials()
	if err != nil {
		return err
	}
	addresses, err := w.resolve()
	if err != nil {
		return err
	}
	s, err := w.firstPhase()
	if err != nil {
		return err
	}
	c := &ikeConn{ctx: w.ctx, at: addresses[0], wait: waits}
	defer c.close()
	err = c.begin(addresses, w.port(portIKE), func() error {
		s.Own, s.Gateway, s.Exchange = c.local(), c.at, c.exchange
		if w.Connection.L2TP.Auth != vpn.MachineCertificate && !s.Aggressive {
			s.Local = ipsec.ParseIdentity(s.Own.String(), nil) // as devices with a key do
		}
		return s.Begin()
	})
	if err != nil {
		return w.ikev1Fault(err, rehearsal.Exchange)
	}
	w.result.Gateway, w.result.Suite = c.at.String()+" by UDP, ports 500 and 4500", s.Suite
	w.passed(rehearsal.Exchange, s.Suite)
	if err := c.dial(w.port(portNATT), true); err != nil {
		return err
	}
	if err := s.Prove(); err != nil {
		w.certificates(s.Shown)
		return w.ikev1Fault(err, rehearsal.Gateway)
	}
	w.result.Proof = s.Proof
	w.certificates(s.Shown)
	w.passed(rehearsal.Gateway, s.Who.String()+" by "+s.Proof)
	tunnel, err := s.Child()
	if err != nil {
		return failing(rehearsal.Address, w.ikev1Fault(err, rehearsal.Address))
	}
	l := &l2tpLine{
		esp: &espTunnel{c, tunnel.Child}, confirmed: tunnel.Confirmed,
		own: netip.AddrPortFrom(s.Own, portL2TP), gateway: netip.AddrPortFrom(s.Gateway, portL2TP),
		whole: w.TunnelMode,
	}
	defer func() {
		if list, err := s.End(); err == nil {
			l.goodbye(list)
		}
	}()
	if err := l.open(); err != nil {
		return failing(rehearsal.Address, err)
	}
	link, err := w.openLink(l, linkOptions{
		login: login, password: password, within: "L2TP, ESP by " + tunnel.Suite,
	})
	if err != nil {
		return err
	}
	w.lookThrough(link)
	w.hangUp(func() error {
		b, err := l.tunnel.End()
		if err == nil {
			err = l.out(b)
		}
		return err
	})
	return nil
}

// firstPhase makes the session that a file asks for.
func (w *run) firstPhase() (*ikev1.Session, error) {
	o := w.Connection.L2TP
	ike, esp, err := w.proposals(o.IKE, o.ESP, usualIKEv1, usualESPv1)
	if err != nil {
		return nil, err
	}
	s := &ikev1.Session{Options: ikev1.Options{
		IKE: ike, ESP: esp, Aggressive: o.Aggressive, Protocol: inside.UDP, Port: portL2TP,
		Tunnel: w.TunnelMode, Random: random,
	}}
	if o.Auth != vpn.MachineCertificate {
		if s.PSK = o.PSK.Reveal(); s.PSK == "" {
			return nil, because("secret-missing", "the file has no pre-shared key")
		}
		if o.Group != "" {
			s.Local = ipsec.ParseIdentity("keyid:"+o.Group, nil)
		}
		return s, nil
	}
	id, err := w.identity()
	if err != nil {
		return nil, err
	}
	if s.Authorities, err = pki.Certificates(w.Connection.Authority); err != nil &&
		w.Connection.Authority != "" {
		return nil, because("authority-missing", "the CA in the file cannot be read: %w", err)
	}
	s.Key, s.Chain = id.Key, append([]*x509.Certificate{id.Leaf}, id.Chain...)
	s.Local = ipsec.ParseIdentity("", id.Leaf)
	if o.RemoteID != "" {
		who := ipsec.ParseIdentity(o.RemoteID, nil)
		s.Remote = &who
	}
	s.Verify = w.verifyIKE
	return s, nil
}

// ikev1Fault finds the likely cause of what went wrong in IKEv1.
func (w *run) ikev1Fault(err error, during rehearsal.StepName) error {
	var f *fault
	var refused *ikev1.RefusedError
	var who *ipsec.IdentityError
	psk := w.Connection.L2TP.Auth != vpn.MachineCertificate
	switch {
	case errors.As(err, &f):
		return err
	case errors.Is(err, ikev1.ErrKey):
		return because("key-wrong", "%w", err)
	case errors.Is(err, ikev1.ErrProof) && psk:
		return failing(rehearsal.Gateway, because("key-wrong", "%w", err))
	case errors.Is(err, errSilent) && during == rehearsal.Exchange:
		return because("gateway-no-response", "%w", err)
	case errors.Is(err, errSilent) && during == rehearsal.Gateway:
		return because("client-refused", "the gateway does not answer the device's certificate: %w",
			err)
	case errors.Is(err, errSilent):
		return because("child-suites-differ", "%w to the proposals for ESP", err)
	case errors.As(err, &who):
		return because("identity-differs", "%w", err)
	case errors.As(err, &refused):
		return because(refusedBy1(refused, psk), "%w", err)
	}
	return because("peer-confused", "%w", err)
}

func refusedBy1(e *ikev1.RefusedError, psk bool) string {
	switch e.Name() {
	case "NO-PROPOSAL-CHOSEN":
		if e.Child {
			return "child-suites-differ"
		}
		return "suites-differ"
	case "INVALID-ID-INFORMATION":
		if e.Child {
			return "selectors-differ"
		}
		return "identity-unknown"
	case "AUTHENTICATION-FAILED", "INVALID-HASH-INFORMATION", "PAYLOAD-MALFORMED",
		"INVALID-SIGNATURE", "INVALID-CERTIFICATE", "INVALID-CERT-AUTHORITY":
		if psk {
			return "key-wrong"
		}
		return "client-refused"
	case "INVALID-EXCHANGE-TYPE":
		return "options-differ"
	}
	return "peer-confused"
}

// l2tpLine carries PPP in a call of L2TP in ESP.
type l2tpLine struct {
	esp          *espTunnel
	tunnel       *l2tpsession.Tunnel
	confirmed    []byte // the last message of quick mode
	own, gateway netip.AddrPort
	whole        bool // tunnel mode: with an IP header
}

// out sends a message of L2TP. Without a checksum: of addresses that a NAT changes none would hold
// (RFC 3948 §3.1.2).
func (l *l2tpLine) out(message []byte) error {
	if l.whole {
		return l.esp.send(inside.Datagram(l.own, l.gateway, message))
	}
	b := binary.BigEndian.AppendUint16(nil, portL2TP)
	b = binary.BigEndian.AppendUint16(b, portL2TP)
	b = binary.BigEndian.AppendUint16(b, uint16(8+len(message)))
	return l.esp.send(append(append(b, 0, 0), message...))
}

// message reads what a packet of ESP carries.
func (l *l2tpLine) message(b []byte) ([]byte, bool) {
	if l.whole {
		p, err := inside.Read(b)
		return p.Payload, err == nil && p.Protocol == inside.UDP && p.From.Port() == portL2TP
	}
	if len(b) < 8 || int(binary.BigEndian.Uint16(b[4:])) > len(b) ||
		binary.BigEndian.Uint16(b[4:]) < 8 || binary.BigEndian.Uint16(b) != portL2TP {
		return nil, false
	}
	return b[8:binary.BigEndian.Uint16(b[4:])], true
}

func (l *l2tpLine) flush() error {
	for _, m := range l.tunnel.Take() {
		if err := l.out(m); err != nil {
			return err
		}
	}
	return nil
}

func (l *l2tpLine) write(frame []byte) error { return l.out(l.tunnel.Data(frame)) }

func (l *l2tpLine) read(until time.Time) ([]byte, error) {
	for {
		b, err := l.esp.receive(until)
		if errors.Is(err, os.ErrDeadlineExceeded) {
			l.tunnel.Again() // the last message of the call may be lost
			if err := l.flush(); err != nil {
				return nil, err
			}
		}
		if err != nil {
			return nil, err
		}
		m, ok := l.message(b)
		if !ok {
			continue
		}
		frame := l.tunnel.Receive(m)
		if err := l.flush(); err != nil {
			return nil, err
		}
		switch {
		case l.tunnel.Phase == l2tpsession.Ended:
			return nil, fmt.Errorf("%w: %s", errAborted, l.tunnel.Reason)
		case frame != nil:
			return frame, nil
		case l.tunnel.Phase == l2tpsession.Up && l.confirmed != nil:
			return nil, nil // the call has come up
		}
	}
}

// open begins a tunnel and a call in it.
func (l *l2tpLine) open() error {
	var b [4]byte
	if _, err := io.ReadFull(random, b[:]); err != nil {
		return err
	}
	l.tunnel = l2tpsession.New(l2tpsession.Config{
		HostName: "device", Tunnel: binary.BigEndian.Uint16(b[:]) | 1,
		Session: binary.BigEndian.Uint16(b[2:]) | 1,
	})
	for _, wait := range append(waits[:len(waits):len(waits)], lastWait) {
		// Whether the gateway got the last message of quick mode is not known before a packet
		// comes.
		if err := l.esp.conn.write(l.confirmed); err != nil {
			return err
		}
		if err := l.flush(); err != nil {
			return err
		}
		until := time.Now().Add(wait)
		for {
			_, err := l.read(until)
			if err == nil {
				l.confirmed = nil
				return nil
			}
			if errors.Is(err, os.ErrDeadlineExceeded) {
				break
			}
			return because("protocol-refused", "%w", err)
		}
	}
	return because("ppp-silent", "IPsec is up, and the gateway does not respond to L2TP in it")
}

// goodbye tells the gateway that its associations are over; nothing answers that.
func (l *l2tpLine) goodbye(messages [][]byte) {
	for _, m := range messages {
		_ = l.esp.conn.write(m)
	}
}
