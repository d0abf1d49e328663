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
	Version     int          `json:"version" readOnly:"true"`
	Server      string       `json:"server" doc:"Host name of the mail server; empty sends no emails"`
	Port        int          `json:"port" required:"false" doc:"0 means 587 for starttls and 465 for tls"`
	Security    MailSecurity `json:"security" required:"false" doc:"How TLS begins: starttls or tls"`
	Login       string       `json:"login,omitempty" doc:"Login at the server; empty if it requires none"`
	Password    *secret.Text `json:"password,omitempty" writeOnly:"true" doc:"Never read back. Leave it out to keep it, null removes it"`
	PasswordSet bool         `json:"password_set" readOnly:"true" doc:"A password is stored"`
	From        string       `json:"from" required:"false" doc:"Mail address of the sender"`
	Authority   string       `json:"authority,omitempty" doc:"CAs of the server's certificate, PEM; empty trusts those of the system"`
	Reminders   []string     `json:"reminders" required:"false" doc:"Email addresses that get reminders of expiry"`
	Damaged     bool         `json:"damaged,omitempty" readOnly:"true" doc:"A password is stored but cannot be read any more: set it again"`
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
	if m.Authority != "" {
		if _, err := pki.Certificates(m.Authority); err != nil {
			in.add("/authority", err.Error(), "certificates in PEM form", "paste the file from BEGIN CERTIFICATE to END CERTIFICATE")
		}
	}
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
