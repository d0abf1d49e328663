package probe

import (
	"bufio"
	"cmp"
	"context"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"net/textproto"
	"strings"
	"time"

	"github.com/google/uuid"

	"wardicon/core/drift"
	"wardicon/core/pki"
	"wardicon/core/vpn"
	"wardicon/core/wire/sstp"
)

// mostHeader bounds the HTTP header that is read, in bytes.
const mostHeader = 16 << 10

// mostChain bounds how many certificates of a chain are kept.
const mostChain = 10

// ciphers are all that this program knows, sound or not: an old gateway is to show itself.
var ciphers = func() (list []uint16) {
	for _, c := range append(tls.CipherSuites(), tls.InsecureCipherSuites()...) {
		list = append(list, c.ID)
	}
	return list
}()

// handshake speaks TLS on a connection and notes what it shows. Whom the certificate is of is
// judged elsewhere.
func (a *asker) handshake(
	ctx context.Context,
	conn net.Conn,
	name string,
	oldest, newest uint16,
) (*tls.Conn, error) {
	shown := &drift.TLS{Names: []string{}}
	client := tls.Client(conn, &tls.Config{
		ServerName:         name,
		InsecureSkipVerify: true,
		MinVersion:         oldest,
		MaxVersion:         newest,
		CipherSuites:       ciphers,
		VerifyConnection: func(state tls.ConnectionState) error {
			list := state.PeerCertificates
			if len(list) == 0 {
				return errors.New("no certificate")
			}
			leaf := list[0]
			shown.Version, shown.Cipher = strings.TrimPrefix(
				tls.VersionName(state.Version),
				"TLS ",
			), tls.CipherSuiteName(
				state.CipherSuite,
			)
			shown.Certificate, shown.Subject, shown.Issuer = pki.Bundle(
				list[:min(len(list), mostChain)]...), leaf.Subject.String(), leaf.Issuer.String()
			shown.Names, shown.Expires = pki.Names(leaf), leaf.NotAfter.UTC().Format(time.RFC3339)
			a.answer.TLS = shown
			return nil
		},
	})
	return client, client.HandshakeContext(ctx)
}

// SSTP opens TLS, then the stream of SSTP, asks for a call and gives it back. Name is what the
// certificate should have. A second connection asks for old versions of TLS alone.
func (p *Prober) SSTP(ctx context.Context, at netip.AddrPort, name string) drift.Answer {
	return p.ask(
		ctx,
		vpn.SSTP,
		drift.MethodSSTP,
		vpn.TCP,
		at,
		func(ctx context.Context, a *asker) error {
			if err := a.stream(ctx, name); err != nil || a.answer.TLS == nil {
				return err
			}
			kept := a.answer.TLS
			defer func() { a.answer.TLS = kept }()
			if kept.Version == "1.0" || kept.Version == "1.1" {
				kept.Old = kept.Version
				return nil
			}
			conn, err := a.dial(ctx)
			if err != nil {
				return nil // what it shows has been seen
			}
			defer func() { _ = conn.Close() }()
			if a.say(ctx, conn) != nil {
				return nil
			}
			if old, err := a.handshake(
				ctx,
				conn,
				name,
				tls.VersionTLS10,
				tls.VersionTLS11,
			); err == nil {
				kept.Old = strings.TrimPrefix(
					tls.VersionName(old.ConnectionState().Version),
					"TLS ",
				)
			}
			return nil
		},
	)
}

// stream opens one connection as far as the answer to a call.
func (a *asker) stream(ctx context.Context, name string) error {
	conn, err := a.dial(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close() }()
	if err := a.say(ctx, conn); err != nil {
		return err
	}
	client, err := a.handshake(ctx, conn, name, tls.VersionTLS10, tls.VersionTLS13)
	if err != nil {
		return tlsFault(err)
	}
	a.heard()
	if err := a.say(ctx, conn); err != nil {
		return err
	}
	id := uuid.New()
	host := a.at.Addr().String()
	if name != "" {
		host = name
	}
	if _, err := fmt.Fprintf(
		client,
		"%s %s HTTP/1.1\r\nHost: %s\r\nSSTPCORRELATIONID: {%s}\r\nContent-Length: %s\r\n\r\n",
		sstp.Method,
		sstp.Path,
		hostOf(host),
		strings.ToUpper(id.String()),
		sstp.Length,
	); err != nil {
		return err
	}
	in := bufio.NewReaderSize(io.LimitReader(client, mostHeader), 4<<10)
	if err := a.readHTTP(in); err != nil {
		return err
	}
	packet, err := sstp.Request().Encode()
	if err != nil {
		return err
	}
	if err := a.say(ctx, conn); err != nil {
		return err
	}
	if _, err := client.Write(packet); err != nil {
		return err
	}
	m, err := readSSTP(in)
	if err != nil {
		return fmt.Errorf("after the HTTP request: %w", err)
	}
	a.answered()
	switch m.Kind {
	case sstp.ConnectAck:
		hashes, ok := m.Hashes()
		if !ok {
			return errors.New("an acknowledgement without a request for crypto binding")
		}
		if hashes&sstp.HashSHA256 == 0 {
			a.answer.Note("binds PPP to TLS by SHA-1 alone")
		}
		if end, err := (sstp.Message{Kind: sstp.Disconnect}).Encode(); err == nil {
			_, _ = client.Write(end)
		}
		return nil
	case sstp.ConnectNak, sstp.Abort:
		_, status, _ := m.Status()
		return fmt.Errorf(
			"it refuses the call: %s",
			cmp.Or(sstp.Statuses[status], fmt.Sprintf("status %d", status)),
		)
	default:
		return fmt.Errorf("it answers a request for a call with a message of kind %d", m.Kind)
	}
}

// readHTTP reads the header of the answer. Its length is too great for what reads HTTP elsewhere.
func (a *asker) readHTTP(in *bufio.Reader) error {
	text := textproto.NewReader(in)
	a.answer.State = drift.Faulty // until it says otherwise
	line, err := text.ReadLine()
	if err != nil {
		return errors.New("it speaks TLS and then ends the connection: what is there is not SSTP")
	}
	version, status, _ := strings.Cut(line, " ")
	if !strings.HasPrefix(version, "HTTP/1.") || len(status) < 3 {
		return fmt.Errorf("it answers %q in the place of HTTP", printable([]byte(line)))
	}
	header, err := text.ReadMIMEHeader()
	if err != nil {
		return fmt.Errorf("the header of its answer: %w", err)
	}
	if status[:3] == "200" {
		return nil
	}
	said := fmt.Sprintf("the web server there answers %s in the place of SSTP", status[:3])
	if realm := header.Get("WWW-Authenticate"); realm != "" {
		said += fmt.Sprintf(" and wants a sign-in: %q", printable([]byte(realm)))
	}
	return errors.New(said)
}

// hostOf is a host in an HTTP header.
func hostOf(host string) string {
	if a, err := netip.ParseAddr(host); err == nil && a.Is6() {
		return "[" + host + "]"
	}
	return host
}

// readSSTP reads the next packet.
func readSSTP(in io.Reader) (m sstp.Message, err error) {
	var header [4]byte
	if _, err := io.ReadFull(in, header[:]); err != nil {
		return m, err
	}
	size, _, err := sstp.Frame(header)
	if err != nil {
		return m, err
	}
	b := append(header[:], make([]byte, size-len(header))...)
	if _, err := io.ReadFull(in, b[len(header):]); err != nil {
		return m, err
	}
	return sstp.Decode(b)
}

// tlsFault says in plain words what TLS stumbled over; errors of the network stay as they are.
func tlsFault(err error) error {
	var record tls.RecordHeaderError
	var alert tls.AlertError
	switch {
	case errors.As(err, &record):
		return fmt.Errorf(
			"what answers there is not TLS: it begins with %s",
			hex.EncodeToString(record.RecordHeader[:]),
		)
	case errors.As(err, &alert):
		return fmt.Errorf("it refuses TLS: %w", alert)
	}
	return err
}
