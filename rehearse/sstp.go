package rehearse

import (
	"bufio"
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
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
	"wardicon/core/wire/sstp"
)

// stream is a call of SSTP: PPP in TLS.
type stream struct {
	conn   *tls.Conn
	in     *bufio.Reader
	frames chan []byte
	ended  error // why frames is closed
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
	conn := tls.Client(raw, w.asRelease(&tls.Config{
		ServerName: name, InsecureSkipVerify: true, MinVersion: tls.VersionTLS12, Time: w.Now,
		VerifyConnection: w.verify(name, func(c *x509.Certificate) bool {
			return c.VerifyHostname(name) == nil
		}),
	}, false))
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
	_ = conn.SetReadDeadline(time.Time{})
	s.frames = make(chan []byte, 256)
	go s.pump()
	link, err := w.openLink(s, linkOptions{
		login: login, password: password, within: "TLS",
		signedIn: func(link *pppsession.Link) error {
			bit := uint8(sstp.HashSHA1)
			if hashes&sstp.HashSHA256 != 0 {
				bit = sstp.HashSHA256
			}
			bound, ok := sstp.Bind(bit, nonce, state.PeerCertificates[0].Raw, link.Keys())
			if !ok {
				return because("binding-refused", "the gateway's crypto binding is not known")
			}
			if err := s.control(bound); err != nil {
				return because("binding-refused", "%w", err)
			}
			return nil
		},
	})
	if err != nil {
		return err
	}
	w.lookThrough(link)
	w.hangUp(func() error { return s.control(sstp.Message{Kind: sstp.Disconnect}) })
	return nil
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
		return nil, 0, because(
			"proxy-between",
			"the server responds to the SSTP request with %q",
			line,
		)
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

func (s *stream) write(frame []byte) error {
	_, err := s.conn.Write(sstp.Data(frame))
	return err
}

// pump reads frames until the connection ends, so that waiting for one never stops in its middle.
func (s *stream) pump() {
	defer close(s.frames)
	for {
		m, frame, err := s.next()
		switch {
		case err != nil:
			s.ended = err
			return
		case m != nil && m.Kind == sstp.EchoRequest:
			if s.ended = s.control(sstp.Message{Kind: sstp.EchoReply}); s.ended != nil {
				return
			}
		case m != nil && (m.Kind == sstp.Abort || m.Kind == sstp.Disconnect):
			s.ended = fmt.Errorf("%w%s", errAborted, refusedBy(m))
			return
		case m == nil:
			select {
			case s.frames <- frame:
			default: // a flood: what is not taken is lost, as on a network
			}
		}
	}
}

func (s *stream) read(until time.Time) ([]byte, error) {
	select {
	case frame, ok := <-s.frames:
		if !ok {
			return nil, s.ended
		}
		return frame, nil
	case <-time.After(time.Until(until)):
		return nil, os.ErrDeadlineExceeded
	}
}
