package rehearse

import (
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"wardicon/core/rehearsal"
	"wardicon/core/session/tunnel"
	"wardicon/core/vpn"
	"wardicon/core/wire/tlstunnel"
	"wardicon/probe/reliable"
)

// Bounds of a session of the TLS tunnel.
const (
	pushIn      = 15 * time.Second
	mostControl = 256 << 10 // bytes that a gateway says before it pushes
	mostPacket  = 64 << 10
)

var usualCiphers = []string{"AES-256-GCM", "AES-128-GCM", "CHACHA20-POLY1305"}

// link is the way to a gateway of the TLS tunnel: packets of the control channel go to the stream,
// those of the data channel to a queue.
type link struct {
	ctx     context.Context
	conn    net.Conn
	tcp     bool
	session uint64
	stream  *reliable.Stream
	data    chan []byte
	refused atomic.Bool // the host says that nothing listens there
}

func (l *link) send(b []byte) error {
	if l.tcp {
		b = append(binary.BigEndian.AppendUint16(nil, uint16(len(b))), b...)
	}
	_, err := l.conn.Write(b)
	if errors.Is(err, syscall.ECONNREFUSED) {
		return nil // what was sent before; silence tells as much
	}
	return err
}

func (l *link) read(b []byte) (int, error) {
	if !l.tcp {
		return l.conn.Read(b)
	}
	var size [2]byte
	if _, err := io.ReadFull(l.conn, size[:]); err != nil {
		return 0, err
	}
	n := int(binary.BigEndian.Uint16(size[:]))
	return io.ReadFull(l.conn, b[:n])
}

func (l *link) receive() {
	b := make([]byte, mostPacket)
	for {
		n, err := l.read(b)
		if errors.Is(err, syscall.ECONNREFUSED) {
			l.refused.Store(true)
			continue
		}
		if err != nil {
			l.stream.Fail(err)
			return
		}
		packet := bytes.Clone(b[:n])
		if !tunnel.IsData(packet) {
			l.stream.Feed(packet)
			continue
		}
		select {
		case l.data <- packet:
		default: // a flood: what is not taken is lost, as on a network
		}
	}
}

// wrapping is how a file protects the control channel.
func (w *run) wrapping() (wrap tlstunnel.Wrapping, err error) {
	s := w.Connection.TLS
	if s.Control == nil {
		return wrap, nil
	}
	wrap, err = tlstunnel.Wrap(
		s.Control.Kind,
		s.Control.Key.Reveal(),
		s.Control.Direction,
		s.Digest,
	)
	if err != nil {
		return wrap, failing(rehearsal.Exchange,
			because("control-key", "the control-channel key cannot be used: %w", err))
	}
	return wrap, nil
}

// tunnel rehearses a connection by the TLS tunnel.
func (w *run) tunnel() error {
	s := w.Connection.TLS
	wrap, err := w.wrapping()
	if err != nil {
		return err
	}
	config, err := w.tlsConfig()
	if err != nil {
		return err
	}
	hello := tunnel.Client{
		Ciphers: s.Ciphers, Platform: w.platform(), Version: "2.6.0",
		Digest: cmp.Or(s.Digest, "SHA1"),
	}
	if w.As != nil && w.As.Ability(vpn.TLS).LoginBeside { // its client may be older than 2.6
		hello.Old, hello.Version = true, "2.5.0"
	}
	if len(hello.Ciphers) == 0 {
		hello.Ciphers = usualCiphers
	}
	hello.Cipher = hello.Ciphers[0]
	if w.Connection.NeedsPassword() {
		if hello.Login, hello.Password, err = w.credentials(); err != nil {
			return err
		}
	}
	remotes := s.Remotes
	if len(remotes) == 0 {
		remotes = []vpn.Remote{{Port: 1194, Transport: vpn.UDP}}
	}
	for i, remote := range remotes {
		w.last = i == len(remotes)-1
		err = w.session(remote, wrap, config, hello)
		var f *fault
		if err == nil || w.last || !errors.As(err, &f) ||
			f.cause != "gateway-no-response" && f.cause != "name-unresolved" {
			return err
		}
	}
	return err
}

func (w *run) platform() string {
	if w.As == nil {
		return "linux"
	}
	switch w.As.Row.Platform {
	case vpn.Windows:
		return "win"
	case vpn.MacOS:
		return "mac"
	case vpn.IOS, vpn.IPadOS:
		return "ios"
	case vpn.Android:
		return "android"
	}
	return "linux"
}

// tlsConfig is how a client of the tunnel looks at the gateway, and shows itself.
func (w *run) tlsConfig() (*tls.Config, error) {
	s := w.Connection.TLS
	config := &tls.Config{
		InsecureSkipVerify: true, MinVersion: tls.VersionTLS12, Time: w.Now,
		VerifyConnection: w.verify(s.ServerName, func(c *x509.Certificate) bool {
			return s.ServerName == "" || named(c, s.ServerName)
		}),
	}
	switch s.MinTLS {
	case "1.0":
		config.MinVersion = tls.VersionTLS10
	case "1.1":
		config.MinVersion = tls.VersionTLS11
	case "1.3":
		config.MinVersion = tls.VersionTLS13
	}
	if w.Connection.NeedsIdentity() {
		id, err := w.identity()
		if err != nil {
			return nil, err
		}
		config.GetClientCertificate = shows(id)
	}
	return config, nil
}

// named tells whether a certificate is of a name, as the client of the tunnel has it: by the common
// name, which it compares, or by an alternative name.
func named(c *x509.Certificate, name string) bool {
	return strings.EqualFold(c.Subject.CommonName, name) || c.VerifyHostname(name) == nil
}

// session goes through one session with one remote.
func (w *run) session(
	remote vpn.Remote,
	wrap tlstunnel.Wrapping,
	config *tls.Config,
	hello tunnel.Client,
) error {
	addresses, found, err := w.resolved(cmp.Or(remote.Address, w.Connection.Server))
	if err != nil {
		return err
	}
	if w.last { // of several, only the one that counts is told of
		w.passed(rehearsal.Resolve, found)
	}
	hello.TCP = remote.Transport == vpn.TCP
	at := netip.AddrPortFrom(addresses[0], w.port(remote.Port)).String()
	w.result.Gateway = at + " by " + strings.ToUpper(string(remote.Transport))
	conn, err := (&net.Dialer{Timeout: 10 * time.Second}).DialContext(
		w.ctx, string(remote.Transport), at)
	if err != nil {
		return because("gateway-no-response", "%w", err)
	}
	defer func() { _ = conn.Close() }()
	b := make([]byte, 8)
	if _, err := io.ReadFull(random, b); err != nil {
		return err
	}
	l := &link{
		ctx: w.ctx, conn: conn, tcp: hello.TCP, session: binary.BigEndian.Uint64(b) | 1,
		data: make(chan []byte, 256),
	}
	l.stream = reliable.New(w.ctx, reliable.Options{
		Wrapping: wrap, Session: l.session, Send: l.send, Waits: waits,
	})
	go l.receive()
	if err := l.stream.Begin(); err != nil {
		if l.refused.Load() {
			return because("gateway-no-response", "%s: the port is closed", at)
		}
		return w.beginFault(err, at)
	}
	if !w.last {
		w.passed(rehearsal.Resolve, found)
	}
	verify := config.VerifyConnection
	config = config.Clone()
	config.VerifyConnection = func(state tls.ConnectionState) error {
		err := verify(state)
		if err != nil {
			l.stream.Fail(err) // the alert is sent; nobody needs to confirm it
		}
		return err
	}
	t := tls.Client(l.stream, config)
	if err := t.HandshakeContext(w.ctx); err != nil {
		return w.tlsFault(err)
	}
	state := t.ConnectionState()
	w.shookHands(state)
	return w.keys(l, t, hello, state)
}

// beginFault tells why the control channel did not begin.
func (w *run) beginFault(err error, at string) error {
	var noise *reliable.NoiseError
	switch {
	case errors.As(err, &noise):
		return because("control-key", "%w", err)
	case errors.Is(err, reliable.ErrSilent) && w.Connection.TLS.Control != nil && w.alive(at):
		// A gateway drops packets that another key protects.
		return because("control-key",
			"the host responds and the gateway does not, as when the control-channel key differs")
	case errors.Is(err, reliable.ErrSilent):
		return because("gateway-no-response", "%s does not respond", at)
	case errors.Is(err, io.EOF) || errors.Is(err, syscall.ECONNRESET):
		return because("control-key", "%s closes the connection after the first packet", at)
	}
	return because("gateway-no-response", "%s: %w", at, err)
}

// alive tells whether anything answers at an address, by TCP: a refusal is an answer as well.
func (w *run) alive(at string) bool {
	conn, err := (&net.Dialer{Timeout: time.Second}).DialContext(w.ctx, "tcp", at)
	if err == nil {
		_ = conn.Close()
	}
	return err == nil || errors.Is(err, syscall.ECONNREFUSED)
}

// tlsFault tells why the handshake failed.
func (w *run) tlsFault(err error) error {
	var f *fault
	var alert tls.AlertError
	switch {
	case errors.As(err, &f):
		// At the gateway's certificate: the keys were exchanged.
		w.passed(rehearsal.Exchange, "TLS")
		return err
	case errors.As(err, &alert):
		return because("client-refused", "the gateway aborts the TLS handshake: %w", err)
	case strings.Contains(err.Error(), "protocol version"):
		return because("tls-versions", "%w", err)
	case w.Connection.NeedsIdentity() && len(w.result.Certificates) > 0 &&
		(errors.Is(err, os.ErrDeadlineExceeded) || errors.Is(err, reliable.ErrSilent) ||
			errors.Is(err, io.EOF) || errors.Is(err, syscall.ECONNRESET)):
		w.passed(rehearsal.Exchange, "TLS")
		w.passed(rehearsal.Gateway, w.result.Certificates[0].Subject)
		return because("client-refused", "the gateway stops responding after it received the "+
			"device's certificate, as when it rejects it")
	}
	return because("peer-confused", "%w", err)
}

// keys exchanges the keys of the data channel, signs in, and takes what the gateway pushes.
func (w *run) keys(
	l *link,
	t *tls.Conn,
	hello tunnel.Client,
	state tls.ConnectionState,
) error {
	own, err := tunnel.NewOwn(random)
	if err != nil {
		return err
	}
	if _, err := t.Write(hello.Hello(own)); err != nil {
		return because("peer-confused", "%w", err)
	}
	c := &control{conn: t}
	theirs, err := c.theirs()
	if err != nil {
		return w.signInFault(err)
	}
	pushed, err := c.pushed()
	if err != nil {
		return w.signInFault(err)
	}
	by := "certificate"
	if hello.Login != "" {
		by = "login " + hello.Login
		if w.Connection.NeedsIdentity() {
			by += " and certificate"
		}
	}
	w.passed(rehearsal.SignIn, by)
	material := []byte(nil)
	if pushed.Exported {
		material, err = state.ExportKeyingMaterial(tunnel.Exporter, nil, tunnel.ExporterSize)
	} else {
		material = tunnel.Material(own, theirs, l.session, l.stream.Remote())
	}
	if err != nil {
		return because("options-differ", "%w", err)
	}
	cipher := cmp.Or(pushed.Cipher, hello.Cipher)
	data, err := tunnel.NewData(material, cipher, hello.Digest, pushed)
	if err != nil {
		return because("ciphers-differ", "%w", err)
	}
	w.given(pushed, cipher)
	if len(pushed.Addresses) == 0 {
		return because("options-differ", "the gateway pushes no address")
	}
	w.passed(rehearsal.Address, join(pushed.Addresses)+", "+cipher)
	w.compare(pushed.DNS, pushed.Domains)
	carry := &dataTunnel{l, data}
	w.look(carry, pushed.Addresses, pushed.DNS)
	w.result.Sent, w.result.Received = data.Traffic()
	w.hangUp(func() error {
		b, err := data.Leaving(random)
		if err != nil {
			return err
		}
		return l.send(b)
	})
	return nil
}

// given notes what the gateway pushed.
func (w *run) given(p tunnel.Pushed, cipher string) {
	w.result.Tunnel, w.result.Addresses, w.result.Domains = cipher, p.Addresses, cleaned(p.Domains)
	w.result.Routes = cleaned(p.Routes)
	if p.Exported {
		w.result.Tunnel += ", keys exported from TLS"
	}
	if p.DNS != nil {
		w.result.DNS = p.DNS
	}
	w.carriedTunnel(p)
}

// signInFault tells why a sign-in failed.
func (w *run) signInFault(err error) error {
	var refused *refusedError
	if !errors.As(err, &refused) {
		if errors.Is(err, os.ErrDeadlineExceeded) || errors.Is(err, errSilent) {
			return because("options-differ", "the gateway sends no options (PUSH_REPLY)")
		}
		return because("peer-confused", "%w", err)
	}
	said := strings.ToLower(refused.said)
	switch {
	case strings.Contains(said, "cipher"):
		return because("ciphers-differ", "%w", err)
	case strings.Contains(said, "cr_text") || strings.HasPrefix(refused.said, "CRV1"):
		return because("secret-missing", "%w: the gateway asks for a one-time code", errAsked)
	case w.Connection.NeedsPassword():
		return because("password-wrong", "%w", err)
	}
	return because("client-refused", "%w", err)
}

// refusedError is AUTH_FAILED, with what the gateway said beside.
type refusedError struct{ said string }

func (e *refusedError) Error() string {
	if e.said == "" {
		return "the gateway rejected the sign-in"
	}
	return "the gateway rejected the sign-in: " + e.said
}

// control is the control channel once TLS stands: the gateway's keys, then messages of letters that
// end with a zero.
type control struct {
	conn *tls.Conn
	rest []byte
	read int
}

// more reads on.
func (c *control) more() error {
	b := make([]byte, 4096)
	n, err := c.conn.Read(b)
	c.rest = append(c.rest, b[:n]...)
	if c.read += n; c.read > mostControl {
		return fmt.Errorf("the gateway sends more than %d KB before its options", mostControl>>10)
	}
	if n > 0 {
		return nil
	}
	return err
}

// theirs reads the gateway's half of the keys.
func (c *control) theirs() (tunnel.Theirs, error) {
	for {
		t, rest, err := tunnel.ReadTheirs(c.rest)
		if err == nil {
			c.rest = rest
			return t, nil
		}
		if !errors.Is(err, tunnel.ErrMore) {
			if bytes.HasPrefix(c.rest, []byte("AUTH_FAILED")) {
				return t, authFailed(string(c.rest))
			}
			return t, err
		}
		if err := c.more(); err != nil {
			return t, err
		}
	}
}

func authFailed(message string) error {
	message, _, _ = strings.Cut(message, "\x00")
	return &refusedError{strings.TrimPrefix(strings.TrimPrefix(message, "AUTH_FAILED"), ",")}
}

// pushed asks for options until they come.
func (c *control) pushed() (p tunnel.Pushed, err error) {
	p.Peer = -1
	end := time.Now().Add(pushIn)
	for time.Now().Before(end) {
		if _, err := c.conn.Write([]byte("PUSH_REQUEST\x00")); err != nil {
			return p, err
		}
		for {
			message, err := c.message()
			if errors.Is(err, os.ErrDeadlineExceeded) {
				break // ask again
			}
			if err != nil {
				return p, err
			}
			switch word, options, _ := strings.Cut(message, ","); word {
			case "AUTH_FAILED":
				return p, authFailed(message)
			case "PUSH_REPLY":
				if !p.Add(options) {
					return p, nil
				}
			case "AUTH_PENDING", "INFO_PRE", "INFO":
				if strings.Contains(message, "CR_TEXT") || strings.Contains(message, "WEB_AUTH") ||
					strings.Contains(message, "OPEN_URL") {
					return p, &refusedError{"CR_TEXT"}
				}
			}
		}
	}
	return p, errSilent
}

// message is the next one of letters.
func (c *control) message() (string, error) {
	for {
		if i := bytes.IndexByte(c.rest, 0); i >= 0 {
			m := string(c.rest[:i])
			c.rest = c.rest[i+1:]
			if m != "" {
				return m, nil
			}
			continue
		}
		if err := c.more(); err != nil {
			return "", err
		}
	}
}

// dataTunnel carries packets in the data channel.
type dataTunnel struct {
	link *link
	data *tunnel.Data
}

func (t *dataTunnel) send(packet []byte) error {
	b, err := t.data.Seal(packet, random)
	if err == nil {
		err = t.link.send(b)
	}
	return err
}

func (t *dataTunnel) receive(until time.Time) ([]byte, error) {
	for {
		select {
		case b := <-t.link.data:
			if packet, err := t.data.Open(b); err == nil && packet != nil {
				return packet, nil
			}
		case <-time.After(time.Until(until)):
			return nil, os.ErrDeadlineExceeded
		case <-t.link.ctx.Done():
			return nil, t.link.ctx.Err()
		}
	}
}
