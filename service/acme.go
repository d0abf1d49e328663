package service

import (
	"context"

	"golang.org/x/crypto/acme/autocert"

	"wardicon/store"
)

// CertificateCache keeps the service's own certificate from an ACME CA with its key, and the key of
// its account there, sealed like every secret.
type CertificateCache struct{ s *Service }

// CertificateCache is where they are kept.
func (s *Service) CertificateCache() CertificateCache { return CertificateCache{s} }

// Get reads what is kept under a name.
func (c CertificateCache) Get(ctx context.Context, name string) ([]byte, error) {
	data, err := c.s.store.Read().ServiceCertificate(ctx, name)
	if err == nil && data == nil {
		err = autocert.ErrCacheMiss
	}
	return data, err
}

// Put keeps something under a name.
func (c CertificateCache) Put(ctx context.Context, name string, data []byte) error {
	return c.s.store.Write(
		ctx,
		func(tx *store.Tx) error { return tx.PutServiceCertificate(ctx, name, data) },
	)
}

// Delete forgets it.
func (c CertificateCache) Delete(ctx context.Context, name string) error {
	return c.s.store.Write(
		ctx,
		func(tx *store.Tx) error { return tx.PutServiceCertificate(ctx, name, nil) },
	)
}
