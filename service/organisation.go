package service

import (
	"context"
	"errors"

	"wardicon/core/vpn"
	"wardicon/store"
)

// Organisation reads who the service works for.
func (s *Service) Organisation(ctx context.Context) (vpn.Organisation, error) {
	return s.store.Read().Organisation(ctx)
}

// SetOrganisation replaces it; every profile is checked anew.
func (s *Service) SetOrganisation(ctx context.Context, o vpn.Organisation) (vpn.Organisation, error) {
	if err := o.Validate(); err != nil {
		return o, err
	}
	err := s.store.Write(ctx, func(tx *store.Tx) error {
		return errors.Join(tx.PutOrganisation(ctx, &o), tx.TouchProfiles(ctx, "1"), deed(ctx, tx, "change", "organisation", "", o.Name))
	})
	s.checkSoon()
	return o, err
}
