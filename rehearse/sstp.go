package rehearse

import (
	"bufio"
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"net/textproto"
	"os"
	"strings"
	"time"

	"github.com/google/uuid"

	"wardicon/core/rehearsal"
	pppsession "wardicon/core/session/ppp"
	"wardicon/core/suite"
	"wardicon/core/wire/sstp"
)

// Bounds of a stream of SSTP.
const (
	pppIn      = 20 * time.Second
	mostFrames = 2000 // until the link is open
)

// stream is a call of SSTP: PPP in TLS.
type stream struct {
	conn  *tls.Conn
	in    *bufio.Reader
	link  *pppsession.Link
	asked bool // how the client signs in is agreed on
	up    int
	down  int

	frames chan []byte // once the link is open
}

// sstp rehearses a connection by SSTP.
func (w *run) sstp() error {
	o := w.Connection.SSTP
	login, password, err := w.credentials()
	if err != nil {
		return err
	}
	addresses, err := w.resolve()
	if err != nil {
		return err
	}
	at := netip.AddrPortFrom(addresses[0], w.port(cmp.Or(o.Port, 443))).String()
	w.result.Gateway = at + " by TCP"
	raw, err := (&net.Dialer{Timeout: 10 * time.Second}).DialContext(w.ctx, "tcp", at)
	if err != nil {
		return because("gateway-no-response", "%w", err)
	}
	defer func() { _ = raw.Close() }()
	stop := context.AfterFunc(w.ctx, func() { _ = raw.SetDeadline(time.Now()) })
	defer stop()
	name := cmp.Or(o.ServerName, w.Connection.Server)
	conn := tls.Client(raw, &tls.Config{
		ServerName: name, InsecureSkipVerify: true, MinVersion: tls.VersionTLS12, Time: w.Now,
		VerifyConnection: w.verify(name, func(c *x509.Certificate) bool {
			return c.VerifyHostname(name) == nil
		}),
	})
	if err := conn.HandshakeContext(w.ctx); err != nil {
		return w.tlsFault(err)
	}
	state := conn.ConnectionState()
	w.shookHands(state)
	s := &stream{conn: conn, in: bufio.NewReaderSize(conn, 8<<10)}
	nonce, hashes, err := s.call(name)
	if err != nil {
		return failing(rehearsal.SignIn, err)
	}
	return w.link(s, login, password, func(keys []byte) (sstp.Message, bool) {
		bit := uint8(sstp.HashSHA1)
		if hashes&sstp.HashSHA256 != 0 {
			bit = sstp.HashSHA256
		}
		return sstp.Bind(bit, nonce, state.PeerCertificates[0].Raw, keys)
	})
}

// call opens the stream, and asks for a call (MS-SSTP §3.2.4).
func (s *stream) call(host string) (nonce []byte, hashes uint8, err error) {
	if _, err := fmt.Fprintf(s.conn, "%s %s HTTP/1.1\r\nHost: %s\r\nSSTPCORRELATIONID: {%s}\r\n"+
		"Content-Length: %s\r\n\r\n", sstp.Method, sstp.Path, host,
		strings.ToUpper(uuid.New().String()), sstp.Length); err != nil {
		return nil, 0, because("peer-ended", "%w", err)
	}
	_ = s.conn.SetReadDeadline(time.Now().Add(pppIn))
	text := textproto.NewReader(s.in)
	line, err := text.ReadLine()
	if err != nil {
		return nil, 0, because("proxy-between", "TLS works, and the server closes the connection "+
			"on the SSTP request")
	}
	if _, err := text.ReadMIMEHeader(); err != nil || !strings.HasPrefix(line, "HTTP/1.") ||
		!strings.Contains(line, " 200") {
		return nil, 0, because("proxy-between", "the server responds to the SSTP request with %q", line)
	}
	if err := s.control(sstp.Request()); err != nil {
		return nil, 0, err
	}
	m, _, err := s.next()
	if err != nil {
		return nil, 0, because("protocol-refused", "after the HTTP request: %w", err)
	}
	if m == nil || m.Kind != sstp.ConnectAck {
		return nil, 0, because("protocol-refused", "the gateway refuses the call%s", refusedBy(m))
	}
	hashes, ok := m.Hashes()
	if !ok {
		return nil, 0, because("protocol-refused", "the gateway asks for no crypto binding")
	}
	value, _ := m.Find(sstp.AttrBindingRequest)
	return value[4:], hashes, nil
}

func refusedBy(m *sstp.Message) string {
	if m == nil {
		return ""
	}
	if _, status, ok := m.Status(); ok {
		return ": " + cmp.Or(sstp.Statuses[status], fmt.Sprintf("status %d", status))
	}
	return ""
}

func (s *stream) control(m sstp.Message) error {
	b, err := m.Encode()
	if err == nil {
		_, err = s.conn.Write(b)
	}
	return err
}

// next reads a control message or a frame of PPP.
func (s *stream) next() (*sstp.Message, []byte, error) {
	var header [4]byte
	if _, err := io.ReadFull(s.in, header[:]); err != nil {
		return nil, nil, err
	}
	size, control, err := sstp.Frame(header)
	if err != nil {
		return nil, nil, err
	}
	b := append(header[:], make([]byte, size-len(header))...)
	if _, err := io.ReadFull(s.in, b[len(header):]); err != nil {
		return nil, nil, err
	}
	if !control {
		return nil, b[len(header):], nil
	}
	m, err := sstp.Decode(b)
	return &m, nil, err
}

// errAborted says that the gateway ended the call itself, and not PPP in it.
var errAborted = errors.New("the gateway ends the call")

// link opens PPP in a stream: it signs in, binds the sign-in to TLS, and takes an address.
func (w *run) link(
	s *stream,
	login, password string,
	bind func(keys []byte) (sstp.Message, bool),
) error {
	methods := w.Connection.PPP()
	if len(methods) == 0 && w.As != nil {
		methods = w.As.Ability(w.Connection.Protocol).PPP
	}
	if len(methods) == 0 {
		methods = []suite.PPPMethod{suite.MSCHAPv2}
	}
	var err error
	if s.link, err = pppsession.New(pppsession.Config{
		Login: login, Password: password, Methods: methods, Random: random,
	}); err != nil {
		return err
	}
	signedIn := false
	_ = s.conn.SetReadDeadline(time.Now().Add(pppIn))
	for frames := 0; s.link.Phase != pppsession.Open; frames++ {
		for _, frame := range s.link.Take() {
			if _, err := s.conn.Write(sstp.Data(frame)); err != nil {
				return w.linkFault(s, signedIn, err)
			}
		}
		if s.link.Phase == pppsession.Ended || frames > mostFrames {
			return w.linkFault(s, signedIn, nil)
		}
		m, frame, err := s.next()
		if err != nil {
			return w.linkFault(s, signedIn, err)
		}
		if m != nil {
			if m.Kind == sstp.Abort || m.Kind == sstp.Disconnect {
				return w.linkFault(s, signedIn, fmt.Errorf("%w%s", errAborted, refusedBy(m)))
			}
			continue
		}
		s.link.Receive(frame)
		s.asked = s.asked || s.link.Phase == pppsession.Authenticate ||
			s.link.Phase == pppsession.Network
		if !signedIn && (s.link.Phase == pppsession.Network || s.link.Phase == pppsession.Open) {
			signedIn = true
			w.passed(rehearsal.SignIn, "login "+login+" by "+string(s.link.Method))
			bound, ok := bind(s.link.Keys())
			if !ok {
				return because("binding-refused", "the gateway's crypto binding is not known")
			}
			if err := s.control(bound); err != nil {
				return because("binding-refused", "%w", err)
			}
		}
	}
	w.result.Addresses, w.result.Tunnel = []netip.Addr{s.link.Local}, "PPP in TLS"
	if s.link.Servers != nil {
		w.result.DNS = s.link.Servers
	}
	w.passed(rehearsal.Address, s.link.Local.String())
	w.compare(s.link.Servers, nil)
	_ = s.conn.SetReadDeadline(time.Time{})
	s.frames = make(chan []byte, 256)
	go s.pump()
	w.look(s, w.result.Addresses, s.link.Servers)
	w.result.Sent, w.result.Received = s.up, s.down
	w.hangUp(func() error { return s.control(sstp.Message{Kind: sstp.Disconnect}) })
	return nil
}

// linkFault tells why PPP did not come up.
func (w *run) linkFault(s *stream, signedIn bool, err error) error {
	why := s.link.Reason
	if err != nil && why == "" {
		why = err.Error()
	}
	switch {
	case strings.Contains(why, "login or password") || strings.Contains(why, "E=691") ||
		strings.Contains(why, "rejected"):
		return because("password-wrong", "%s", why)
	case !s.asked:
		return because("methods-differ", "%s", why)
	case errors.Is(err, os.ErrDeadlineExceeded):
		return because("ppp-silent", "the gateway does not answer PPP")
	case signedIn && errors.Is(err, errAborted):
		return because("binding-refused", "%s", why)
	case signedIn:
		return because("address-refused", "%s", why)
	}
	return because("password-wrong", "%s", why)
}

func (s *stream) send(packet []byte) error {
	s.up += len(packet)
	_, err := s.conn.Write(sstp.Data(pppsession.Packet(packet)))
	return err
}

// pump reads frames until the connection ends, so that waiting for one never stops in its middle.
func (s *stream) pump() {
	defer close(s.frames)
	for {
		m, frame, err := s.next()
		switch {
		case err != nil:
			return
		case m != nil && m.Kind == sstp.EchoRequest:
			if s.control(sstp.Message{Kind: sstp.EchoReply}) != nil {
				return
			}
		case m != nil && (m.Kind == sstp.Abort || m.Kind == sstp.Disconnect):
			return
		case m == nil:
			select {
			case s.frames <- frame:
			default: // a flood: what is not taken is lost, as on a network
			}
		}
	}
}

func (s *stream) receive(until time.Time) ([]byte, error) {
	for {
		select {
		case frame, ok := <-s.frames:
			if !ok {
				return nil, io.EOF
			}
			packet := s.link.Receive(frame)
			for _, out := range s.link.Take() {
				if _, err := s.conn.Write(sstp.Data(out)); err != nil {
					return nil, err
				}
			}
			if packet != nil {
				s.down += len(packet)
				return packet, nil
			}
		case <-time.After(time.Until(until)):
			return nil, os.ErrDeadlineExceeded
		}
	}
}
