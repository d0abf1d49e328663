package service

import (
	"context"
	"crypto/rand"
	"fmt"
	"math/big"
	"sync"
	"time"

	"wardicon/core/pki"
	"wardicon/store"
)

// listed is a revocation list that was signed.
type listed struct {
	count int
	last  int64
	until time.Time
	der   []byte
}

// lists keeps signed revocation lists as long as they are fresh, by authority and kind.
type lists struct {
	mu    sync.Mutex
	known map[string]listed
}

// How long a revocation list counts, and after which time a new one is signed.
const (
	listCounts = 7 * 24 * time.Hour
	listFresh  = time.Hour
)

// RevocationList is an authority's list in DER form (RFC 5280 §5), and when it is signed
// again at the latest. It is signed when something was revoked since, and every hour. A delta
// has what was revoked within the time that a whole list counts: it adds to any whole list that
// still does (RFC 5280 §5.2.4).
func (s *Service) RevocationList(
	ctx context.Context,
	authorityID string,
	delta bool,
) ([]byte, time.Time, error) {
	tx, now := s.store.Read(), s.now()
	a, err := store.Authorities.Get(ctx, tx, authorityID)
	if err != nil {
		return nil, now, err
	}
	if !a.Signs() {
		return nil, now, &store.NotFoundError{Noun: "revocation list", ID: authorityID}
	}
	count, last, err := tx.CountRevoked(ctx, authorityID)
	if err != nil {
		return nil, now, err
	}
	s.lists.mu.Lock()
	defer s.lists.mu.Unlock()
	slot := fmt.Sprintf("%s %t %d", authorityID, delta, a.Version)
	if l, ok := s.lists.known[slot]; ok && l.count == count && l.last == last &&
		now.Before(l.until) {
		return l.der, l.until, nil
	}
	list := pki.List{
		Number: big.NewInt(now.UnixMilli()),
		From:   now.Add(-time.Minute),
		Next:   now.Add(listCounts),
		Fresh:  a.Deltas,
	}
	var lately time.Time
	if delta {
		lately = now.Add(-listCounts)
		list.Base, list.Next, list.Fresh = big.NewInt(lately.UnixMilli()), now.Add(2*listFresh), nil
	}
	if list.Entries, err = tx.RevokedBy(
		ctx,
		authorityID,
		now.Add(-listCounts),
		lately,
	); err != nil {
		return nil, now, err
	}
	pair, err := s.signing(a)
	if err != nil {
		return s.lastList(slot, list.Next, fmt.Errorf("authority %s: %w", a.Name, err))
	}
	der, err := pki.RevocationList(
		rand.Reader,
		pki.Issuer{Certificate: pair.Leaf, Key: pair.Key},
		list,
	)
	if err != nil {
		return s.lastList(slot, list.Next, err)
	}
	if len(s.lists.known) > 200 {
		clear(s.lists.known)
	}
	s.lists.known[slot] = listed{count, last, now.Add(listFresh), der}
	return der, now.Add(listFresh), nil
}

// lastList is the list that was signed last, where the one that would count until next cannot be
// signed now: as long as it counts, nobody is kept out for that. The lock is held.
func (s *Service) lastList(slot string, next time.Time, why error) ([]byte, time.Time, error) {
	now := s.now()
	l, ok := s.lists.known[slot]
	if !ok || now.After(l.until.Add(next.Sub(now)-listFresh)) {
		return nil, now, why
	}
	s.log.Error("a CRL cannot be signed; the last one is served", "error", why)
	return l.der, now.Add(time.Minute), nil
}
