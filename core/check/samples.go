package check

import (
	"crypto/ed25519"
	"crypto/x509"
	_ "embed"
	"math/big"
	"sync"
	"time"

	"wardicon/core/pki"
)

// Made-up certificates for the examples of rules, all valid at sampleNow.
var (
	//go:embed sample/root.pem
	sampleAuthority string
	//go:embed sample/other.pem
	sampleOtherPEM string
	//go:embed sample/client.pem
	sampleClientPEM string
	//go:embed sample/server.pem
	sampleServerPEM string
	//go:embed sample/deep.pem
	sampleDeepPEM string
	//go:embed sample/bound.pem
	sampleBoundPEM string
)

// sampleNow is the day on which the examples are looked at.
var sampleNow = time.Date(2026, time.November, 20, 12, 0, 0, 0, time.UTC)

var (
	sampleEd25519 = ed25519.PublicKey(make([]byte, ed25519.PublicKeySize))
	shortModulus  = new(big.Int).Lsh(big.NewInt(1), 1023)

	sampleRoot   = first(&sampleAuthority)
	sampleOther  = first(&sampleOtherPEM)
	sampleClient = first(&sampleClientPEM)
	sampleServer = first(&sampleServerPEM)
	sampleDeep   = parsed(&sampleDeepPEM)
	sampleBound  = parsed(&sampleBoundPEM)
)

func parsed(text *string) func() []*x509.Certificate {
	return sync.OnceValue(func() []*x509.Certificate {
		list, err := pki.Certificates(*text)
		if err != nil {
			panic(err) // embedded, and read by every test
		}
		return list
	})
}

func first(text *string) func() *x509.Certificate {
	all := parsed(text)
	return func() *x509.Certificate { return all()[0] }
}
