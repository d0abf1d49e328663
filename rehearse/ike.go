package rehearse

import (
	"bytes"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"syscall"
	"time"

	"wardicon/core/session/ipsec"
	"wardicon/core/suite"
)

// Ports of IKE (RFC 7296 §2, §2.23). On the second one four zeros stand before it (RFC 3948 §2.2).
const (
	portIKE  = 500
	portNATT = 4500
)

var marker = make([]byte, 4)

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

// local is the own address of a connection.
func (c *ikeConn) local() netip.Addr {
	if a, ok := c.conn.LocalAddr().(*net.UDPAddr); ok {
		return a.AddrPort().Addr().Unmap()
	}
	return netip.IPv4Unspecified()
}

// begin has an exchange begun with one address after the other, until one answers.
func (c *ikeConn) begin(addresses []netip.Addr, port uint16, begin func() error) (err error) {
	for i, at := range addresses {
		c.at = at
		if err = c.dial(port, false); err != nil {
			continue
		}
		if err = begin(); err == nil || !errors.Is(err, errSilent) || i == len(addresses)-1 {
			break
		}
	}
	return err
}

// write sends one message of IKE.
func (c *ikeConn) write(b []byte) error {
	if c.nat {
		b = append(marker[:len(marker):len(marker)], b...)
	}
	_, err := c.conn.Write(b)
	return err
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

// proposals are those of the file, else of the release, else what devices usually offer.
func (w *run) proposals(
	ike, esp, usualIKE, usualESP []string,
) (first, second []suite.Proposal, err error) {
	if w.As != nil {
		if a, ok := w.As.Row.Can[w.Connection.Protocol]; ok {
			if len(ike) == 0 {
				ike = a.IKE
			}
			if len(esp) == 0 {
				esp = a.ESP
			}
		}
	}
	if first, err = suite.ParseAll(orElse(ike, usualIKE)); err == nil {
		second, err = suite.ParseAll(orElse(esp, usualESP))
	}
	if err != nil {
		return nil, nil, because("file-broken", "%w", err)
	}
	return first, second, nil
}

// orElse is a list, or another where it is empty.
func orElse(a, b []string) []string {
	if len(a) == 0 {
		return b
	}
	return a
}

// verifyIKE checks the gateway's certificate, and that it carries the identity that the gateway
// gives.
func (w *run) verifyIKE(chain []*x509.Certificate, who ipsec.Identity) error {
	if err := w.trust(chain, true, w.serverUsage()...); err != nil {
		return err
	}
	if !who.In(chain[0]) {
		return because("certificate-name", "the gateway's certificate %q does not carry %s",
			called(chain[0]), who)
	}
	return nil
}
