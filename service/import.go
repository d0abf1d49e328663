package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"wardicon/api"
	"wardicon/core/filecheck"
	"wardicon/core/format"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
	"wardicon/store"
)

// Import reads the facts of connections in files and shows what of them the records lack;
// with keep it is added. A gateway on record is left as it is but for offers that it does
// not have. Accounts are added for one person, if one is named, and a certificate with its key
// goes to the device that is named.
func (s *Service) Import(
	ctx context.Context,
	files []filecheck.File,
	to api.ImportFor,
) (api.Imported, error) {
	done := api.Imported{Items: []api.ImportedRecord{}, NotCarried: []format.Unsaid{}}
	items, err := s.looked(ctx, files, "")
	if err != nil {
		return done, err
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		device, err := s.importDevice(ctx, tx, &done, to)
		if err != nil {
			return err
		}
		for _, item := range items {
			done.NotCarried = append(done.NotCarried, item.NotCarried...)
			for _, c := range item.Connections {
				err := s.importOne(ctx, tx, &done, c.Connection, to.PersonID)
				if err == nil && c.Connection.Identity != nil {
					err = s.importIdentity(ctx, tx, &done, *c.Connection.Identity, device)
				}
				if err != nil {
					return err
				}
			}
		}
		if !to.Keep {
			return errShown
		}
		done.Kept = true
		return audit(
			ctx,
			tx,
			"import",
			"file",
			"",
			fmt.Sprintf("%d facts out of %d files", len(done.Items), len(files)),
		)
	})
	if errors.Is(err, errShown) {
		err = nil
	}
	s.checkSoon()
	return done, err
}

// errShown gives a transaction up whose result was only to be shown.
var errShown = errors.New("only shown")

func (s *Service) importOne(
	ctx context.Context,
	tx *store.Tx,
	t *api.Imported,
	c vpn.Connection,
	personID string,
) error {
	known, err := store.Gateways.Where(ctx, tx, "lower(address) = lower(?)", c.Server)
	if err != nil {
		return err
	}
	offers := offered(c)
	var g *vpn.Gateway
	if len(known) > 0 {
		g = &known[0]
		if g.Offers.Has(c.Protocol) {
			t.Add("gateway", "same", g.Name, "is on record with "+c.Protocol.Title())
		} else {
			mix(&g.Offers, offers)
			g.Normalise()
			if err := s.Gateways.fit(ctx, tx, g); err != nil {
				return err
			}
			if err := errors.Join(
				store.Gateways.Update(ctx, tx, g, g.Version),
				s.Gateways.touch(ctx, tx, g),
				audit(ctx, tx, "import", "gateway", g.ID, g.Name),
			); err != nil {
				return err
			}
			t.Add("gateway", "changed", g.Name, "now offers "+c.Protocol.Title())
		}
	} else {
		g = &vpn.Gateway{
			Name:    s.freeName(ctx, tx, c),
			Address: c.Server,
			Routes:  c.Routes,
			DNS:     c.DNS,
			Domains: c.Domains,
			Offers:  offers,
			Note:    "imported from a file",
		}
		if err := s.Gateways.fit(ctx, tx, g); err != nil {
			return err
		}
		if err := store.Gateways.Insert(ctx, tx, g); err != nil {
			return s.Gateways.taken(err)
		}
		if err := audit(ctx, tx, "import", "gateway", g.ID, g.Name); err != nil {
			return err
		}
		t.Add("gateway", "new", g.Name, c.Protocol.Title()+" at "+c.Server)
	}
	if c.Login == "" || personID == "" {
		return nil
	}
	return s.importAccount(ctx, tx, t, c, g, personID)
}

func (s *Service) importAccount(
	ctx context.Context,
	tx *store.Tx,
	t *api.Imported,
	c vpn.Connection,
	g *vpn.Gateway,
	personID string,
) error {
	if err := reference(ctx, tx, store.People, "account", "/person_id", personID); err != nil {
		return err
	}
	a := vpn.Account{PersonID: personID, Login: c.Login, GatewayIDs: []string{g.ID}}
	if login, realm, ok := strings.Cut(c.Login, "@"); ok && g.SignIn.Form == vpn.LoginAtRealm {
		a.Login, a.Realm = login, realm
	}
	if strings.EqualFold(a.Realm, g.SignIn.Realm) {
		a.Realm = "" // the gateway's own
	}
	if !c.Password.IsZero() {
		a.Password = &c.Password
	}
	there, err := store.Accounts.Where(
		ctx,
		tx,
		"person_id = ? AND login = ? AND realm = ?",
		personID,
		a.Login,
		a.Realm,
	)
	if err != nil {
		return err
	}
	if len(there) > 0 {
		t.Add("account", "same", a.Login, "is on record")
		return nil
	}
	if err := s.Accounts.fit(ctx, tx, &a); err != nil {
		return err
	}
	if err := store.Accounts.Insert(ctx, tx, &a); err != nil {
		return s.Accounts.taken(err)
	}
	with := "without a password"
	if a.Password != nil {
		with = "with its password"
	}
	t.Add("account", "new", a.Login, "at "+g.Name+", "+with)
	return errors.Join(
		s.Accounts.touch(ctx, tx, &a),
		audit(ctx, tx, "import", "account", a.ID, a.Login),
	)
}

// freeName is a name for a gateway that no other has: the connection's, else the host's.
func (s *Service) freeName(ctx context.Context, tx *store.Tx, c vpn.Connection) string {
	base := cmp.Or(strings.TrimSpace(c.Name), c.Server)
	for n := 1; ; n++ {
		name := base
		if n > 1 {
			name = fmt.Sprintf("%s %d", base, n)
		}
		if list, err := store.Gateways.Where(
			ctx,
			tx,
			"name = ?",
			name,
		); err != nil ||
			len(list) == 0 {
			return name
		}
	}
}

// offered is what a gateway must offer for a connection to work.
func offered(c vpn.Connection) vpn.Offers {
	key := func(t secret.Text) *secret.Text {
		if t.IsZero() {
			return nil
		}
		return &t
	}
	methods := func(list []suite.PPPMethod) []suite.PPPMethod {
		if len(list) == 0 {
			return []suite.PPPMethod{suite.MSCHAPv2}
		}
		return slices.Clone(list)
	}
	switch {
	case c.L2TP != nil:
		l := c.L2TP
		return vpn.Offers{
			L2TP: &vpn.L2TPOffer{
				Auth:        []vpn.MachineAuth{l.Auth},
				PSK:         key(l.PSK),
				PPP:         methods(l.PPP),
				IKE:         l.IKE,
				ESP:         l.ESP,
				L2TPOptions: l.L2TPOptions,
				RemoteID:    l.RemoteID,
				Authority:   c.Authority,
			},
		}
	case c.IKEv2 != nil:
		i := c.IKEv2
		return vpn.Offers{
			IKEv2: &vpn.IKEv2Offer{
				Auth:         []vpn.IKEv2Auth{i.Auth},
				PSK:          key(i.PSK),
				RemoteID:     i.RemoteID,
				IKE:          i.IKE,
				ESP:          i.ESP,
				Authority:    c.Authority,
				IKEv2Options: i.IKEv2Options,
			},
		}
	case c.PPTP != nil:
		return vpn.Offers{
			PPTP: &vpn.PPTPOffer{
				PPP:         methods(c.PPTP.PPP),
				MPPE:        c.PPTP.MPPE,
				PPTPOptions: c.PPTP.PPTPOptions,
			},
		}
	case c.SSTP != nil:
		return vpn.Offers{
			SSTP: &vpn.SSTPOffer{
				Port:       c.SSTP.Port,
				PPP:        methods(c.SSTP.PPP),
				Authority:  c.Authority,
				ServerName: c.SSTP.ServerName,
			},
		}
	case c.TLS != nil:
		t := c.TLS
		o := &vpn.TLSOffer{
			Remotes:    t.Remotes,
			Auth:       []vpn.TLSAuth{t.Auth},
			Ciphers:    t.Ciphers,
			TLSOptions: t.TLSOptions,
			Authority:  c.Authority,
		}
		if t.Control != nil {
			o.ControlKey = &vpn.ControlKey{
				Kind:      t.Control.Kind,
				Direction: t.Control.Direction,
				Key:       key(t.Control.Key),
			}
		}
		return vpn.Offers{TLS: o}
	}
	return vpn.Offers{}
}

// mix adds offers that are not there yet.
func mix(to *vpn.Offers, from vpn.Offers) {
	to.L2TP = cmp.Or(to.L2TP, from.L2TP)
	to.IKEv2 = cmp.Or(to.IKEv2, from.IKEv2)
	to.PPTP = cmp.Or(to.PPTP, from.PPTP)
	to.SSTP = cmp.Or(to.SSTP, from.SSTP)
	to.TLS = cmp.Or(to.TLS, from.TLS)
}
