// Package mailer sends letters by SMTP (RFC 5321), never without TLS.
package mailer

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"syscall"
	"time"

	"github.com/wneessen/go-mail"

	"wardicon/core/vpn"
)

// timeout bounds each step of the talk with a mail server (RFC 5321 §4.5.3.2 allows more; a letter can wait).
const timeout = 15 * time.Second

// Line is an open connection to a mail server, signed in. Its letters go one after the other.
type Line struct {
	client *mail.Client
	from   string
}

// Open connects. An error is about the server or the way to it, and not about any letter.
func Open(ctx context.Context, m vpn.Mail) (*Line, error) {
	client, err := dial(m)
	if err != nil {
		return nil, err
	}
	if err := client.DialWithContext(ctx); err != nil {
		return nil, err
	}
	return &Line{client, m.From}, nil
}

// Close ends the talk.
func (l *Line) Close() error { return l.client.Close() }

// Send sends one letter by itself. The error says what the server or the way to it refused, and never what was in
// the letter.
func Send(ctx context.Context, m vpn.Mail, to, subject string, letter vpn.Letter) error {
	l, err := Open(ctx, m)
	if err != nil {
		return err
	}
	return errors.Join(l.Send(to, subject, letter), ignored(l.Close()))
}

// ignored is nothing: a server that took the letter and then hangs up has taken it.
func ignored(error) error { return nil }

// Broken tells whether the server went away within a talk: that is no fault of the letter.
func Broken(err error) bool {
	var fault net.Error
	return errors.Is(err, io.EOF) || errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE) || errors.As(err, &fault)
}

// Send sends one letter.
func (l *Line) Send(to, subject string, letter vpn.Letter) error {
	message := mail.NewMsg(mail.WithNoDefaultUserAgent())
	if err := errors.Join(message.From(l.from), message.To(to)); err != nil {
		return fmt.Errorf("addresses: %w", err)
	}
	message.Subject(subject)
	message.SetDate()
	message.SetMessageID()
	message.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834 §5: nobody's absence answers it
	message.SetBodyString(mail.TypeTextPlain, letter.Text)
	if letter.Page != "" {
		message.AddAlternativeString(mail.TypeTextHTML, letter.Page)
	}
	return l.client.Send(message)
}

func dial(m vpn.Mail) (*mail.Client, error) {
	config := &tls.Config{ServerName: m.Server, MinVersion: tls.VersionTLS12}
	if m.Authority != "" {
		config.RootCAs = x509.NewCertPool()
		config.RootCAs.AppendCertsFromPEM([]byte(m.Authority))
	}
	options := []mail.Option{mail.WithTimeout(timeout), mail.WithTLSConfig(config), mail.WithTLSPolicy(mail.TLSMandatory)}
	port := 587
	if m.Security == vpn.MailTLS {
		options, port = append(options, mail.WithSSL()), 465
	}
	if m.Port != 0 {
		port = m.Port
	}
	options = append(options, mail.WithPort(port))
	if m.Login != "" && m.Password != nil {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(m.Login), mail.WithPassword(m.Password.Reveal()))
	}
	client, err := mail.NewClient(m.Server, options...)
	if err != nil {
		return nil, fmt.Errorf("mail server: %w", err)
	}
	return client, nil
}
