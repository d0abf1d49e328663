// Package mailer sends emails by SMTP (RFC 5321), never without TLS.
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

// timeout bounds each step of the talk with a mail server (RFC 5321 §4.5.3.2 allows more; an email
// can wait).
const timeout = 15 * time.Second

// Line is an open connection to a mail server, signed in. Its emails go one after the other.
type Line struct {
	client *mail.Client
	from   string
}

// Open connects. An error is about the server or the way to it, and not about any email.
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

// Send sends one email by itself. The error says what the server or the way to it refused, and
// never what was in the email.
func Send(ctx context.Context, m vpn.Mail, to, subject string, email vpn.Message) error {
	l, err := Open(ctx, m)
	if err != nil {
		return err
	}
	return errors.Join(l.Send(to, subject, email), ignored(l.Close()))
}

// ignored is nothing: a server that took the email and then hangs up has taken it.
func ignored(error) error { return nil }

// Broken tells whether the server went away within a talk: that is no fault of the email.
func Broken(err error) bool {
	var fault net.Error
	return errors.Is(err, io.EOF) || errors.Is(err, syscall.ECONNRESET) ||
		errors.Is(err, syscall.EPIPE) ||
		errors.As(err, &fault)
}

// Send sends one email.
func (l *Line) Send(to, subject string, email vpn.Message) error {
	message := mail.NewMsg(mail.WithNoDefaultUserAgent())
	if err := errors.Join(message.From(l.from), message.To(to)); err != nil {
		return fmt.Errorf("addresses: %w", err)
	}
	message.Subject(subject)
	message.SetDate()
	message.SetMessageID()
	message.SetGenHeader(
		"Auto-Submitted",
		"auto-generated",
	) // RFC 3834 §5: nobody's absence answers it
	message.SetBodyString(mail.TypeTextPlain, email.Text)
	if email.Page != "" {
		message.AddAlternativeString(mail.TypeTextHTML, email.Page)
	}
	return l.client.Send(message)
}

func dial(m vpn.Mail) (*mail.Client, error) {
	config := &tls.Config{ServerName: m.Server, MinVersion: tls.VersionTLS12}
	if m.Authority != "" {
		config.RootCAs = x509.NewCertPool()
		config.RootCAs.AppendCertsFromPEM([]byte(m.Authority))
	}
	options := []mail.Option{
		mail.WithTimeout(timeout),
		mail.WithTLSConfig(config),
		mail.WithTLSPolicy(mail.TLSMandatory),
	}
	port := 587
	if m.Security == vpn.MailTLS {
		options, port = append(options, mail.WithSSL()), 465
	}
	if m.Port != 0 {
		port = m.Port
	}
	options = append(options, mail.WithPort(port))
	if m.Login != "" && m.Password != nil {
		options = append(
			options,
			mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover),
			mail.WithUsername(m.Login),
			mail.WithPassword(m.Password.Reveal()),
		)
	}
	client, err := mail.NewClient(m.Server, options...)
	if err != nil {
		return nil, fmt.Errorf("mail server: %w", err)
	}
	return client, nil
}
