package service

import (
	"bytes"
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
	"sync"
	"time"

	"golang.org/x/crypto/acme"
	"golang.org/x/crypto/acme/autocert"

	"wardicon/api"
	"wardicon/core/pki"
	"wardicon/core/vpn"
	"wardicon/store"
)

// Times of asking an ACME CA.
const (
	orderTime  = 3 * time.Minute // for one certificate
	orderTick  = time.Minute
	orderAgain = time.Hour // after the first failure; doubled each time
	orderMost  = 24 * time.Hour
)

// ChallengePath is where an ACME CA looks for the answer to a challenge (RFC 8555 §8.3).
const ChallengePath = "/.well-known/acme-challenge/"

// Orderer is how gateways' certificates are ordered: a CA, and what an account there needs.
type Orderer struct {
	Client  func() *acme.Client // without a key
	Account acme.Account
	Zone    string // that the service answers; empty where it answers none
}

// ordering is the orderer, and what the CA is to find now.
type ordering struct {
	Orderer
	soon chan struct{}

	mu      sync.Mutex
	answers map[string]string   // of http-01, by token
	texts   map[string][]string // of dns-01, by label
}

// OrderBy lets gateways' certificates be ordered.
func (s *Service) OrderBy(o Orderer) {
	s.ordering = &ordering{
		Orderer: o, soon: make(chan struct{}, 1), answers: map[string]string{}, texts: map[string][]string{},
	}
}

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

// challengeZone is the part of the zone that challenges are answered in.
const challengeZone = "acme"

// orderSetup is what has to stand elsewhere so that the CA finds its challenges.
func (s *Service) orderSetup(ctx context.Context, o api.Order) []string {
	list := []string{}
	organisation, err := s.store.Read().Organisation(ctx)
	if err != nil {
		return list
	}
	for _, name := range o.Names {
		if o.Challenge == api.ChallengeDNS && s.ordering != nil {
			list = append(list, fmt.Sprintf("_acme-challenge.%s. CNAME %s.%s.%s.", name, o.GatewayID,
				challengeZone, strings.Trim(s.ordering.Zone, ".")))
		} else if o.Challenge == api.ChallengeHTTP {
			list = append(list, fmt.Sprintf("http://%s%s redirects to %s%s", name, ChallengePath,
				strings.TrimRight(organisation.Links, "/"), ChallengePath))
		}
	}
	return list
}

// PlaceOrder has the ACME CA issue a certificate for a gateway's request, and renews it ahead of its
// end with the same key. The CA is asked at once, beside whoever called.
func (s *Service) PlaceOrder(ctx context.Context, gatewayID string, in api.NewOrder) (out api.Order, err error) {
	if s.ordering == nil {
		return out, problem("order", "/challenge", "no ACME CA", "a service with an ACME CA",
			"start it with --acme-directory")
	}
	r, err := pki.Request([]byte(in.Request))
	if err != nil {
		return out, problem("order", "/request", err.Error(), "a signing request in PEM form",
			"have the gateway make one again")
	}
	if in.Challenge == api.ChallengeDNS && s.ordering.Zone == "" {
		return out, problem("order", "/challenge", in.Challenge, "a zone that the service answers",
			"start it with --look-zone and --look-listen, or choose "+api.ChallengeHTTP)
	}
	o := store.Order{Request: r.Raw}
	o.GatewayID, o.Challenge, o.State, o.Next = gatewayID, in.Challenge, api.OrderWaiting, s.now()
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		g, err := store.Gateways.Get(ctx, tx, gatewayID)
		if err != nil {
			return err
		}
		if o.Names, err = orderedNames(ctx, tx, g, r); err != nil {
			return err
		}
		return errors.Join(tx.PutOrder(ctx, o), audit(ctx, tx, "order", "gateway", g.ID,
			fmt.Sprintf("%s, certificate for %s by %s", g.Name, strings.Join(o.Names, ", "), o.Challenge)))
	})
	if err != nil {
		return out, err
	}
	select {
	case s.ordering.soon <- struct{}{}:
	default: // it looks soon anyway
	}
	return s.Order(ctx, gatewayID)
}

// orderedNames are the host names of a request: those of the gateway's record, and nothing else.
func orderedNames(ctx context.Context, tx *store.Tx, g *vpn.Gateway, r *x509.CertificateRequest) ([]string, error) {
	own, err := namesToCome(ctx, tx, g)
	if err != nil {
		return nil, err
	}
	refused := func(found, expected, fix string) error {
		return problem("order", "/request", found, expected, fix)
	}
	if len(r.DNSNames) == 0 || len(r.IPAddresses)+len(r.EmailAddresses)+len(r.URIs) > 0 {
		return nil, refused(fmt.Sprintf("%d host names and %d other names", len(r.DNSNames),
			len(r.IPAddresses)+len(r.EmailAddresses)+len(r.URIs)), "host names (subjectAltName) alone",
			"have the request made with the gateway's host names")
	}
	if cn := r.Subject.CommonName; cn != "" && !slices.Contains(r.DNSNames, cn) {
		return nil, refused(fmt.Sprintf("the common name %q", cn), "one of its host names, or none",
			"have the request made without a subject")
	}
	for _, n := range r.DNSNames {
		if !slices.ContainsFunc(own, func(v string) bool { return strings.EqualFold(v, n) }) {
			return nil, refused(fmt.Sprintf("the name %q", n),
				"names that the gateway's record has: "+strings.Join(own, ", "),
				"add the name to the record, or have the request made without it")
		}
	}
	return r.DNSNames, nil
}

// Order reads that of a gateway.
func (s *Service) Order(ctx context.Context, gatewayID string) (api.Order, error) {
	o, err := s.store.Read().Order(ctx, gatewayID)
	o.Setup = s.orderSetup(ctx, o.Order)
	return o.Order, err
}

// Orders lists all, and how the CA can be shown names.
func (s *Service) Orders(ctx context.Context) (out api.OrderList, err error) {
	list, err := s.store.Read().Orders(ctx)
	out = api.OrderList{Items: []api.Order{}, Challenges: []string{}}
	for _, o := range list {
		o.Setup = s.orderSetup(ctx, o.Order)
		out.Items = append(out.Items, o.Order)
	}
	if s.ordering != nil {
		out.Challenges = append(out.Challenges, api.ChallengeHTTP)
		if s.ordering.Zone != "" {
			out.Challenges = append(out.Challenges, api.ChallengeDNS)
		}
	}
	return out, err
}

// EndOrder ends renewing; the certificate stays.
func (s *Service) EndOrder(ctx context.Context, gatewayID string) error {
	return s.store.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Order(ctx, gatewayID); err != nil {
			return err
		}
		return errors.Join(tx.RemoveOrder(ctx, gatewayID),
			audit(ctx, tx, "end order", "gateway", gatewayID, ""))
	})
}

// KeepOrders asks the CA for what is due, until the context ends.
func (s *Service) KeepOrders(ctx context.Context) {
	if s.ordering == nil {
		return
	}
	clock := time.NewTicker(orderTick)
	defer clock.Stop()
	for {
		if err := s.orderDue(ctx); err != nil && ctx.Err() == nil {
			s.log.Error("ordering certificates", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-clock.C:
		case <-s.ordering.soon:
		}
	}
}

func (s *Service) orderDue(ctx context.Context) error {
	list, err := s.store.Read().DueOrders(ctx, s.now())
	if err != nil {
		return err
	}
	for _, o := range list {
		limited, stop := context.WithTimeout(ctx, orderTime)
		chain, err := s.ordering.order(limited, s, o)
		stop()
		if ctx.Err() != nil {
			return nil
		}
		if err := s.keepOrdered(As(ctx, Schedule), o, chain, err); err != nil {
			return err
		}
	}
	return nil
}

// keepOrdered keeps what came of asking the CA. An order that was ended or replaced meanwhile stays as
// it is.
func (s *Service) keepOrdered(ctx context.Context, o store.Order, chain []*x509.Certificate, fault error) error {
	defer s.checkSoon()
	return s.store.Write(ctx, func(tx *store.Tx) error {
		now, err := tx.Order(ctx, o.GatewayID)
		if none := new(store.NotFoundError); errors.As(err, &none) ||
			err == nil && (!bytes.Equal(now.Request, o.Request) || now.Challenge != o.Challenge) {
			return nil
		}
		if err != nil {
			return err
		}
		if fault != nil {
			wait := min(orderAgain<<min(o.Tries, 8), orderMost)
			o.State, o.Problem, o.Tries, o.Next = api.OrderFailed, ACMEReason(fault), o.Tries+1, s.now().Add(wait)
			s.log.Error("the ACME CA issues no certificate", "gateway", o.Gateway, "error", o.Problem,
				"again", o.Next)
			return tx.PutOrder(ctx, o)
		}
		leaf := chain[0]
		o.State, o.Problem, o.Tries, o.Expires = api.OrderIssued, "", 0, &leaf.NotAfter
		o.Next = leaf.NotAfter.Add(-leaf.NotAfter.Sub(leaf.NotBefore) / 3)
		return errors.Join(tx.PutOrder(ctx, o), s.show(ctx, tx, o.GatewayID, pki.Bundle(chain...)),
			audit(ctx, tx, "take ordered certificate", "gateway", o.GatewayID,
				fmt.Sprintf("%s, until %s", o.Gateway, leaf.NotAfter.Format(time.DateOnly))))
	})
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
func (a *ordering) order(ctx context.Context, s *Service, o store.Order) ([]*x509.Certificate, error) {
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
	i := slices.IndexFunc(z.Challenges, func(one *acme.Challenge) bool { return one.Type == o.Challenge })
	if i < 0 {
		return fmt.Errorf("%s: the CA does not offer the challenge %s", z.Identifier.Value, o.Challenge)
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

// accountName is what the key of the account at the CA is kept under: the service's own certificate is
// ordered with the same one.
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
