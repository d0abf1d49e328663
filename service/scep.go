package service

import (
	"context"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"errors"
	"time"

	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/store"
)

// A registrar's key is RSA, since devices close their messages for it (RFC 8894 §3.1).
const (
	registrarBits = 2048
	registrarDays = 730
	registrarRest = 30 * 24 * time.Hour // left when another one takes its place
)

// Registrar is who opens the messages of devices for a CA; it is made when it is first asked for.
func (s *Service) Registrar(ctx context.Context, authorityID string) (pki.Identity, error) {
	s.registrars.Lock()
	defer s.registrars.Unlock()
	tx := s.store.Read()
	a, by, _, err := s.issuer(ctx, tx, authorityID)
	if err != nil {
		return pki.Identity{}, err
	}
	text, key, err := tx.Registrar(ctx, a.ID)
	if err != nil {
		return pki.Identity{}, err
	}
	if text != "" {
		if id, err := pki.Pair(text+a.Certificate, key); err == nil &&
			(s.now().Add(registrarRest).Before(id.Leaf.NotAfter) ||
				id.Leaf.NotAfter.Equal(by.Certificate.NotAfter)) &&
			id.Leaf.CheckSignatureFrom(by.Certificate) == nil {
			return id, nil
		}
	}
	made, err := rsa.GenerateKey(rand.Reader, registrarBits)
	if err != nil {
		return pki.Identity{}, err
	}
	w := pki.Wanted{Name: cut(a.Name, 40) + " registrar", Usage: pki.ForRegistrar}
	if w.From, w.To, err = s.span(by, registrarDays); err != nil {
		return pki.Identity{}, err
	}
	c, err := pki.Issue(rand.Reader, by, made.Public(), w)
	if err != nil {
		return pki.Identity{}, refused("registrar", err)
	}
	if key, err = pki.KeyPEM(made); err != nil {
		return pki.Identity{}, err
	}
	if err := s.store.Write(ctx, func(tx *store.Tx) error {
		return errors.Join(tx.PutRegistrar(ctx, a.ID, pki.Bundle(c), c.NotAfter, key),
			audit(ctx, tx, "make", "registrar", a.ID, a.Name+" until "+
				c.NotAfter.Format(time.DateOnly)))
	}); err != nil {
		return pki.Identity{}, err
	}
	return pki.Pair(pki.Bundle(c)+a.Certificate, key)
}

// SCEP answers a message of a device (RFC 8894 §3). The error is for a message to which no answer
// can be written.
func (s *Service) SCEP(ctx context.Context, authorityID string, data []byte, from string) (
	answer []byte, err error,
) {
	registrar, err := s.Registrar(ctx, authorityID)
	if err != nil {
		return nil, err
	}
	e, err := pki.OpenEnrolment(data, registrar)
	if err != nil {
		return nil, err
	}
	if e.Request == nil {
		return e.Refused(rand.Reader, registrar, pki.FailCheck)
	}
	var chain []*x509.Certificate
	switch e.Kind {
	case pki.AskFirst:
		chain, err = s.Enrol(ctx, authorityID, secret.New(e.Challenge), e.Request, from)
	case pki.AskRenewal:
		chain, err = s.Reenrol(ctx, authorityID, e.Signer, e.Request, from)
	default:
		return e.Refused(rand.Reader, registrar, pki.FailRequest)
	}
	var wrong *vpn.Problems
	switch {
	case errors.Is(err, ErrEnrolment), errors.Is(err, ErrHolder), errors.As(err, &wrong):
		s.log.WarnContext(ctx, "a device gets no certificate", "authority", authorityID, "from", from,
			"error", err)
		return e.Refused(rand.Reader, registrar, pki.FailRequest)
	case err != nil:
		return nil, err
	}
	return e.Granted(rand.Reader, registrar, chain...)
}
