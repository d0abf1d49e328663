package service

import (
	"archive/zip"
	"bytes"
	"cmp"
	"context"
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"wardicon/api"
	"wardicon/core/format"
	"wardicon/core/pki"
	"wardicon/core/switchover"
	"wardicon/core/vpn"
	"wardicon/store"
)

// IssueToGateway signs what a gateway asks for (RFC 2986): names that its record has, and no
// others. Without names in the request it gets those of the record.
func (s *Service) IssueToGateway(
	ctx context.Context,
	gatewayID, authorityID, request string,
	days int,
) (out api.Issued, err error) {
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		r, err := pki.Request([]byte(request))
		if err != nil {
			return problem(
				"certificate",
				"/request",
				err.Error(),
				"a signing request in PEM form",
				"have the gateway make one again",
			)
		}
		c, row, above, err := s.issueToGateway(
			ctx,
			tx,
			gatewayID,
			authorityID,
			pki.Asked(r),
			r.PublicKey,
			days,
		)
		if err != nil {
			return err
		}
		out = api.Issued{Certificate: row, Chain: pki.Bundle(c) + above}
		return nil
	})
	s.checkSoon()
	return out, err
}

// IssueGatewayBundle makes a key and a certificate for a gateway, and hands out the files that its
// daemons read. The key is not kept: it goes to the gateway and nowhere else.
func (s *Service) IssueGatewayBundle(
	ctx context.Context,
	gatewayID, authorityID string,
	kind pki.KeyChoice,
	days int,
) (out api.GatewayBundle, err error) {
	key, err := pki.NewKey(rand.Reader, kind)
	if err != nil {
		return out, problem(
			"certificate",
			"/kind",
			fmt.Sprintf("%q", kind),
			"p256, p384 or rsa3072",
			"choose one of them",
		)
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		c, row, above, err := s.issueToGateway(
			ctx,
			tx,
			gatewayID,
			authorityID,
			nil,
			key.Public(),
			days,
		)
		if err != nil {
			return err
		}
		believed, err := s.clientAuthorities(ctx, tx, authorityID)
		if err != nil {
			return err
		}
		if err := s.believes(ctx, tx, gatewayID, believed); err != nil {
			return err
		}
		out, err = gatewayBundle(row.Gateway, pki.Identity{Leaf: c, Key: key}, above, believed)
		out.Certificate = row
		return err
	})
	s.checkSoon()
	return out, err
}

// clientAuthorities are the authorities that a gateway checks devices' certificates against: one,
// and those whose place it takes, whose certificates devices still have.
func (s *Service) clientAuthorities(ctx context.Context, tx *store.Tx, id string) (string, error) {
	a, err := store.Authorities.Get(ctx, tx, id)
	if err != nil {
		return "", err
	}
	before, err := store.Authorities.Where(ctx, tx, "successor_id = ?", id)
	text := a.Certificate
	for _, old := range before {
		text += old.Certificate
	}
	return text, err
}

// gatewayBundle packs a gateway's certificate in every form that a daemon may ask for.
func gatewayBundle(
	gateway string,
	id pki.Identity,
	above, believed string,
) (out api.GatewayBundle, err error) {
	if above != "" {
		if id.Chain, err = pki.Certificates(above); err != nil {
			return out, err
		}
	}
	key, err := pki.KeyPEM(id.Key)
	if err != nil {
		return out, err
	}
	packed, passphrase, err := pki.Pack(id, false, false)
	if err != nil {
		return out, err
	}
	trusted, err := pki.Certificates(believed)
	if err != nil {
		return out, err
	}
	collection, err := pki.Collection(append([]*x509.Certificate{id.Leaf}, id.Chain...)...)
	if err != nil {
		return out, err
	}
	roots := slices.DeleteFunc(
		slices.Clone(trusted),
		func(c *x509.Certificate) bool { return !pki.Root(c) },
	)
	add := func(ending, purpose string, private bool, content []byte) {
		out.Files = append(
			out.Files,
			api.Handed{
				Name:    format.FileName(gateway, ending),
				Purpose: purpose,
				Private: private,
				Content: content,
			},
		)
	}
	add("-key.pem", "Private key; readable by the daemon alone", true, []byte(key.Reveal()))
	add("-certificate.pem", "The gateway's certificate", false, []byte(pki.Bundle(id.Leaf)))
	add(
		"-chain.pem",
		"The certificate and those between it and its root, as TLS servers send them",
		false,
		[]byte(pki.Bundle(id.Leaf)+above),
	)
	add(
		"-authority.pem",
		"Authorities that devices' certificates are checked against, the root last",
		false,
		[]byte(pki.Bundle(trusted...)),
	)
	for i, c := range trusted { // the IKE daemon reads one certificate of a file
		add(
			fmt.Sprintf("-ca%d.pem", i+1),
			"One of those authorities, for daemons that read one certificate of a file",
			false,
			[]byte(pki.Bundle(c)),
		)
	}
	add("-root.pem", "The root alone", false, []byte(pki.Bundle(roots...)))
	add("-certificate.der", "The gateway's certificate in DER form", false, id.Leaf.Raw)
	add(
		"-chain.p7b",
		"The chain as PKCS #7",
		false,
		pem.EncodeToMemory(&pem.Block{Type: "PKCS7", Bytes: collection}),
	)
	add(".p12", "Key and chain as PKCS #12, closed by the passphrase", true, packed)
	out.Passphrase = passphrase.Reveal()
	out.Archive, err = archived(out.Files)
	return out, err
}

func archived(files []api.Handed) ([]byte, error) {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, f := range files {
		part, err := w.Create(f.Name)
		if err != nil {
			return nil, err
		}
		if _, err := part.Write(f.Content); err != nil {
			return nil, err
		}
	}
	err := w.Close()
	return b.Bytes(), err
}

// issueToGateway signs a public key for the names on a gateway's record, and notes on the record
// that the gateway shows the certificate. Above are those between it and its root.
func (s *Service) issueToGateway(
	ctx context.Context,
	tx *store.Tx,
	gatewayID, authorityID string,
	asked []string,
	public crypto.PublicKey,
	days int,
) (c *x509.Certificate, row api.Certificate, above string, err error) {
	g, err := store.Gateways.Get(ctx, tx, gatewayID)
	var none *store.NotFoundError
	if errors.As(err, &none) {
		return nil, row, "", missing("certificate", "/gateway_id", "gateway", gatewayID)
	}
	if err != nil {
		return nil, row, "", err
	}
	organisation, err := tx.Organisation(ctx)
	if err != nil {
		return nil, row, "", err
	}
	own, err := namesToCome(ctx, tx, g)
	if err != nil {
		return nil, row, "", err
	}
	for _, n := range asked {
		if !slices.ContainsFunc(own, func(v string) bool { return strings.EqualFold(v, n) }) {
			return nil, row, "", problem(
				"certificate",
				"/request",
				fmt.Sprintf("the name %q", n),
				"names that the gateway's record has: "+strings.Join(own, ", "),
				"add the name to the record, or have the request made without it",
			)
		}
	}
	if len(asked) == 0 {
		asked = own
	}
	a, by, above, err := s.issuer(ctx, tx, authorityID)
	if err != nil {
		return nil, row, "", err
	}
	if err := lasting(ctx, a, pki.ForServer, days); err != nil {
		return nil, row, "", err
	}
	from, to, err := s.span(by, cmp.Or(days, a.Days(pki.ForServer)))
	if err != nil {
		return nil, row, "", err
	}
	c, err = pki.Issue(
		rand.Reader,
		by,
		public,
		pki.Wanted{
			Name:         cut(g.Address, 64),
			Organisation: organisation.Name,
			Usage:        pki.ForServer,
			Names:        asked,
			From:         from,
			To:           to,
			Lists:        a.Lists,
			Responders:   a.Responders,
		},
	)
	if err != nil {
		return nil, row, "", refused("certificate", err)
	}
	kept := issued(a, c, pki.ForServer, actor(ctx))
	kept.GatewayID = g.ID
	if err := tx.AddCertificate(ctx, &kept); err != nil {
		return nil, row, "", err
	}
	if err := s.show(ctx, tx, g.ID, pki.Bundle(c)+above); err != nil {
		return nil, row, "", err
	}
	if row, err = store.Certificates.Row(ctx, tx, kept.ID); err != nil {
		return nil, row, "", err
	}
	return c, row, above, audit(
		ctx,
		tx,
		"issue",
		"certificate",
		kept.ID,
		g.Name+" by "+a.Name+" until "+kept.To.Format(time.DateOnly),
	)
}

// believes notes on a gateway's record which authorities it checks devices' certificates
// against. What an operator noted beside them stays.
func (s *Service) believes(ctx context.Context, tx *store.Tx, gatewayID, authorities string) error {
	more, err := pki.Certificates(authorities)
	if err != nil {
		return err
	}
	_, err = s.Gateways.change(ctx, tx, gatewayID, 0, func(g *vpn.Gateway) (*vpn.Gateway, error) {
		known, _ := pki.Certificates(g.ClientAuthority)
		for _, c := range more {
			if !slices.ContainsFunc(known, c.Equal) {
				known = append(known, c)
			}
		}
		g.ClientAuthority = pki.Bundle(known...)
		return g, nil
	}, func(string) bool { return true })
	return err
}

// show notes on a gateway's record which certificate it shows.
func (s *Service) show(ctx context.Context, tx *store.Tx, gatewayID, chain string) error {
	_, err := s.Gateways.change(ctx, tx, gatewayID, 0, func(g *vpn.Gateway) (*vpn.Gateway, error) {
		g.Certificate = chain
		return g, nil
	}, func(string) bool { return true })
	return err
}

// TakeGatewayCertificate notes the certificate of a gateway that others run, out of a file. A key
// in it is refused: it belongs on the gateway alone.
func (s *Service) TakeGatewayCertificate(
	ctx context.Context,
	gatewayID string,
	m api.Material,
) (row api.Gateway, err error) {
	b, err := bring(
		"certificate",
		m,
		"the certificate of a gateway",
		func(c *x509.Certificate) bool { return !c.IsCA && pki.UsageOf(c) != pki.ForClient },
	)
	if err != nil {
		return row, err
	}
	if b.key != nil {
		return row, problem(
			"certificate",
			"/file",
			"a private key beside the certificate",
			"the certificate and its chain alone",
			"leave the key on the gateway; export the file without it",
		)
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if err := s.show(ctx, tx, gatewayID, b.bundle()); err != nil {
			return err
		}
		row, err = store.Gateways.Row(ctx, tx, gatewayID)
		return err
	})
	s.checkSoon()
	return row, err
}

// TakeDeviceIdentity gives a device a certificate with its key out of a file.
func (s *Service) TakeDeviceIdentity(
	ctx context.Context,
	deviceID string,
	m api.Material,
) (row api.Device, err error) {
	b, err := bring(
		"certificate",
		m,
		"the certificate of a device",
		func(c *x509.Certificate) bool { return !c.IsCA && pki.UsageOf(c) != pki.ForServer },
	)
	if err != nil {
		return row, err
	}
	if err := s.inTime("certificate", b.leaf); err != nil {
		return row, err
	}
	key, err := b.keyText()
	if err != nil {
		return row, err
	}
	if key == nil {
		return row, problem(
			"certificate",
			"/file",
			"no private key",
			"the certificate with its key",
			"export both, such as PKCS #12",
		)
	}
	return s.Devices.Change(ctx, deviceID, 0, func(d *vpn.Device) (*vpn.Device, error) {
		id := vpn.DeviceIdentity{Certificate: b.bundle(), Key: key}
		return d, s.hold(ctx, s.store.Read(), d, id)
	}, func(string) bool { return false })
}

// namesToCome are the names of a gateway, and those that a switchover gives it which has not ended:
// its certificate is for both.
func namesToCome(ctx context.Context, tx *store.Tx, g *vpn.Gateway) ([]string, error) {
	names := gatewayNames(g)
	list, err := store.Switchovers.Where(ctx, tx,
		"gateway_id = ? AND kind = ? AND state NOT IN ('closed', 'undone')", g.ID,
		vpn.SwitchAddress)
	for i := range list {
		next := switchover.Final(&list[i], *g)
		for _, n := range gatewayNames(&next) {
			if !slices.ContainsFunc(names, func(v string) bool { return strings.EqualFold(v, n) }) {
				names = append(names, n)
			}
		}
	}
	return names, err
}

// gatewayNames are all names and addresses by which devices may know a gateway.
func gatewayNames(g *vpn.Gateway) []string {
	list := append([]string{g.Address}, g.Addresses...)
	if i := g.Offers.IKEv2; i != nil {
		list = append(list, i.RemoteID)
	}
	if o := g.Offers.SSTP; o != nil {
		list = append(list, o.ServerName)
	}
	if t := g.Offers.TLS; t != nil {
		list = append(list, t.ServerName)
		for _, r := range t.Remotes {
			list = append(list, r.Address)
		}
	}
	var names []string
	for _, n := range list {
		if n != "" &&
			!slices.ContainsFunc(names, func(v string) bool { return strings.EqualFold(v, n) }) {
			names = append(names, n)
		}
	}
	return names
}
