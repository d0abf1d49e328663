package simulate

import (
	"bytes"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"io"
	"mime"
	"net"
	"net/mail"
	"sync"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"

	"wardicon/core/pki"
)

// Received is an email that came to a simulator.
type Received struct {
	From, To string
	Subject  string
	Raw      []byte
}

// MailServer is a simulator for a mail server on loopback: it wants TLS, takes every email and
// keeps the last ones. With a login it wants that too.
type MailServer struct {
	Host            string
	Port            int
	Authority       string // of its certificate, PEM
	Login, Password string

	server  *smtp.Server
	mu      sync.Mutex
	emails  []Received
	refuse  error
	closers []func() error
}

// mostEmails bounds what a simulator remembers.
const mostEmails = 1000

// NewMailServer starts a simulator. Close ends it.
func NewMailServer(login, password string) (*MailServer, error) {
	m := &MailServer{Host: "127.0.0.1", Login: login, Password: password}
	certificate, err := m.certify()
	if err != nil {
		return nil, err
	}
	m.server = smtp.NewServer(
		smtp.BackendFunc(
			func(c *smtp.Conn) (smtp.Session, error) {
				return &mailSession{server: m, conn: c},
					nil
			},
		),
	)
	m.server.Domain, m.server.TLSConfig = "mail.skerryline.example", &tls.Config{
		Certificates: []tls.Certificate{certificate},
		MinVersion:   tls.VersionTLS12,
	}
	m.server.MaxMessageBytes, m.server.MaxRecipients, m.server.ReadTimeout =
		4<<20, 10, 30*time.Second
	listener, err := net.Listen("tcp", m.Host+":0")
	if err != nil {
		return nil, err
	}
	if at, ok := listener.Addr().(*net.TCPAddr); ok {
		m.Port = at.Port
	}
	go func() { _ = m.server.Serve(listener) }() // ends with Close
	return m, nil
}

// certify makes the certificate of the simulator and the authority that vouches for it.
func (m *MailServer) certify() (tls.Certificate, error) {
	from := time.Now().Add(-time.Hour)
	root, err := pki.NewKey(rand.Reader, pki.P256)
	if err != nil {
		return tls.Certificate{}, err
	}
	authority, err := pki.Issue(
		rand.Reader,
		pki.Issuer{Key: root},
		root.Public(),
		pki.Wanted{
			Name:  "Simulator mail authority",
			Usage: pki.ForAuthority,
			From:  from,
			To:    from.AddDate(1, 0, 0),
		},
	)
	if err != nil {
		return tls.Certificate{}, err
	}
	key, err := pki.NewKey(rand.Reader, pki.P256)
	if err != nil {
		return tls.Certificate{}, err
	}
	c, err := pki.Issue(
		rand.Reader,
		pki.Issuer{Certificate: authority, Key: root},
		key.Public(),
		pki.Wanted{
			Name:  "mail",
			Usage: pki.ForServer,
			Names: []string{m.Host},
			From:  from,
			To:    from.AddDate(0, 6, 0),
		},
	)
	m.Authority = pki.Bundle(authority)
	return tls.Certificate{Certificate: [][]byte{c.Raw}, PrivateKey: key, Leaf: c}, errors.Join(err)
}

// Close ends the simulator.
func (m *MailServer) Close() error {
	err := m.server.Close()
	for _, c := range m.closers {
		err = errors.Join(err, c())
	}
	return err
}

// Emails are those that came, the oldest first.
func (m *MailServer) Emails() []Received {
	m.mu.Lock()
	defer m.mu.Unlock()
	return append([]Received{}, m.emails...)
}

// Refuse has emails refused with an error of the server's own; nil takes them again.
func (m *MailServer) Refuse(permanent bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.refuse = &smtp.SMTPError{
		Code:         451,
		EnhancedCode: smtp.EnhancedCode{4, 3, 0},
		Message:      "the harbour office is closed",
	}
	if permanent {
		m.refuse = &smtp.SMTPError{
			Code:         550,
			EnhancedCode: smtp.EnhancedCode{5, 1, 1},
			Message:      "nobody of that name",
		}
	}
}

// Accept takes emails again.
func (m *MailServer) Accept() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.refuse = nil
}

type mailSession struct {
	server   *MailServer
	conn     *smtp.Conn
	from, to string
	known    bool
}

var (
	errTLS = &smtp.SMTPError{
		Code:         530,
		EnhancedCode: smtp.EnhancedCode{5, 7, 0},
		Message:      "begin TLS first",
	} // RFC 3207 §4
	errLogin = &smtp.SMTPError{
		Code:         530,
		EnhancedCode: smtp.EnhancedCode{5, 7, 0},
		Message:      "sign in first",
	}
)

// AuthMechanisms lists how a client may sign in.
func (s *mailSession) AuthMechanisms() []string {
	if s.server.Login == "" {
		return nil
	}
	return []string{sasl.Plain}
}

// Auth signs a client in.
func (s *mailSession) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, login, password string) error {
		if login != s.server.Login || password != s.server.Password {
			return smtp.ErrAuthFailed
		}
		s.known = true
		return nil
	}), nil
}

func (s *mailSession) Mail(from string, _ *smtp.MailOptions) error {
	if _, ok := s.conn.TLSConnectionState(); !ok {
		return errTLS
	}
	if s.server.Login != "" && !s.known {
		return errLogin
	}
	s.from = from
	return nil
}

func (s *mailSession) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.server.mu.Lock()
	defer s.server.mu.Unlock()
	s.to = to
	return s.server.refuse
}

func (s *mailSession) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	email := Received{From: s.from, To: s.to, Raw: raw}
	if message, err := mail.ReadMessage(bytes.NewReader(raw)); err == nil {
		email.Subject, _ = new(mime.WordDecoder).DecodeHeader(message.Header.Get("Subject"))
	}
	s.server.mu.Lock()
	defer s.server.mu.Unlock()
	if s.server.emails = append(s.server.emails, email); len(s.server.emails) > mostEmails {
		s.server.emails = s.server.emails[1:]
	}
	return nil
}

func (s *mailSession) Reset()        {}
func (s *mailSession) Logout() error { return nil }
