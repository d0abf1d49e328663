package httpapi

import (
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"
)

// securityTextLife is how long what it says counts: less than a year (RFC 9116 §2.5.5).
const securityTextLife = 180 * 24 * time.Hour

// SecurityContact holds that a contact is a URI that somebody can be reached by (RFC 9116 §2.5.3).
func SecurityContact(contact string) error {
	u, err := url.Parse(contact)
	if err != nil || !slices.Contains([]string{"mailto", "https", "tel"}, u.Scheme) ||
		u.Opaque+u.Host == "" || strings.ContainsFunc(contact, func(r rune) bool { return r <= ' ' }) {
		return fmt.Errorf("security-contact: found %q, expected a mailto, https or "+
			"tel URI such as mailto:security@skerryline.example", contact)
	}
	return nil
}

// securityText says whom to tell of a weakness of this installation (RFC 9116).
func (a *handlers) securityText(w http.ResponseWriter, r *http.Request) {
	const path = "/.well-known/security.txt"
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	_, _ = fmt.Fprintf(w, "Contact: %s\nExpires: %s\n", a.opts.SecurityContact,
		time.Now().Add(securityTextLife).UTC().Truncate(24*time.Hour).Format(time.RFC3339))
	o, err := a.svc.Organisation(r.Context())
	if err == nil && strings.HasPrefix(o.Links, "https://") {
		_, _ = fmt.Fprintf(w, "Canonical: %s\n", strings.TrimSuffix(o.Links, "/")+path)
	}
}
