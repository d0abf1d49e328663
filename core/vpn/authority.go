package vpn

import (
	"cmp"
	"crypto/x509"
	"fmt"
	"time"

	"wardicon/core/pki"
	"wardicon/core/secret"
)

// Authority vouches for certificates: made here, or brought in with or without its key.
type Authority struct {
	Meta
	// Unique name.
	Name string `json:"name" required:"true"`
	// Its certificate and the CAs above it, PEM.
	Certificate string `json:"certificate" required:"true"`
	// Private key, PEM without a passphrase; never read back. Leave it out where signing is done
	// elsewhere.
	Key *secret.Text `json:"key,omitempty" writeOnly:"true"`
	// Where the private key is, if it never leaves a token that the service has: a PKCS #11 URI (RFC
	// 7512) such as pkcs11:token=Skerry%20Line;object=devices.
	KeyURI string `json:"key_uri,omitempty"`
	// The key is stored, or in a token; without one no certificate can be issued here.
	KeySet bool `json:"key_set" readOnly:"true"`
	// Days that a device's certificate is valid; 0 means 365.
	DeviceDays int `json:"device_days" required:"false"`
	// Days that a gateway's certificate is valid; 0 means 397.
	GatewayDays int `json:"gateway_days" required:"false"`
	// Days before expiry at which a device's certificate is renewed automatically; 0 means 30, -1
	// never.
	RenewDays int `json:"renew_days" required:"false"`
	// Maximum valid certificates per device; 0 means 4.
	DeviceLimit int `json:"device_limit" required:"false"`
	// Maximum certificates issued per day; 0 means 10000.
	DayLimit int `json:"day_limit" required:"false"`
	// URLs of its CRL, as written into certificates.
	Lists []string `json:"lists" required:"false"`
	// URLs of its delta CRL, as written into the CRL.
	Deltas []string `json:"deltas" required:"false"`
	// URLs of its OCSP responder, as written into certificates.
	Responders []string `json:"responders" required:"false"`
	// It is still trusted, but issues no more.
	Retired bool `json:"retired" required:"false"`
	// Note for operators.
	Note string `json:"note,omitempty"`
}

// How long certificates are valid where an authority says nothing of it. Apple's systems
// take 825 days of a gateway, browsers less; 397 is what public authorities issue.
const (
	deviceDays  = 365
	gatewayDays = 397
	mostDays    = 3650

	renewDays   = 30
	deviceLimit = 4
	dayLimit    = 10_000
)

// Renews is how many days ahead of its end a certificate is renewed; none where it is not.
func (a *Authority) Renews() (days int, ok bool) {
	return cmp.Or(a.RenewDays, renewDays), a.RenewDays >= 0
}

// Limits are how many certificates of one device may be valid at a time, and how many are
// issued within a day.
func (a *Authority) Limits() (device, day int) {
	return cmp.Or(a.DeviceLimit, deviceLimit), cmp.Or(a.DayLimit, dayLimit)
}

// Signs tells whether certificates can be issued here.
func (a *Authority) Signs() bool { return present(a.Key) || a.KeyURI != "" }

// Days is how long a certificate of a usage is valid by the authority's own rule.
func (a *Authority) Days(usage pki.Usage) int {
	days, usual := a.DeviceDays, deviceDays
	if usage == pki.ForServer {
		days, usual = a.GatewayDays, gatewayDays
	}
	if days == 0 {
		return usual
	}
	return days
}

// Validate reports every field of an authority that cannot be accepted.
func (a *Authority) Validate() error {
	in := inspect("authority")
	in.required("/name", a.Name, maxName)
	in.text("/note", a.Note, maxNote, true)
	in.text("/key_uri", a.KeyURI, maxNote, false)
	list, err := pki.Certificates(a.Certificate)
	switch {
	case err != nil:
		in.add(
			"/certificate",
			err.Error(),
			"the authority's certificate in PEM form, its own first",
			"paste the file from BEGIN CERTIFICATE to END CERTIFICATE",
		)
	case !list[0].IsCA:
		in.add(
			"/certificate",
			fmt.Sprintf("a certificate for %s", pki.UsageOf(list[0])),
			"one with the basic constraint CA",
			"take the authority's own certificate",
		)
	case !rooted(list):
		in.add(
			"/certificate",
			fmt.Sprintf(
				"%q without %q, which issued it",
				list[0].Subject.CommonName,
				above(list).Issuer.CommonName,
			),
			"the chain up to a self-signed root",
			"add the missing certificate behind the others",
		)
	case a.Key != nil && a.KeyURI != "":
		in.add("/key_uri", "a token beside a key", "one of them", "leave the key or the token out")
	case a.Key != nil && a.Key.Reveal() == secret.Hidden:
		in.secret("/key", a.Key)
	case a.Key != nil:
		if _, err := pki.Pair(pki.Bundle(list...), *a.Key); err != nil {
			in.add(
				"/key",
				err.Error(),
				"the private key of the authority, PEM without a passphrase",
				"paste the key that belongs to the certificate, or leave it out",
			)
		}
	}
	for _, n := range []struct {
		pointer     string
		value       int
		least, most int
		unit        string
	}{
		{"/device_days", a.DeviceDays, 0, mostDays, "days, or 0"},
		{"/gateway_days", a.GatewayDays, 0, mostDays, "days, or 0"},
		{"/renew_days", a.RenewDays, -1, mostDays, "days, 0 for 30, or -1 for never"},
		{"/device_limit", a.DeviceLimit, 0, 100, "certificates, or 0 for 4"},
		{"/day_limit", a.DayLimit, 0, 1_000_000, "certificates, or 0 for 10000"},
	} {
		if n.value < n.least || n.value > n.most {
			in.add(
				n.pointer,
				fmt.Sprint(n.value),
				fmt.Sprintf("1 to %d %s", n.most, n.unit),
				"choose a number within",
			)
		}
	}
	each(in, "/lists", a.Lists, in.web)
	each(in, "/deltas", a.Deltas, in.web)
	each(in, "/responders", a.Responders, in.web)
	return in.err()
}

// rooted tells whether a chain leads to an authority that vouches for itself: devices ask for that
// one.
func rooted(list []*x509.Certificate) bool {
	_, broken := pki.Path(list[0], list[1:], []*x509.Certificate{above(list)})
	return broken == pki.Whole && pki.Root(above(list))
}

// above is the last one that a chain leads to.
func above(list []*x509.Certificate) *x509.Certificate {
	links, _ := pki.Path(list[0], list[1:], nil)
	return links[len(links)-1]
}

// Normalise gives lists and certificates their one form.
func (a *Authority) Normalise() {
	a.Certificate = tidy(a.Certificate)
	a.KeySet = a.Signs()
	fill(&a.Lists)
	fill(&a.Deltas)
	fill(&a.Responders)
}

// Signer signs what is handed over: a certificate with its key.
type Signer struct {
	// Its certificate and those between it and its root, PEM.
	Certificate string       `json:"certificate"`
	Key         *secret.Text `json:"key,omitempty" writeOnly:"true"`
	// The authority here that issued it; empty where it was brought in.
	Authority string    `json:"authority,omitempty"`
	Since     time.Time `json:"since"`
}

// Certificate is one that an authority on record has issued. It never changes, but that it
// can be revoked.
type Certificate struct {
	ID          string `json:"id"`
	AuthorityID string `json:"authority_id"`
	// Serial number, hexadecimal.
	Serial  string `json:"serial"`
	Subject string `json:"subject"`
	// Alternative names.
	Names     []string   `json:"names"`
	Usage     pki.Usage  `json:"usage" enum:"client,server,signing"`
	DeviceID  string     `json:"device_id,omitempty"`
	GatewayID string     `json:"gateway_id,omitempty"`
	From      time.Time  `json:"from"`
	To        time.Time  `json:"to"`
	Revoked   *time.Time `json:"revoked,omitempty"`
	Reason    pki.Reason `json:"reason,omitempty"`
	PEM       string     `json:"pem"`
	// Who had it issued.
	Operator string    `json:"operator"`
	Created  time.Time `json:"created"`
}
