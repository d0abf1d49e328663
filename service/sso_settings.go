package service

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"strings"
	"wardicon/core/vpn"
	"wardicon/store"
)

// SingleSignOn reads how operators sign in by a provider.
func (s *Service) SingleSignOn(ctx context.Context) (vpn.SingleSignOn, error) {
	o, err := s.store.Read().SingleSignOn(ctx)
	o.Secret = nil
	return o, err
}

// SetSingleSignOn changes it; keep leaves the client secret as it is.
func (s *Service) SetSingleSignOn(ctx context.Context, o vpn.SingleSignOn, keep bool) (
	vpn.SingleSignOn, error,
) {
	if err := ownerOnly(ctx); err != nil {
		return o, err
	}
	use, err := s.admitsBy(ctx, o)
	if err != nil {
		return o, err
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		old, err := tx.SingleSignOn(ctx)
		if err != nil {
			return err
		}
		if o.Version != 0 && o.Version != old.Version {
			return &store.ConflictError{
				Noun: "single sign-on configuration", Found: old.Version, Want: o.Version,
			}
		}
		if keep {
			o.Secret = old.Secret
		}
		o.Version = old.Version
		o.Normalise()
		if err := o.Validate(); err != nil {
			return err
		}
		if keep && old.Secret != nil && o.Issuer != old.Issuer && o.Issuer != "" {
			return problem("single sign-on", "/secret", "another issuer than the stored secret is for",
				"the client secret of the new one", "type the secret again")
		}
		return errors.Join(use(ctx, tx), tx.PutSingleSignOn(ctx, &o),
			audit(ctx, tx, "change", "single-sign-on", "", o.Issuer))
	})
	o.Secret = nil
	return o, err
}

// admitsBy demands two for what decides who may sign in, unless nobody may any more.
func (s *Service) admitsBy(ctx context.Context, o vpn.SingleSignOn) (
	use func(context.Context, *store.Tx) error, err error,
) {
	if o.Issuer == "" {
		return approvedAlready, nil
	}
	o.Normalise()
	if err := o.Validate(); err != nil {
		return nil, err
	}
	old, err := s.store.Read().SingleSignOn(ctx)
	if err != nil {
		return nil, err
	}
	told := func(o vpn.SingleSignOn) string {
		o.Version, o.Secret, o.SecretSet, o.Damaged = 0, nil, false, false
		data, _ := json.Marshal(o)
		sum := sha256.Sum256(data)
		return hex.EncodeToString(sum[:])
	}
	if told(old) == told(o) {
		return approvedAlready, nil
	}
	return s.approved(ctx, "single-sign-on", told(o),
		"change who signs in by the identity provider "+o.Issuer, RoleOwner)
}

// ProviderTitle is what the provider is called on the sign-in page; empty where there is none.
func (s *Service) ProviderTitle(ctx context.Context) (string, error) {
	o, err := s.store.Read().SingleSignOn(ctx)
	if err != nil || o.Issuer == "" {
		return "", err
	}
	if o.Title != "" {
		return o.Title, nil
	}
	return strings.TrimPrefix(o.Issuer, "https://"), nil
}
