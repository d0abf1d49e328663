package service

import (
	"context"
	"errors"

	"wardicon/core/vpn"
	"wardicon/store"
)

// Organisation reads who the service works for.
func (s *Service) Organisation(ctx context.Context) (vpn.Organisation, error) {
	o, err := s.store.Read().Organisation(ctx)
	o.LinksProblem = vpn.Unreachable(o.Links)
	return o, err
}

// SetOrganisation replaces it, in the version that was seen; version 0 replaces any. Where what
// goes into profiles differs, each is checked again.
func (s *Service) SetOrganisation(
	ctx context.Context,
	o vpn.Organisation,
) (vpn.Organisation, error) {
	if err := o.Validate(); err != nil {
		return o, err
	}
	o.LinksProblem = ""
	seen, err := s.store.Read().Organisation(ctx)
	if err != nil {
		return o, err
	}
	use, err := s.twoEyes(ctx, seen, o)
	if err != nil {
		return o, err
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if err := use(ctx, tx); err != nil {
			return err
		}
		before, err := tx.Organisation(ctx)
		if err != nil {
			return err
		}
		if o.Version != 0 && o.Version != before.Version {
			return &store.ConflictError{
				Noun:  "organisation",
				Found: before.Version,
				Want:  o.Version,
			}
		}
		if before.Name != o.Name || before.Domain != o.Domain || before.Links != o.Links {
			if err := tx.TouchAll(ctx); err != nil {
				return err
			}
		}
		return errors.Join(
			tx.PutOrganisation(ctx, &o),
			audit(ctx, tx, "change", "organisation", "", o.Name),
		)
	})
	s.checkSoon()
	notify(s.asking.schedule)
	o.LinksProblem = vpn.Unreachable(o.Links)
	return o, err
}
