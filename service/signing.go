package service

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/x509"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"wardicon/api"
	"wardicon/core/format"
	"wardicon/core/format/digests"
	"wardicon/core/pki"
	"wardicon/core/vpn"
	"wardicon/store"
)

// Signer shows what signs parcels, without its key.
func (s *Service) Signer(ctx context.Context) (api.Signer, error) {
	shown := api.Signer{Links: []pki.Link{}}
	version, err := s.store.Read().SignerVersion(ctx)
	if err != nil {
		return shown, err
	}
	shown.Version = version
	signer, err := s.store.Read().Signer(ctx)
	if err != nil || signer == nil {
		return shown, err
	}
	list, err := pki.Certificates(signer.Certificate)
	if err != nil {
		return shown, err
	}
	return api.Signer{
		Version:     version,
		Set:         true,
		Subject:     list[0].Subject.CommonName,
		Authority:   signer.Authority,
		Expires:     list[0].NotAfter,
		Since:       signer.Since,
		Certificate: signer.Certificate,
		Links:       pki.Chain(list[0], list[1:], nil, s.now()),
	}, nil
}

// MakeSigner has an authority here issue the certificate that parcels are signed with, in the place
// of what signed them.
func (s *Service) MakeSigner(
	ctx context.Context,
	authorityID, name string,
	days, version int,
) (api.Signer, error) {
	key, err := pki.NewKey(rand.Reader, pki.RSA3072) // old releases verify no other signatures
	if err != nil {
		return api.Signer{}, err
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		organisation, err := tx.Organisation(ctx)
		if err != nil {
			return err
		}
		a, by, _, err := s.issuer(ctx, tx, authorityID)
		if err != nil {
			return err
		}
		from, to, err := s.span(by, cmp.Or(days, a.Days(pki.ForServer)))
		if err != nil {
			return err
		}
		c, err := pki.Issue(
			rand.Reader,
			by,
			key.Public(),
			pki.Wanted{
				Name: cut(
					cmp.Or(strings.TrimSpace(name), organisation.Name+" profiles"),
					64,
				),
				Organisation: organisation.Name,
				Usage:        pki.ForSigning,
				From:         from,
				To:           to,
				Lists:        a.Lists,
				Responders:   a.Responders,
			},
		)
		if err != nil {
			return refused("signer", err)
		}
		text, err := pki.KeyPEM(key)
		if err != nil {
			return err
		}
		kept := issued(a, c, pki.ForSigning, actor(ctx))
		if err := tx.AddCertificate(ctx, &kept); err != nil {
			return err
		}
		// The root goes along: whoever holds the parcel against it has it, whoever does not sees
		// whose it is.
		return s.putSigner(
			ctx,
			tx,
			&vpn.Signer{
				Certificate: pki.Bundle(c) + a.Certificate,
				Key:         &text,
				Authority:   a.Name,
				Since:       s.now(),
			},
			c.Subject.CommonName,
			version,
		)
	})
	if err != nil {
		return api.Signer{}, err
	}
	return s.Signer(ctx)
}

// TakeSigner brings a signing certificate with its key in.
func (s *Service) TakeSigner(ctx context.Context, m api.Material, version int) (api.Signer, error) {
	b, err := bring("signer", m, "a signing certificate", func(c *x509.Certificate) bool {
		return !c.IsCA && slices.Contains([]pki.Usage{pki.ForSigning, pki.ForAny}, pki.UsageOf(c))
	})
	if err != nil {
		return api.Signer{}, err
	}
	if err := s.inTime("signer", b.leaf); err != nil {
		return api.Signer{}, err
	}
	key, err := b.keyText()
	if err != nil {
		return api.Signer{}, err
	}
	if key == nil {
		return api.Signer{}, problem(
			"signer",
			"/file",
			"no private key",
			"the signing certificate with its key",
			"export both, such as PKCS #12",
		)
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		return s.putSigner(
			ctx,
			tx,
			&vpn.Signer{Certificate: b.bundle(), Key: key, Since: s.now()},
			b.leaf.Subject.CommonName,
			version,
		)
	})
	if err != nil {
		return api.Signer{}, err
	}
	return s.Signer(ctx)
}

// RemoveSigner ends the signing of parcels.
func (s *Service) RemoveSigner(ctx context.Context, version int) error {
	return s.store.Write(ctx, func(tx *store.Tx) error {
		if err := sameSigner(ctx, tx, version); err != nil {
			return err
		}
		return errors.Join(
			tx.PutSigner(ctx, nil),
			tx.TouchAll(ctx),
			audit(ctx, tx, "remove", "signer", "", ""),
		)
	})
}

// sameSigner holds that what signs parcels is still in the version that was seen; 0 takes any.
func sameSigner(ctx context.Context, tx *store.Tx, version int) error {
	now, err := tx.SignerVersion(ctx)
	if err == nil && version != 0 && version != now {
		err = &store.ConflictError{Noun: "signer", Found: now, Want: version}
	}
	return err
}

func (s *Service) putSigner(
	ctx context.Context,
	tx *store.Tx,
	signer *vpn.Signer,
	name string,
	version int,
) error {
	if err := sameSigner(ctx, tx, version); err != nil {
		return err
	}
	return errors.Join(
		tx.PutSigner(ctx, signer),
		tx.TouchAll(ctx),
		audit(ctx, tx, "set", "signer", "", name),
	)
}

// signet signs what is built: Apple profiles themselves, and beside them and all others a list of
// the digests of what is handed over. Without a signer scripts still have their list.
type signet struct {
	identity *pki.Identity
}

func (s *Service) signet(ctx context.Context, tx *store.Tx) (*signet, error) {
	signer, err := tx.Signer(ctx)
	if err != nil || signer == nil {
		return &signet{}, err
	}
	pair, err := pki.Pair(signer.Certificate, *signer.Key)
	if err != nil {
		return nil, fmt.Errorf("signer: %w", err)
	}
	if s.now().After(pair.Leaf.NotAfter) {
		return nil, problem(
			"signer",
			"/certificate",
			fmt.Sprintf(
				"%q, which expired on %s",
				pair.Leaf.Subject.CommonName,
				pair.Leaf.NotAfter.UTC().Format(time.DateOnly),
			),
			"one that is valid",
			"make a new one, or bring one in",
		)
	}
	return &signet{&pair}, nil
}

const appleMedia = "application/x-apple-aspen-config"

// signed is files as they are handed over.
func (k *signet) signed(connection string, files []format.File) ([]format.File, error) {
	scripted := slices.ContainsFunc(
		files,
		func(f format.File) bool {
			return strings.HasSuffix(f.Name, ".sh") ||
				strings.HasSuffix(f.Name, ".ps1")
		},
	)
	if k.identity == nil && !scripted {
		return files, nil
	}
	files = slices.Clone(files)
	for i, f := range files {
		if k.identity == nil || f.MediaType != appleMedia {
			continue
		}
		data, err := pki.Sign(*k.identity, f.Content, false)
		if err != nil {
			return nil, err
		}
		files[i].Content = data
	}
	list := digests.List(connection, files)
	files = append(files, list)
	if k.identity == nil {
		return files, nil
	}
	data, err := pki.Sign(*k.identity, list.Content, true)
	return append(files, format.File{
		Name: format.FileName(
			connection,
			digests.SignedExpiring,
		),
		MediaType: "application/pkcs7-signature",
		Purpose:   "Signature of the list of digests",
		Content:   data,
	}), err
}
