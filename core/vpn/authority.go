package vpn

import (
	"fmt"
	"time"

	"wardicon/core/pki"
	"wardicon/core/secret"
)

// Authority vouches for certificates: made here, or brought in with or without its key.
type Authority struct {
	Stamp
	Name        string       `json:"name" required:"true" doc:"Unique name"`
	Certificate string       `json:"certificate" required:"true" doc:"Its own certificate and those above it, PEM"`
	Key         *secret.Text `json:"key,omitempty" writeOnly:"true" doc:"Private key, PEM without a passphrase; never read back. Leave it out where signing is done elsewhere"`
	KeySet      bool         `json:"key_set" readOnly:"true" doc:"A key is stored; without one nothing can be issued here"`
	DeviceDays  int          `json:"device_days" required:"false" doc:"Days that a device's certificate is valid; 0 means 365"`
	GatewayDays int          `json:"gateway_days" required:"false" doc:"Days that a gateway's certificate is valid; 0 means 397"`
	Lists       []string     `json:"lists" required:"false" doc:"Web addresses of its revocation list, as certificates shall name them"`
	Retired     bool         `json:"retired" required:"false" doc:"It is still believed, and issues no more"`
	Note        string       `json:"note,omitempty"`
}

// How long certificates are valid where an authority says nothing of it. Apple's systems
// take 825 days of a gateway, browsers less; 397 is what public authorities issue.
const (
	deviceDays  = 365
	gatewayDays = 397
	mostDays    = 3650
)

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
	list, err := pki.Certificates(a.Certificate)
	switch {
	case err != nil:
		in.add("/certificate", err.Error(), "the authority's certificate in PEM form, its own first", "paste the file from BEGIN CERTIFICATE to END CERTIFICATE")
	case !list[0].IsCA:
		in.add("/certificate", fmt.Sprintf("a certificate for %s", pki.UsageOf(list[0])), "one with the basic constraint CA", "take the authority's own certificate")
	case a.Key != nil && a.Key.Reveal() == secret.Hidden:
		in.secret("/key", a.Key)
	case a.Key != nil:
		if _, err := pki.Pair(pki.Bundle(list...), *a.Key); err != nil {
			in.add("/key", err.Error(), "the private key of the authority, PEM without a passphrase", "paste the key that belongs to the certificate, or leave it out")
		}
	}
	for pointer, days := range map[string]int{"/device_days": a.DeviceDays, "/gateway_days": a.GatewayDays} {
		if days < 0 || days > mostDays {
			in.add(pointer, fmt.Sprint(days), fmt.Sprintf("1 to %d days, or 0", mostDays), "choose fewer")
		}
	}
	each(in, "/lists", a.Lists, in.web)
	return in.err()
}

// Normalise gives lists and certificates their one form.
func (a *Authority) Normalise() {
	a.Certificate = tidy(a.Certificate)
	a.KeySet = present(a.Key)
	fill(&a.Lists)
}

// Certificate is one that an authority on record has issued. It never changes, but that it
// can be revoked.
type Certificate struct {
	ID          string     `json:"id"`
	AuthorityID string     `json:"authority_id"`
	Serial      string     `json:"serial" doc:"Serial number, hexadecimal"`
	Subject     string     `json:"subject"`
	Names       []string   `json:"names" doc:"Alternative names"`
	Usage       pki.Usage  `json:"usage" enum:"client,server,signing"`
	DeviceID    string     `json:"device_id,omitempty"`
	GatewayID   string     `json:"gateway_id,omitempty"`
	From        time.Time  `json:"from"`
	To          time.Time  `json:"to"`
	Revoked     *time.Time `json:"revoked,omitempty"`
	Reason      pki.Reason `json:"reason,omitempty"`
	PEM         string     `json:"pem"`
	Operator    string     `json:"operator" doc:"Who had it issued"`
	Created     time.Time  `json:"created"`
}
