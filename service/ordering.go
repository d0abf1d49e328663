package service

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/crypto/acme"
	"golang.org/x/crypto/acme/autocert"

	"wardicon/api"
	"wardicon/store"
)

// ChallengeAnswer is what an ACME CA is answered under a token; empty where there is none.
func (s *Service) ChallengeAnswer(token string) string {
	if s.ordering == nil {
		return ""
	}
	s.ordering.mu.Lock()
	defer s.ordering.mu.Unlock()
	return s.ordering.answers[token]
}

// ChallengeTexts are the TXT records at a name below the zone: those of challenges.
func (s *Service) ChallengeTexts(name string) []string {
	label, ok := strings.CutSuffix(name, "."+challengeZone)
	if s.ordering == nil || !ok {
		return nil
	}
	s.ordering.mu.Lock()
	defer s.ordering.mu.Unlock()
	return slices.Clone(s.ordering.texts[strings.ToLower(label)])
}

// ACMEReason is what the CA says, without what was sent to it.
func ACMEReason(err error) string {
	var said *acme.Error
	var refused *acme.AuthorizationError
	switch {
	case errors.As(err, &refused) && len(refused.Errors) > 0:
		return refused.Identifier + ": " + ACMEReason(refused.Errors[0])
	case errors.As(err, &said):
		return said.ProblemType + ": " + said.Detail
	}
	return err.Error()
}

// order goes the way from an account to a certificate (RFC 8555 §7.1).
func (a *ordering) order(
	ctx context.Context,
	s *Service,
	o store.Order,
) ([]*x509.Certificate, error) {
	c := a.Client()
	key, err := accountKey(ctx, s.CertificateCache())
	if err != nil {
		return nil, err
	}
	c.Key = key
	account := a.Account
	if _, err := c.Register(ctx, &account, acme.AcceptTOS); err != nil &&
		!errors.Is(err, acme.ErrAccountAlreadyExists) {
		return nil, err
	}
	placed, err := c.AuthorizeOrder(ctx, acme.DomainIDs(o.Names...))
	if err != nil {
		return nil, err
	}
	defer func() {
		a.mu.Lock()
		delete(a.texts, strings.ToLower(o.GatewayID))
		a.mu.Unlock()
	}()
	for _, url := range placed.AuthzURLs {
		if err := a.authorize(ctx, c, o, url); err != nil {
			return nil, err
		}
	}
	if placed, err = c.WaitOrder(ctx, placed.URI); err != nil {
		return nil, err
	}
	der, _, err := c.CreateCertFromOrder(ctx, placed, o.Request, true)
	if err != nil {
		return nil, err
	}
	return judged(o, der)
}

// judged reads what the CA has issued, and refuses what was not asked for.
func judged(o store.Order, der [][]byte) (chain []*x509.Certificate, err error) {
	for _, one := range der {
		c, err := x509.ParseCertificate(one)
		if err != nil {
			return nil, err
		}
		chain = append(chain, c)
	}
	asked, err := x509.ParseCertificateRequest(o.Request)
	if err != nil || len(chain) == 0 {
		return nil, errors.Join(errors.New("the CA issued nothing that can be read"), err)
	}
	public, ok := asked.PublicKey.(interface{ Equal(crypto.PublicKey) bool })
	if !ok || !public.Equal(chain[0].PublicKey) {
		return nil, errors.New("the CA issued a certificate for another key")
	}
	for _, n := range o.Names {
		if err := chain[0].VerifyHostname(n); err != nil {
			return nil, err
		}
	}
	return chain, nil
}

// authorize shows the CA that one name is under control.
func (a *ordering) authorize(ctx context.Context, c *acme.Client, o store.Order, url string) error {
	z, err := c.GetAuthorization(ctx, url)
	if err != nil || z.Status == acme.StatusValid {
		return err
	}
	i := slices.IndexFunc(
		z.Challenges,
		func(one *acme.Challenge) bool { return one.Type == o.Challenge },
	)
	if i < 0 {
		return fmt.Errorf(
			"%s: the CA does not offer the challenge %s",
			z.Identifier.Value,
			o.Challenge,
		)
	}
	one := z.Challenges[i]
	if o.Challenge == api.ChallengeHTTP {
		answer, err := c.HTTP01ChallengeResponse(one.Token)
		if err != nil {
			return err
		}
		a.mu.Lock()
		a.answers[one.Token] = answer
		a.mu.Unlock()
		defer func() {
			a.mu.Lock()
			delete(a.answers, one.Token)
			a.mu.Unlock()
		}()
	} else {
		text, err := c.DNS01ChallengeRecord(one.Token)
		if err != nil {
			return err
		}
		label := strings.ToLower(o.GatewayID)
		a.mu.Lock()
		a.texts[label] = append(a.texts[label], text)
		a.mu.Unlock()
	}
	if _, err := c.Accept(ctx, one); err != nil {
		return err
	}
	_, err = c.WaitAuthorization(ctx, z.URI)
	return err
}

// accountName is what the key of the account at the CA is kept under: the service's own certificate
// is ordered with the same one.
const accountName = "acme_account+key"

// accountKey reads the key of the account, or makes it.
func accountKey(ctx context.Context, kept CertificateCache) (crypto.Signer, error) {
	data, err := kept.Get(ctx, accountName)
	if err == nil {
		block, _ := pem.Decode(data)
		if block == nil {
			return nil, errors.New("the key of the account at the ACME CA cannot be read")
		}
		return x509.ParseECPrivateKey(block.Bytes)
	}
	if !errors.Is(err, autocert.ErrCacheMiss) {
		return nil, err
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	der, err := x509.MarshalECPrivateKey(key)
	if err != nil {
		return nil, err
	}
	return key, kept.Put(ctx, accountName,
		pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: der}))
}
