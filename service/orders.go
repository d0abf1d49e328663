package service

import (
	"bytes"
	"cmp"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/acme"

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

	orderText = 500 // characters of what the CA says
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

// challengeZone is the part of the zone that challenges are answered in.
const challengeZone = "acme"

// orderSetup is what has to stand elsewhere so that the CA finds its challenges.
func (s *Service) orderSetup(ctx context.Context, o api.Order) []string {
	list := []string{}
	organisation, err := s.store.Read().Organisation(ctx)
	if err != nil {
		return list
	}
	own := cmp.Or(strings.TrimRight(organisation.Links, "/"), "the URL of this service")
	for _, name := range o.Names {
		if o.Challenge == api.ChallengeDNS && s.ordering != nil {
			list = append(
				list,
				fmt.Sprintf("_acme-challenge.%s. CNAME %s.%s.%s.", name, o.GatewayID,
					challengeZone, strings.Trim(s.ordering.Zone, ".")),
			)
		} else if o.Challenge == api.ChallengeHTTP {
			list = append(list, fmt.Sprintf("http://%s%s redirects to %s%s", name, ChallengePath,
				own, ChallengePath))
		}
	}
	return list
}

// PlaceOrder has the ACME CA issue a certificate for a gateway's request, and renews it ahead of
// its end with the same key. The CA is asked at once, beside whoever called.
func (s *Service) PlaceOrder(
	ctx context.Context,
	gatewayID string,
	in api.NewOrder,
) (out api.Order, err error) {
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
		return errors.Join(tx.PutOrder(ctx, o), audit(
			ctx,
			tx,
			"order",
			"gateway",
			g.ID,
			fmt.Sprintf(
				"%s, certificate for %s by %s",
				g.Name,
				strings.Join(o.Names, ", "),
				o.Challenge,
			),
		))
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
func orderedNames(
	ctx context.Context,
	tx *store.Tx,
	g *vpn.Gateway,
	r *x509.CertificateRequest,
) ([]string, error) {
	own, err := namesToCome(ctx, tx, g)
	if err != nil {
		return nil, err
	}
	refused := func(found, expected, fix string) error {
		return problem("order", "/request", found, expected, fix)
	}
	others := len(r.IPAddresses) + len(r.EmailAddresses) + len(r.URIs)
	if len(r.DNSNames) == 0 || others > 0 {
		return nil, refused(
			fmt.Sprintf("%d host names and %d other names", len(r.DNSNames), others),
			"host names (subjectAltName) alone",
			"have the request made with the gateway's host names",
		)
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
	if err != nil {
		return o.Order, err
	}
	o.Setup = s.orderSetup(ctx, o.Order)
	return o.Order, nil
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

// keepOrdered keeps what came of asking the CA. An order that was ended or replaced meanwhile stays
// as it is.
func (s *Service) keepOrdered(
	ctx context.Context,
	o store.Order,
	chain []*x509.Certificate,
	fault error,
) error {
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
			o.Next = s.now().Add(min(orderAgain<<min(o.Tries, 8), orderMost))
			o.State, o.Problem, o.Tries = api.OrderFailed, cut(ACMEReason(fault), orderText), o.Tries+1
			s.log.Error("the ACME CA issues no certificate", "gateway", o.Gateway, "error",
				o.Problem, "again", o.Next)
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
