package service

import (
	"context"
	"net/netip"
	"slices"
	"time"

	"wardicon/api"
	"wardicon/core/egress"
	"wardicon/core/vpn"
	"wardicon/store"
)

// Whereabouts says through which gateway an address comes.
func (s *Service) Whereabouts(ctx context.Context, from string) (api.Whereabouts, error) {
	gateways, err := store.Gateways.Where(ctx, s.store.Read(), "1")
	return whereabouts(gateways, from, "", egress.Find), err
}

func whereabouts(
	gateways []vpn.Gateway,
	from, prefer string,
	look func([]vpn.Gateway, netip.Addr, string) *egress.Match,
) api.Whereabouts {
	w := api.Whereabouts{Address: from}
	if a, err := netip.ParseAddr(from); err == nil {
		w.Address, w.Match = a.Unmap().WithZone("").String(), look(gateways, a, prefer)
	}
	return w
}

// proof says what was seen of a browser that has opened a handover: before, now, by each family
// alone, and its resolver.
func (s *Service) proof(
	ctx context.Context,
	tx *store.Tx,
	v *store.Visit,
	gatewayID, from string,
) (p api.Proof, err error) {
	gateways, err := store.Gateways.Where(ctx, tx, "1")
	if err != nil {
		return p, err
	}
	p = api.Proof{Before: v.Before, Now: whereabouts(gateways, from, gatewayID, egress.Find)}
	p.Right = p.Now.Match != nil && p.Now.Match.GatewayID == gatewayID
	for _, one := range []struct {
		from string
		to   **api.Whereabouts
		look func([]vpn.Gateway, netip.Addr, string) *egress.Match
	}{
		{v.V4, &p.V4, egress.Find},
		{v.V6, &p.V6, egress.Find},
		{v.Resolver, &p.Resolver, egress.Resolver},
	} {
		if one.from != "" {
			w := whereabouts(gateways, one.from, gatewayID, one.look)
			*one.to = &w
		}
	}
	// What one family shows and the other does not bypasses the tunnel.
	through := p.Now.Match != nil || p.V4 != nil && p.V4.Match != nil ||
		p.V6 != nil && p.V6.Match != nil
	for _, w := range []*api.Whereabouts{&p.Now, p.V4, p.V6} {
		p.Past = p.Past || through && w != nil && w.Match == nil
	}
	return p, nil
}

// seenAgain is how long a seen connection is as good as a new one.
const seenAgain = time.Minute

// See looks at where a browser that has opened a handover comes from now. Where that is a gateway,
// it is noted on the profile; where it is the handover's own, the handover is done. Pages look
// every few seconds: nothing is written where there is nothing new.
func (s *Service) See(ctx context.Context, token, bearer, from string) (seen api.Seen, err error) {
	tx := s.store.Read()
	h, v, err := s.visited(ctx, tx, token, bearer)
	if err != nil {
		return seen, err
	}
	profile, err := store.Profiles.Row(ctx, tx, h.ProfileID)
	if err != nil {
		return seen, err
	}
	seen = api.Seen{Handover: h, Probe: v.Probe}
	if seen.Doors, _, err = s.doors(ctx, tx, h.ProfileID); err != nil {
		return seen, err
	}
	if seen.Proof, err = s.proof(
		ctx,
		tx,
		v,
		profile.GatewayID,
		from,
	); err != nil ||
		seen.Proof.Now.Match == nil {
		return seen, err
	}
	now := seen.Proof.Now
	before, err := tx.SeenConnections(ctx, h.ProfileID)
	if err != nil {
		return seen, err
	}
	known := slices.ContainsFunc(before, func(one api.SeenConnection) bool {
		return one.GatewayID == now.Match.GatewayID && one.Address == now.Address &&
			s.now().Sub(one.Last) < seenAgain
	})
	if known && (h.Connected != nil || !seen.Proof.Right) {
		return seen, nil
	}
	return seen, s.store.Write(ctx, func(tx *store.Tx) error {
		first, err := tx.NoteSeenConnection(
			ctx,
			api.SeenConnection{
				ProfileID: h.ProfileID,
				GatewayID: now.Match.GatewayID,
				Address:   now.Address,
				By:        now.Match.By,
			},
		)
		if err != nil {
			return err
		}
		if seen.Proof.Right {
			if err := tx.NoteConnected(ctx, h.ID); err != nil {
				return err
			}
		}
		if !first {
			return nil
		}
		return audit(
			ctx,
			tx,
			"seen connected",
			"profile",
			h.ProfileID,
			h.Device+" through "+now.Match.Gateway,
		)
	})
}

// SeenConnections lists the gateways that a profile's device was seen through.
func (s *Service) SeenConnections(
	ctx context.Context,
	profileID string,
) ([]api.SeenConnection, error) {
	tx := s.store.Read()
	if err := store.Profiles.Known(ctx, tx, profileID); err != nil {
		return nil, err
	}
	return tx.SeenConnections(ctx, profileID)
}

// SeenBy notes where a one-time name was asked for from: by one family alone, or by a resolver.
// Names that were given to nobody are nothing.
func (s *Service) SeenBy(ctx context.Context, probe, what, from string) (known bool, err error) {
	if len(probe) < 20 || len(probe) > 40 {
		return false, nil
	}
	a, err := netip.ParseAddr(from)
	if err != nil {
		return false, nil
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		known, err = tx.NoteSeen(ctx, probe, what, a.Unmap().WithZone("").String())
		return err
	})
	return known, err
}
