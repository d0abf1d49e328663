package service

import (
	"context"
	"errors"
	"sync"
	"time"

	"wardicon/core/pki"
	"wardicon/store"
)

// How long an answer about a certificate counts, and after which time it is signed again.
const (
	statusCounts = 24 * time.Hour
	statusFresh  = time.Hour
	mostStatus   = 10_000 // answers that are kept
)

// statuses keeps signed answers as long as they are fresh.
type statuses struct {
	sync.Mutex
	known map[string]listed
}

// CertificateStatus answers a question for the state of a certificate (OCSP, RFC 6960), and tells
// until when the answer may be kept. A revocation is told at once.
func (s *Service) CertificateStatus(ctx context.Context, authorityID string, question []byte) (
	answer []byte, until time.Time, err error,
) {
	tx, now := s.store.Read(), s.now()
	a, err := store.Authorities.Get(ctx, tx, authorityID)
	if err != nil {
		return nil, now, err
	}
	if !a.Signs() {
		return nil, now, &store.NotFoundError{Noun: "responder", ID: authorityID}
	}
	list, err := pki.Certificates(a.Certificate)
	if err != nil {
		return nil, now, err
	}
	serial, own, err := pki.StatusRequest(question, list[0])
	switch {
	case errors.Is(err, pki.ErrStatusRequest):
		return pki.StatusMalformed, now, nil
	case err != nil:
		return nil, now, err
	case !own:
		return pki.StatusUnauthorized, now, nil // RFC 5019 §2.2.3
	}
	state := pki.State{Serial: serial, At: now.Add(-time.Minute), Until: now.Add(statusCounts)}
	page, err := store.Certificates.List(
		ctx,
		tx,
		store.Query{Limit: 1, Conditions: map[string]string{
			"serial": serial.Text(16), "authority_id": a.ID,
		}},
	)
	if err != nil {
		return nil, now, err
	}
	mark := int64(-1)
	if len(page.Items) > 0 {
		state.Known, mark = true, 0
		if c := page.Items[0]; c.Revoked != nil {
			mark = c.Revoked.UnixMilli()
			state.Revoked = &pki.Revoked{Serial: serial, At: *c.Revoked, Reason: c.Reason}
		}
	}
	s.statuses.Lock()
	defer s.statuses.Unlock()
	slot := a.ID + " " + serial.Text(16)
	if l, ok := s.statuses.known[slot]; ok && l.last == mark && l.count == a.Version &&
		now.Before(l.until) {
		return l.der, l.until, nil
	}
	pair, err := s.signing(a) // a token is asked only for what is signed
	if err != nil {
		return nil, now, err
	}
	der, err := pki.Status(pki.Issuer{Certificate: pair.Leaf, Key: pair.Key}, state)
	if err != nil {
		return nil, now, err
	}
	if s.statuses.known == nil || len(s.statuses.known) >= mostStatus {
		s.statuses.known = map[string]listed{}
	}
	s.statuses.known[slot] = listed{a.Version, mark, now.Add(statusFresh), der}
	return der, now.Add(statusFresh), nil
}
