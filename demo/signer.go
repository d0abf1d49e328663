package demo

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"errors"
	"time"

	"wardicon/api"
	"wardicon/core/pki"
	"wardicon/core/vpn"
	"wardicon/service"
)

// publicCA is a made-up CA that many trust, which has issued the certificate that parcels are signed
// with.
const publicCA = "Fairway Public CA"

// brought is the signer of the service that has been in use: a certificate by a public CA, which an
// administrator has brought. Its key is made while all else is put in.
func brought(svc *service.Service) func(context.Context) error {
	type made struct {
		key *rsa.PrivateKey
		err error
	}
	ready := make(chan made, 1)
	go func() {
		key, err := rsa.GenerateKey(rand.Reader, 2048)
		ready <- made{key, err}
	}()
	return func(ctx context.Context) error {
		root, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		of := <-ready
		if err := errors.Join(err, of.err); err != nil {
			return err
		}
		from := time.Now().AddDate(0, 0, -2*historyDays)
		issue := func(by pki.Issuer, public crypto.PublicKey, name string, usage pki.Usage, years int) (
			pki.Issuer, error,
		) {
			c, err := pki.Issue(rand.Reader, by, public, pki.Wanted{
				Name: name, Usage: usage, From: from, To: from.AddDate(years, 0, 0), MaxPath: -1,
			})
			return pki.Issuer{Certificate: c, Key: by.Key}, err
		}
		ca, err := issue(pki.Issuer{Key: root}, root.Public(), publicCA, pki.ForAuthority, 20)
		if err != nil {
			return err
		}
		leaf, err := issue(
			ca,
			of.key.Public(),
			organisation.Name+" network office",
			pki.ForSigning,
			2,
		)
		if err != nil {
			return err
		}
		key, err := pki.KeyPEM(of.key)
		if err != nil {
			return err
		}
		chain := pki.Bundle(ca.Certificate)
		if _, err := svc.Authorities.Add(ctx, &vpn.Authority{Name: publicCA, Certificate: chain}); err != nil {
			return err
		}
		_, err = svc.TakeSigner(ctx, api.Material{
			File: []byte(pki.Bundle(leaf.Certificate) + chain), Key: []byte(key.Reveal()),
		}, 0)
		return err
	}
}
