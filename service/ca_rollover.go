package service

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"

	"wardicon/api"
	"wardicon/core/pki"
	"wardicon/core/vpn"
	"wardicon/store"
)

// What is done on the way from one authority to another.
const (
	RolloverBegin  = "begin"  // both are believed, the old one issues no more
	RolloverFinish = "finish" // only the new one is believed
	RolloverUndo   = "undo"   // as before
)

// Rollover says how far the way from an authority to its successor has come.
func (s *Service) Rollover(ctx context.Context, id string) (api.Rollover, error) {
	return s.rollover(ctx, s.store.Read(), id)
}

func (s *Service) rollover(
	ctx context.Context,
	tx *store.Tx,
	id string,
) (c api.Rollover, err error) {
	c.Gateways = []api.RolledGateway{}
	if c.From, err = store.Authorities.Row(ctx, tx, id); err != nil {
		return c, err
	}
	if c.From.SuccessorID == "" {
		return c, problem(
			"authority",
			"/id",
			c.From.Name+", which has no successor",
			"an authority whose place another one takes",
			"begin the rollover first",
		)
	}
	if c.To, err = store.Authorities.Row(ctx, tx, c.From.SuccessorID); err != nil {
		return c, err
	}
	old, fresh, err := apart(c.From.Certificate, c.To.Certificate)
	if err != nil {
		return c, err
	}
	gateways, err := store.Gateways.Where(ctx, tx, "1")
	if err != nil {
		return c, err
	}
	var ids []string
	for _, g := range gateways {
		row := api.RolledGateway{ID: g.ID, Name: g.Name, Both: true}
		named := false
		for _, text := range g.Offers.Authorities() {
			if list, err := pki.Certificates(*text); err == nil && among(list, old) {
				named, row.Both = true, row.Both && among(list, fresh)
			}
		}
		if list, err := pki.Certificates(g.Certificate); err == nil {
			links, _ := pki.Path(list[0], list[1:], slices.Concat(old, fresh))
			row.Old = among(links, old)
		}
		if row.Old {
			c.Servers++
		}
		if named {
			ids = append(ids, g.ID)
		}
		if named || row.Old {
			c.Gateways = append(c.Gateways, row)
		}
	}
	if c.Devices, err = tx.CountHolders(ctx, id, math.MaxInt64); err != nil {
		return c, err
	}
	if c.Parcels, err = tx.Unbuilt(ctx, id, ids); err != nil {
		return c, err
	}
	c.Finished = len(c.Gateways) == 0 && c.Devices == 0
	return c, nil
}

// apart are the certificates of two authorities that the other one does not have: what is common to
// both, such as a root, need not roll over.
func apart(from, to string) (old, fresh []*x509.Certificate, err error) {
	a, err := pki.Certificates(from)
	if err != nil {
		return nil, nil, err
	}
	b, err := pki.Certificates(to)
	if err != nil {
		return nil, nil, err
	}
	return without(a, b), without(b, a), nil
}

func without(list, others []*x509.Certificate) []*x509.Certificate {
	return slices.DeleteFunc(
		slices.Clone(list),
		func(c *x509.Certificate) bool { return slices.ContainsFunc(others, c.Equal) },
	)
}

// among tells whether a list has one of others.
func among(list, others []*x509.Certificate) bool {
	return slices.ContainsFunc(
		list,
		func(c *x509.Certificate) bool { return slices.ContainsFunc(others, c.Equal) },
	)
}

// RollOver goes a step from an authority to another.
func (s *Service) RollOver(
	ctx context.Context,
	id, successorID, step string,
	anyway bool,
) (c api.Rollover, err error) {
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		switch step {
		case RolloverBegin:
			err = s.beginRollover(ctx, tx, id, successorID, false)
		case RolloverFinish:
			err = s.finishRollover(ctx, tx, id, anyway)
		case RolloverUndo:
			err = s.undoRollover(ctx, tx, id, false)
		default:
			err = problem(
				"authority",
				"/step",
				fmt.Sprintf("%q", step),
				"begin, finish or undo",
				"choose one of them",
			)
		}
		if err != nil {
			return err
		}
		if step == RolloverUndo {
			c.Gateways = []api.RolledGateway{}
			c.From, err = store.Authorities.Row(ctx, tx, id)
		} else {
			c, err = s.rollover(ctx, tx, id)
		}
		return errors.Join(
			err,
			audit(ctx, tx, "roll over: "+step, "authority", id, c.From.Name+" to "+c.To.Name),
		)
	})
	s.checkSoon()
	return c, err
}

// beginRollover has both authorities trusted, and the old one issue no more. With clients set, the
// records of gateways say that they trust devices' certificates of both too, as their daemons do
// once they have the configuration that is made from it.
func (s *Service) beginRollover(
	ctx context.Context,
	tx *store.Tx,
	id, successorID string,
	clients bool,
) error {
	from, err := store.Authorities.Row(ctx, tx, id)
	if err != nil {
		return err
	}
	var none *store.NotFoundError
	to, err := store.Authorities.Row(ctx, tx, successorID)
	switch {
	case errors.As(err, &none):
		return missing("authority", "/successor_id", "authority", successorID)
	case err != nil:
		return err
	case id == successorID:
		return problem(
			"authority",
			"/successor_id",
			"the same authority",
			"another one",
			"make or bring in its successor first",
		)
	case from.SuccessorID != "":
		return problem(
			"authority",
			"/id",
			from.Name+", whose successor is "+from.Successor+" already",
			"one without a successor",
			"finish or undo that rollover first",
		)
	case to.Retired || to.SuccessorID != "":
		return problem(
			"authority",
			"/successor_id",
			to.Name+", which issues no more",
			"an authority that still issues",
			"choose another one",
		)
	}
	old, fresh, err := apart(from.Certificate, to.Certificate)
	if err != nil {
		return err
	}
	if err := s.eachOffer(ctx, tx, clients, func(list []*x509.Certificate) []*x509.Certificate {
		if !among(list, old) {
			return list
		}
		return slices.Concat(list, without(fresh, list))
	}); err != nil {
		return err
	}
	return errors.Join(s.retire(ctx, tx, id, true), tx.SetSuccessor(ctx, id, successorID))
}

func (s *Service) finishRollover(ctx context.Context, tx *store.Tx, id string, anyway bool) error {
	c, err := s.rollover(ctx, tx, id)
	if err != nil {
		return err
	}
	if !anyway && c.Devices+c.Servers+c.Parcels > 0 {
		return problem(
			"authority",
			"/step",
			fmt.Sprintf(
				"%d devices and %d gateways with certificates of %s, and %d profiles without a "+
					"parcel that has both",
				c.Devices,
				c.Servers,
				c.From.Name,
				c.Parcels,
			),
			"none of them",
			"renew them and hand the parcels over first, or finish anyway",
		)
	}
	old, _, err := apart(c.From.Certificate, c.To.Certificate)
	if err != nil {
		return err
	}
	return s.eachOffer(ctx, tx, true, func(list []*x509.Certificate) []*x509.Certificate {
		if rest := without(list, old); len(rest) > 0 {
			return rest
		}
		return list
	})
}

func (s *Service) undoRollover(ctx context.Context, tx *store.Tx, id string, clients bool) error {
	c, err := s.rollover(ctx, tx, id)
	if err != nil {
		return err
	}
	old, fresh, err := apart(c.From.Certificate, c.To.Certificate)
	if err != nil {
		return err
	}
	if err := s.eachOffer(ctx, tx, clients, func(list []*x509.Certificate) []*x509.Certificate {
		if !among(list, old) {
			return list
		}
		return without(list, fresh)
	}); err != nil {
		return err
	}
	return errors.Join(tx.SetSuccessor(ctx, id, ""), s.retire(ctx, tx, id, false))
}

func (s *Service) retire(ctx context.Context, tx *store.Tx, id string, retired bool) error {
	_, err := s.Authorities.change(ctx, tx, id, 0, func(a *vpn.Authority) (*vpn.Authority, error) {
		a.Retired = retired
		return a, nil
	}, func(string) bool { return true })
	return err
}

// eachOffer changes the authorities that gateways' offers name and, with clients set, those
// that gateways check devices' certificates against.
func (s *Service) eachOffer(
	ctx context.Context,
	tx *store.Tx,
	clients bool,
	change func([]*x509.Certificate) []*x509.Certificate,
) error {
	gateways, err := store.Gateways.Where(ctx, tx, "1")
	if err != nil {
		return err
	}
	for _, g := range gateways {
		turned := false
		places := slices.Collect(maps.Values(g.Offers.Authorities()))
		if clients {
			places = append(places, &g.ClientAuthority)
		}
		for _, text := range places {
			list, err := pki.Certificates(*text)
			if err != nil {
				continue // there is none
			}
			if after := pki.Bundle(change(list)...); after != pki.Bundle(list...) {
				*text, turned = after, true
			}
		}
		if !turned {
			continue
		}
		if _, err := s.Gateways.change(
			ctx,
			tx,
			g.ID,
			0,
			func(shown *vpn.Gateway) (*vpn.Gateway, error) {
				for p, text := range shown.Offers.Authorities() {
					*text = g.Offers.Authority(p)
				}
				shown.ClientAuthority = g.ClientAuthority
				return shown, nil
			},
			func(string) bool { return true },
		); err != nil {
			return err
		}
	}
	return nil
}
