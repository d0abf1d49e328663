package service

import (
	"cmp"
	"context"
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"wardicon/api"
	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/store"
)

func (s *Service) authorities() *Authorities {
	return &Authorities{
		s:      s,
		table:  store.Authorities,
		owners: true, // it vouches for everything
		unique: "/name",
		meta:   func(a *vpn.Authority) *vpn.Meta { return &a.Meta },
		name:   func(a api.Authority) string { return a.Name },
		hide:   func(a *vpn.Authority) { a.Key = nil },
		refers: s.inToken,
		touch:  nothing[*vpn.Authority],
		before: nothing[*vpn.Authority],
		used: func(ctx context.Context, tx *store.Tx, a *vpn.Authority) error {
			return unused(
				ctx,
				tx,
				"authority",
				a.Name,
				a.ID,
				[3]string{"certificates", "authority_id", "certificates"},
				[3]string{store.OpenRollovers, "json_each.value", "switchovers"},
			)
		},
	}
}

const (
	authorityYears = 10
	mostYears      = 30
)

// MakeAuthority makes an authority: one that signs by itself, or a root and below it the one
// that issues. The last one is what issues; the root's key is stored beside it, sealed.
func (s *Service) MakeAuthority(
	ctx context.Context,
	n api.NewAuthority,
) (list []api.Authority, err error) {
	if n.Years < 0 || n.Years > mostYears {
		return nil, problem(
			"authority",
			"/years",
			fmt.Sprint(n.Years),
			fmt.Sprintf("1 to %d years, or 0", mostYears),
			"choose fewer",
		)
	}
	organisation, err := s.Organisation(ctx)
	if err != nil {
		return nil, err
	}
	from := s.now().UTC().Truncate(time.Second)
	w := pki.Wanted{
		Name:         n.Name,
		Organisation: organisation.Name,
		Usage:        pki.ForAuthority,
		From:         from.Add(-time.Hour),
		To:           from.AddDate(cmp.Or(n.Years, authorityYears), 0, 0),
		MaxPath:      0,
		Permitted:    n.Permitted,
		Excluded:     n.Excluded,
	}
	rows := []pki.Wanted{w}
	if n.Issuing {
		rows = []pki.Wanted{w, w}
		rows[0].Name, rows[0].MaxPath = n.Name+" Root", 1
		rows[1].To = w.To.AddDate(0, 0, -1)
	}
	keys, places := make([]crypto.Signer, len(rows)), make([]string, len(rows))
	defer func() {
		for _, uri := range places {
			if err != nil && uri != "" {
				err = errors.Join(err, s.tokens.Drop(uri))
			}
		}
	}()
	for i := range keys {
		if n.Token != "" && slices.Contains(pki.KeyChoices, cmp.Or(n.Kind, pki.P256)) {
			if keys[i], places[i], err = s.makeInToken(n, rows[i].Name); err != nil {
				return nil, err
			}
			continue
		}
		if keys[i], err = pki.NewKey(rand.Reader, n.Kind); err != nil {
			return nil, problem(
				"authority",
				"/kind",
				fmt.Sprintf("%q", n.Kind),
				"p256, p384 or rsa3072",
				"choose one of them",
			)
		}
	}
	var by pki.Issuer
	var above string
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		for i, w := range rows {
			key, issuer := keys[i], by
			if i == 0 {
				issuer = pki.Issuer{Key: key}
			}
			c, err := pki.Issue(rand.Reader, issuer, key.Public(), w)
			if err != nil {
				return refused("authority", err)
			}
			a := &vpn.Authority{
				Name:        w.Name,
				Certificate: pki.Bundle(c) + above,
				KeyURI:      places[i],
				Lists:       n.Lists,
			}
			if a.KeyURI == "" {
				text, err := pki.KeyPEM(key)
				if err != nil {
					return err
				}
				a.Key = &text
			}
			if err := s.Authorities.fit(ctx, tx, a); err != nil {
				return err
			}
			if err := store.Authorities.Insert(ctx, tx, a); err != nil {
				return s.Authorities.taken(err)
			}
			row, err := store.Authorities.Row(ctx, tx, a.ID)
			if err != nil {
				return err
			}
			if err := audit(ctx, tx, "make", "authority", a.ID, a.Name); err != nil {
				return err
			}
			list, by, above = append(list, row), pki.Issuer{Certificate: c, Key: key}, pki.Bundle(c)
		}
		return nil
	})
	return list, err
}

// makeInToken makes the key of an authority in a token.
func (s *Service) makeInToken(n api.NewAuthority, label string) (crypto.Signer, string, error) {
	var names []string
	if s.tokens != nil {
		names = s.tokens.Names()
	}
	if !slices.Contains(names, n.Token) {
		return nil, "", problem("authority", "/token", quoted(n.Token),
			"one of the service's tokens: "+cmp.Or(strings.Join(names, ", "), "it has none"),
			"start the service with --pkcs11, or leave the token out")
	}
	uri, key, err := s.tokens.Make(n.Token, label, n.Kind)
	return key, uri, err
}

// TakeAuthority brings an authority in from a file: with its key to issue here, without it where
// signing is done elsewhere.
func (s *Service) TakeAuthority(
	ctx context.Context,
	name string,
	m api.Material,
) (row api.Authority, err error) {
	b, err := bring(
		"authority",
		m,
		"the certificate of an authority",
		func(c *x509.Certificate) bool { return c.IsCA },
	)
	if err != nil {
		return row, err
	}
	if err := s.inTime("authority", b.leaf); err != nil {
		return row, err
	}
	key, err := b.keyText()
	if err != nil {
		return row, err
	}
	return s.Authorities.Add(
		ctx,
		&vpn.Authority{
			Name:        cmp.Or(name, b.leaf.Subject.CommonName),
			Certificate: b.bundle(),
			Key:         key,
		},
	)
}

// passphraseBits is the least strength of a passphrase that closes an authority's key.
const passphraseBits = 60

// ExportAuthority packs an authority with its key as PKCS #12 under a passphrase that is said
// twice. It is for owners alone, and logged.
func (s *Service) ExportAuthority(
	ctx context.Context,
	id string,
	passphrase, again secret.Text,
) (data []byte, name string, err error) {
	if err := ownerOnly(ctx); err != nil {
		return nil, "", err
	}
	if !passphrase.Equal(again) {
		return nil, "", problem(
			"authority",
			"/again",
			"another passphrase",
			"the same one a second time",
			"type both again",
		)
	}
	if n := utf8.RuneCountInString(passphrase.Reveal()); n < 15 || n > 256 {
		return nil, "", problem(
			"authority",
			"/passphrase",
			fmt.Sprintf("%d characters", n),
			"15 to 256 characters",
			"take five or six unrelated words",
		)
	}
	if e := s.memo.Judge(passphrase); e.Bits < passphraseBits {
		return nil, "", problem(
			"authority",
			"/passphrase",
			"one that "+e.Guesses()+" find",
			secret.Estimate{Bits: passphraseBits}.Guesses()+" or more",
			"take five or six unrelated words",
		)
	}
	row, err := store.Authorities.Row(ctx, s.store.Read(), id)
	if err != nil {
		return nil, "", err
	}
	use, err := s.approved(ctx, "export-key", id, "export the key of "+row.Name, RoleOwner)
	if err != nil {
		return nil, "", err
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if err := use(ctx, tx); err != nil {
			return err
		}
		a, err := store.Authorities.Get(ctx, tx, id)
		if err != nil {
			return err
		}
		if a.Key == nil {
			found := a.Name + ", whose key is not here"
			if a.KeyURI != "" {
				found = a.Name + ", whose key does not leave its token"
			}
			return problem(
				"authority",
				"/id",
				found,
				"an authority with its key",
				"export it where the key is",
			)
		}
		pair, err := pki.Pair(a.Certificate, *a.Key)
		if err != nil {
			return err
		}
		name = a.Name
		if data, err = pki.Close(rand.Reader, pair, passphrase); err != nil {
			return err
		}
		return audit(ctx, tx, "export key", "authority", id, name)
	})
	return data, name, err
}

// refused words what cannot be issued as a problem with its field.
func refused(object string, err error) error {
	var e *pki.IssueError
	if errors.As(err, &e) {
		return problem(object, "/"+e.Field, e.Found, e.Expected, "correct it")
	}
	return err
}

// issuer opens an authority for signing.
func (s *Service) issuer(
	ctx context.Context,
	tx *store.Tx,
	id string,
) (a *vpn.Authority, by pki.Issuer, above string, err error) {
	a, err = store.Authorities.Get(ctx, tx, id)
	var none *store.NotFoundError
	switch {
	case errors.As(err, &none):
		return nil, by, "", missing("certificate", "/authority_id", "authority", id)
	case err != nil:
		return nil, by, "", err
	case a.Retired:
		return nil, by, "", problem(
			"certificate",
			"/authority_id",
			a.Name+", which is retired",
			"an authority that still issues",
			"choose another one",
		)
	case !a.Signs():
		return nil, by, "", problem(
			"certificate",
			"/authority_id",
			a.Name+", whose key is not here",
			"an authority with its key",
			"have it issued where the key is, and bring the certificate in",
		)
	}
	if err := s.issuesStill(ctx, tx, a); err != nil {
		return nil, by, "", err
	}
	pair, err := s.signing(a)
	if err != nil {
		return nil, by, "", fmt.Errorf("authority %s: %w", a.Name, err)
	}
	return a, pki.Issuer{
			Certificate: pair.Leaf,
			Key:         pair.Key,
		}, between(
			append([]*x509.Certificate{pair.Leaf}, pair.Chain...),
		), nil
}

// issuesStill bounds how many certificates an authority issues within a day.
func (s *Service) issuesStill(ctx context.Context, tx *store.Tx, a *vpn.Authority) error {
	_, most := a.Limits()
	n, err := tx.IssuedSince(ctx, a.ID, s.now().Add(-24*time.Hour))
	if err == nil && n >= most {
		err = problem(
			"certificate",
			"/authority_id",
			fmt.Sprintf("%s, which has issued %d certificates within a day", a.Name, n),
			fmt.Sprintf("fewer than %d, its limit", most),
			"find out who requests so many; raise the limit if they are intended",
		)
	}
	return err
}

// between are the certificates that a leaf brings along, PEM: its issuer and those above it,
// without what vouches for itself.
func between(issuer []*x509.Certificate) string {
	return pki.Bundle(slices.DeleteFunc(slices.Clone(issuer), pki.Root)...)
}
