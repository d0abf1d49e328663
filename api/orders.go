package api

import "time"

// How an ACME CA is shown that a gateway's name is under control (RFC 8555 §8).
const (
	ChallengeHTTP = "http-01"
	ChallengeDNS  = "dns-01"
)

// States of an order.
const (
	OrderWaiting = "waiting"
	OrderIssued  = "issued"
	OrderFailed  = "failed"
)

// NewOrder is what an order is placed with.
type NewOrder struct {
	// Signing request (PKCS #10) in PEM form, with the host names of the certificate. The key stays
	// on the gateway, and is the same for every renewal.
	Request string `json:"request" required:"true" maxLength:"65536"`
	// How the CA is shown that the names are under control: http-01, by an address below each name
	// that leads to this service, or dns-01, by a CNAME into the zone that it answers.
	Challenge string `json:"challenge" enum:"http-01,dns-01" required:"true"`
}

// Order is a gateway's certificate that an ACME CA issues, and that is renewed ahead of its end.
type Order struct {
	GatewayID string `json:"gateway_id"`
	// Name of the gateway.
	Gateway string `json:"gateway"`
	// Host names that the certificate is for.
	Names []string `json:"names"`
	// How the CA is shown that the names are under control.
	Challenge string `json:"challenge"`
	// waiting for the CA, issued, or failed; failed is tried again.
	State string `json:"state" enum:"waiting,issued,failed"`
	// What the CA said at the last attempt.
	Problem string `json:"problem,omitempty"`
	// When the CA is asked next.
	Next time.Time `json:"next"`
	// When the certificate expires.
	Expires *time.Time `json:"expires,omitempty"`
	// What has to stand in the DNS, or be led to this service, for the CA.
	Setup []string `json:"setup"`
}

// OrderList is all of them, and what can be ordered.
type OrderList struct {
	Items []Order `json:"items"`
	// How the CA can be shown names: none where the service has no ACME CA.
	Challenges []string `json:"challenges"`
}
