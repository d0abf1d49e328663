package vpn

import (
	"fmt"
	"net/mail"

	"wardicon/core/pki"
	"wardicon/core/secret"
)

// MailSecurity says how TLS begins on the way to the mail server.
type MailSecurity string

// The ways; there is none without TLS.
const (
	MailStartTLS MailSecurity = "starttls" // RFC 3207
	MailTLS      MailSecurity = "tls"      // from the first byte (RFC 8314 §3.3)
)

// Mail says how the service sends emails. Without a server it sends none.
type Mail struct {
	Version int `json:"version" readOnly:"true"`
	// Host name of the mail server; empty sends no emails.
	Server string `json:"server"`
	// 0 means 587 for starttls and 465 for tls.
	Port int `json:"port" required:"false"`
	// How TLS begins: starttls or tls.
	Security MailSecurity `json:"security" required:"false"`
	// Login at the server; empty if it requires none.
	Login string `json:"login,omitempty"`
	// Never read back. Leave it out to keep it, null removes it.
	Password *secret.Text `json:"password,omitempty" writeOnly:"true"`
	// A password is stored.
	PasswordSet bool `json:"password_set" readOnly:"true"`
	// Mail address of the sender.
	From string `json:"from" required:"false"`
	// CAs of the server's certificate, PEM; empty trusts those of the system.
	Authority string `json:"authority,omitempty"`
	// Email addresses that get reminders of expiry.
	Reminders []string `json:"reminders" required:"false"`
	// A password is stored but cannot be read any more: set it again.
	Damaged bool `json:"damaged,omitempty" readOnly:"true"`
}

// Validate reports every field of the settings that cannot be accepted.
func (m *Mail) Validate() error {
	in := inspect("mail")
	if m.Server != "" {
		in.host("/server", m.Server)
		in.address("/from", m.From)
	}
	if m.Port < 0 || m.Port > 65535 {
		in.add("/port", fmt.Sprint(m.Port), "1 to 65535, or 0", "correct the number")
	}
	oneOf(in, "/security", m.Security, []MailSecurity{MailStartTLS, MailTLS})
	in.text("/login", m.Login, maxLogin, false)
	in.secret("/password", m.Password)
	in.certificates("/authority", m.Authority)
	each(in, "/reminders", m.Reminders, in.address)
	return in.err()
}

// Normalise gives lists and choices their one form.
func (m *Mail) Normalise() {
	if m.Security == "" {
		m.Security = MailStartTLS
	}
	m.PasswordSet = present(m.Password)
	fill(&m.Reminders)
}

// certificates refuses what is neither empty nor certificates.
func (in *inspector) certificates(pointer, text string) {
	if text == "" {
		return
	}
	if _, err := pki.Certificates(text); err != nil {
		in.add(pointer, err.Error(), "certificates in PEM form",
			"paste the file from BEGIN CERTIFICATE to END CERTIFICATE")
	}
}

// address refuses what is no mail address.
func (in *inspector) address(pointer, v string) {
	if !in.required(pointer, v, maxMail) {
		return
	}
	if a, err := mail.ParseAddress(v); err != nil || a.Address != v {
		in.add(pointer, shown(v), "a mail address such as ada@skerryline.example", "correct it")
	}
}

// Email is what a mail says: as text, and the same as a page.
type Message struct {
	Text string `json:"text"`
	Page string `json:"page,omitempty"`
}
