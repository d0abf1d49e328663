package service

import (
	"context"
	"strings"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/core/wire/tlstunnel"
	"wardicon/store"
)

// Compare holds a secret to the record of a gateway, or to that of the account with the login,
// without showing either.
func (s *Service) Compare(
	ctx context.Context,
	id string,
	in api.Comparison,
) (check.Compared, error) {
	tx := s.store.Read()
	g, err := store.Gateways.Get(ctx, tx, id)
	if err != nil {
		return check.Compared{}, err
	}
	c, err := compareWith(ctx, tx, g, in)
	if err != nil {
		return c, err
	}
	return c, s.store.Write(ctx, func(tx *store.Tx) error {
		return audit(ctx, tx, "compare", "gateway", g.ID, g.Name+", "+string(in.Field))
	})
}

func compareWith(
	ctx context.Context,
	tx *store.Tx,
	g *vpn.Gateway,
	in api.Comparison,
) (c check.Compared, err error) {
	noun, id, field := "gateway", g.ID, ""
	switch in.Field {
	case vpn.FieldPSK:
		field = "offers/" + string(in.Protocol) + "/psk"
	case vpn.FieldControl:
		field = "offers/tls/control_key/key"
		if o := g.Offers.TLS; o != nil && o.ControlKey != nil && o.ControlKey.Key != nil &&
			vpn.IsServerKey(o.ControlKey.Key.Reveal()) { // each client has one of its own
			return check.Compared{
				Known: true, Same: tlstunnel.MadeFor(o.ControlKey.Key.Reveal(), in.Value.Reveal()),
			}, nil
		}
	case vpn.FieldIdentity:
		return compareIdentity(ctx, tx, in.Value.Reveal())
	case vpn.FieldPassword:
		login, realm := in.Login, ""
		if name, its, ok := strings.Cut(in.Login, "@"); ok && g.SignIn.Form == vpn.LoginAtRealm {
			login, realm = name, its
		}
		list, err := store.Accounts.Where(ctx, tx,
			"login = ? AND (realm = ? OR realm = '')", login, realm)
		if err != nil || len(list) != 1 { // nobody's, or it cannot be told whose
			return c, err
		}
		noun, id, field = "account", list[0].ID, "password"
	}
	c.Known, c.Same, c.Until, err = tx.Compare(ctx, noun, id, field, in.Value)
	return c, err
}

// compareIdentity tells whether a certificate is one that a device on record has, and of one that
// was issued here since when it is not.
func compareIdentity(ctx context.Context, tx *store.Tx, text string) (c check.Compared, err error) {
	list, err := pki.Certificates(text)
	if err != nil {
		return c, nil // the readers tell of it
	}
	leaf := list[0]
	by, err := holder(ctx, tx, leaf)
	if err != nil {
		return c, err
	}
	rows, err := tx.IssuedAs(ctx, leaf.SerialNumber)
	if err != nil {
		return c, err
	}
	for _, row := range rows {
		if leads(row.PEM, leaf) {
			c.Known = true
			c.Until = row.Revoked
		}
	}
	c.Known = c.Known || by != nil
	c.Same = by != nil && c.Until.IsZero()
	return c, nil
}

// comparing is Compare for files that the service looks at itself.
func comparing(ctx context.Context, tx *store.Tx) func(
	*vpn.Gateway, vpn.Connection, vpn.Field, secret.Text,
) check.Compared {
	return func(
		g *vpn.Gateway, c vpn.Connection, field vpn.Field, value secret.Text,
	) check.Compared {
		// A record that cannot be read now says nothing.
		told, _ := compareWith(ctx, tx, g, api.Comparison{
			Field: field, Protocol: c.Protocol, Login: c.Login, Value: value,
		})
		return told
	}
}
