package service

import (
	"context"
	"crypto/sha256"
	"crypto/x509"
	"errors"
	"fmt"
	"sync"

	"github.com/GehirnInc/crypt/sha512_crypt"

	"wardicon/api"
	"wardicon/core/format"
	"wardicon/core/format/daemons"
	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/store"
)

// GatewayConfiguration makes a working configuration of the daemons that offer what is on record of
// a gateway, with their user lists, and says what is left to its administrator.
func (s *Service) GatewayConfiguration(
	ctx context.Context,
	id string,
) (out api.GatewayConfiguration, err error) {
	if err := s.store.Snapshot(ctx, func(tx *store.Tx) error {
		out, err = s.configured(ctx, tx, id)
		return err
	}); err != nil {
		return api.GatewayConfiguration{}, err
	}
	if out.Archive, err = archived(out.Files); err != nil {
		return api.GatewayConfiguration{}, err
	}
	// Nothing leaves without its entry; a gateway that was removed meanwhile hands out nothing.
	if err := s.store.Write(ctx, func(tx *store.Tx) error {
		g, err := store.Gateways.Get(ctx, tx, id)
		if err != nil {
			return err
		}
		return audit(ctx, tx, "hand out configuration of", "gateway", id,
			fmt.Sprintf("%s: %d users", g.Name, out.Users))
	}); err != nil {
		return api.GatewayConfiguration{}, err
	}
	return out, nil
}

func (s *Service) configured(
	ctx context.Context,
	tx *store.Tx,
	id string,
) (out api.GatewayConfiguration, err error) {
	g, err := store.Gateways.Get(ctx, tx, id)
	if err != nil {
		return out, err
	}
	accounts, without, err := gatewayAccounts(ctx, tx, g)
	if err != nil {
		return out, err
	}
	sites, err := gatewaySites(ctx, tx, g)
	if err != nil {
		return out, err
	}
	served, next, passwords, err := s.servedNow(ctx, tx, g)
	if err != nil {
		return out, err
	}
	second, err := s.nextAccounts(ctx, tx, passwords, accounts)
	if err != nil {
		return out, err
	}
	users := func(p vpn.Protocol) []daemons.User {
		list := usersAt(served, accounts)(p)
		if p == vpn.TLS { // the only list in which a login may stand twice
			list = append(list, usersAt(served, second)(p)...)
		}
		return list
	}
	made, err := daemons.Gateway(daemons.Side{
		Gateway: *served, Next: next, Sites: sites, Users: users,
		List: s.listsOf(ctx, tx),
		Hash: func(login string, password secret.Text) (string, error) {
			if err := ctx.Err(); err != nil {
				return "", err
			}
			return s.passwordHash(tx.Salt(g.ID, login), password)
		},
	})
	if err != nil {
		return out, err
	}
	out = api.GatewayConfiguration{
		Files: []api.Handed{}, Left: append([]string{}, made.Left...), Users: len(accounts),
	}
	for _, login := range without {
		out.Left = append(out.Left, "the account "+login+", which has no password on record")
	}
	for _, f := range made.Files {
		out.Files = append(out.Files, api.Handed{
			Name: f.Name, Purpose: f.Purpose, Private: f.Private, Content: f.Content,
		})
	}
	ordered, err := orderedFiles(ctx, tx, g)
	out.Files = append(out.Files, ordered...)
	return out, err
}

// orderedFiles are the certificate that an ACME CA issued for a gateway, under the names by which
// its daemons' configuration knows it; the key is there already.
func orderedFiles(
	ctx context.Context,
	tx *store.Tx,
	g *vpn.Gateway,
) (list []api.Handed, err error) {
	o, err := tx.Order(ctx, g.ID)
	if none := new(store.NotFoundError); errors.As(err, &none) || err == nil && o.Expires == nil {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	chain, err := pki.Certificates(g.Certificate)
	if err != nil {
		return nil, err
	}
	add := func(ending, purpose, content string) {
		list = append(list, api.Handed{
			Name: format.FileName(g.Name, ending), Purpose: purpose, Content: []byte(content),
		})
	}
	add(
		"-certificate.pem",
		"The gateway's certificate; goes to /etc/swanctl/x509",
		pki.Bundle(chain[0]),
	)
	add("-chain.pem", "The certificate and those between it and its root, as TLS servers send them",
		g.Certificate)
	for i, c := range chain[1:] {
		add(
			fmt.Sprintf("-between%d.pem", i+1),
			"One of those between it and its root; goes to /etc/swanctl/x509ca",
			pki.Bundle(c),
		)
	}
	return list, nil
}

// gatewaySites are the routers that connect a site through a gateway without translating its
// addresses.
func gatewaySites(
	ctx context.Context,
	tx *store.Tx,
	g *vpn.Gateway,
) (list []daemons.SiteBehind, err error) {
	devices, err := store.Devices.Where(ctx, tx, store.Sited+
		" AND id IN (SELECT device_id FROM profiles WHERE gateway_id = ?)", g.ID)
	for _, d := range devices {
		if d.Site == nil || d.Site.Masquerade || d.Offboarded != "" || d.Identity == nil {
			continue
		}
		chain, err := pki.Certificates(d.Proof(g).Certificate)
		if err != nil {
			return list, err
		}
		list = append(list, daemons.SiteBehind{
			Name: chain[0].Subject.CommonName, Networks: d.Site.Networks,
		})
	}
	return list, err
}

// listsOf finds the revocation list of a CA that signs here; nil where that is done elsewhere.
func (s *Service) listsOf(ctx context.Context, tx *store.Tx) func(*x509.Certificate) []byte {
	return func(c *x509.Certificate) []byte {
		all, err := store.Authorities.Where(ctx, tx, "1 = 1")
		if err != nil {
			return nil
		}
		for _, a := range all {
			own, err := pki.Certificates(a.Certificate)
			if err != nil || len(own) == 0 || !own[0].Equal(c) || !a.Signs() {
				continue
			}
			if der, _, err := s.RevocationList(ctx, a.ID, false); err == nil {
				return der
			}
		}
		return nil
	}
}

// maxHashes is how many hashes of passwords are remembered.
const maxHashes = 200_000

// hashes of passwords for gateways take milliseconds each: what was hashed once is remembered, by
// what nobody can tell the password from.
type hashes struct {
	sync.Mutex
	of map[[sha256.Size]byte]string
}

// passwordHash writes a password as openssl passwd -6 does (SHA-512 crypt). The same salt gives the
// same hash, so that a list that is made again differs only where passwords do.
func (s *Service) passwordHash(salt string, password secret.Text) (string, error) {
	id := s.memo.ID(password, salt)
	s.hashes.Lock()
	known, ok := s.hashes.of[id]
	s.hashes.Unlock()
	if ok {
		return known, nil
	}
	made, err := sha512_crypt.New().Generate([]byte(password.Reveal()), []byte("$6$"+salt))
	if err != nil {
		return "", fmt.Errorf("a password cannot be hashed: %w", err)
	}
	s.hashes.Lock()
	defer s.hashes.Unlock()
	if s.hashes.of == nil || len(s.hashes.of) >= maxHashes {
		s.hashes.of = map[[sha256.Size]byte]string{}
	}
	s.hashes.of[id] = made
	return made, nil
}
