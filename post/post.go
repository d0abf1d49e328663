// Package post sends letters by SMTP (RFC 5321), never without TLS.
package post

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"time"

	"github.com/wneessen/go-mail"

	"wardicon/core/vpn"
)

// timeout bounds the talk with a mail server.
const timeout = 30 * time.Second

// Send sends one letter. The error says what the server or the way to it refused, and never what was in
// the letter.
func Send(ctx context.Context, m vpn.Mail, to, subject string, letter vpn.Letter) error {
	message := mail.NewMsg(mail.WithNoDefaultUserAgent())
	if err := errors.Join(message.From(m.From), message.To(to)); err != nil {
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
	client, err := dial(m)
	if err != nil {
		return err
	}
	return client.DialAndSendWithContext(ctx, message)
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
