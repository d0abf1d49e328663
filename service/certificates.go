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

	"wardicon/api"
	"wardicon/core/pki"
	"wardicon/core/platform"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/store"
)

// Certificates lists what was issued, a page.
func (s *Service) Certificates(
	ctx context.Context,
	q store.Query,
) (api.Page[api.Certificate], error) {
	return store.Certificates.List(ctx, s.store.Read(), q)
}

// Certificate reads one.
func (s *Service) Certificate(ctx context.Context, id string) (api.Certificate, error) {
	return store.Certificates.Row(ctx, s.store.Read(), id)
}

// IssueToDevice makes a key and a certificate for a device, and gives both to it in the place
// of what it had. Without names it gets one of its own under the organisation's domain.
func (s *Service) IssueToDevice(
	ctx context.Context,
	deviceID, authorityID string,
	names []string,
	days int,
) (row api.Certificate, err error) {
	if err := s.Permits(ctx, "device", deviceID); err != nil {
		return row, err
	}
	err = settle(
		ctx,
		s,
		func(tx *store.Tx) (*issue, error) {
			return s.prepareIssue(ctx,
				tx, deviceID, authorityID, names, days)
		},
		func(tx *store.Tx, i *issue) error {
			row, err = s.keepIssue(ctx, tx, i)
			return err
		},
	)
	s.checkSoon()
	return row, err
}

// issue is a key and a certificate for a device that are made but not kept.
type issue struct {
	device *vpn.Device
	by     *vpn.Authority
	c      *x509.Certificate
	above  string
	key    *secret.Text // nil where the device has made it itself
}

// prepareIssue makes key and certificate: that takes a second where the key is an RSA one.
func (s *Service) prepareIssue(
	ctx context.Context,
	tx *store.Tx,
	deviceID, authorityID string,
	names []string,
	days int,
) (i *issue, err error) {
	var text secret.Text
	i, err = s.prepareFor(ctx, tx, deviceID, authorityID, names, days,
		func(d *vpn.Device) (crypto.PublicKey, error) {
			key, err := pki.NewKey(rand.Reader, keyFor(d))
			if err != nil {
				return nil, err
			}
			text, err = pki.KeyPEM(key)
			return key.Public(), err
		})
	if err != nil {
		return nil, err
	}
	i.key = &text
	return i, nil
}

// prepareFor makes a certificate for a key of a device; no days are those of the CA.
func (s *Service) prepareFor(
	ctx context.Context,
	tx *store.Tx,
	deviceID, authorityID string,
	names []string,
	days int,
	key func(*vpn.Device) (crypto.PublicKey, error),
) (*issue, error) {
	d, w, err := s.wantedOf(ctx, tx, deviceID, names)
	if err != nil {
		return nil, err
	}
	a, by, above, err := s.issuer(ctx, tx, authorityID)
	if err != nil {
		return nil, err
	}
	if err := errors.Join(
		s.mayIssue(ctx, tx, d, a),
		lasting(ctx, a, pki.ForClient, days),
	); err != nil {
		return nil, err
	}
	if w.From, w.To, err = s.span(by, cmp.Or(days, a.Days(pki.ForClient))); err != nil {
		return nil, err
	}
	w.Lists, w.Responders = a.Lists, a.Responders
	public, err := key(d)
	if err != nil {
		return nil, err
	}
	c, err := pki.Issue(rand.Reader, by, public, w)
	if err != nil {
		return nil, refused("certificate", err)
	}
	return &issue{device: d, by: a, c: c, above: above}, nil
}

// keepIssue gives a device what was made for it, as long as device and authority are as they were.
func (s *Service) keepIssue(
	ctx context.Context,
	tx *store.Tx,
	i *issue,
) (row api.Certificate, err error) {
	device, err := store.Devices.Version(ctx, tx, i.device.ID)
	if err != nil {
		return row, err
	}
	authority, err := store.Authorities.Version(ctx, tx, i.by.ID)
	if err != nil {
		return row, err
	}
	if device != i.device.Version || authority != i.by.Version {
		return row, errStale
	}
	if err := errors.Join(
		s.mayIssue(ctx, tx, i.device, i.by),
		s.issuesStill(ctx, tx, i.by),
	); err != nil {
		return row, err
	}
	return s.give(ctx, tx, i.device.ID, i.by, i.c, i.above, i.key)
}

// mayIssue bounds how many valid certificates a device has.
func (s *Service) mayIssue(
	ctx context.Context,
	tx *store.Tx,
	d *vpn.Device,
	a *vpn.Authority,
) error {
	most, _ := a.Limits()
	n, err := tx.ValidOf(ctx, d.ID)
	if err == nil && n >= most {
		err = problem(
			"certificate",
			"/device_id",
			fmt.Sprintf("%s, which has %d valid certificates", d.Name, n),
			fmt.Sprintf("fewer than %d, the limit of %s", most, a.Name),
			"revoke those that it no longer uses, or raise the limit",
		)
	}
	return err
}

// wantedOf is what a certificate of a device shall say, but for its time.
func (s *Service) wantedOf(
	ctx context.Context,
	tx *store.Tx,
	deviceID string,
	names []string,
) (d *vpn.Device, w pki.Wanted, err error) {
	d, err = store.Devices.Get(ctx, tx, deviceID)
	var none *store.NotFoundError
	if errors.As(err, &none) {
		return nil, w, missing("certificate", "/device_id", "device", deviceID)
	}
	if err != nil {
		return nil, w, err
	}
	organisation, err := tx.Organisation(ctx)
	if err != nil {
		return nil, w, err
	}
	below := devicesBelow(organisation)
	if len(names) == 0 {
		names = ownNames(d, organisation)
	} else if err := s.namable(ctx, tx, d, below, names); err != nil {
		return nil, w, err
	}
	w = pki.Wanted{
		Name:         cut(d.Name, 64),
		Organisation: organisation.Name,
		Usage:        pki.ForClient,
		Names:        names,
	}
	return d, w, posing(ctx, tx, w)
}

// namable bounds the names that an issuer may choose for a device: below the domain of devices, or
// the mail address of its person. An owner may choose others.
func (s *Service) namable(
	ctx context.Context,
	tx *store.Tx,
	d *vpn.Device,
	below string,
	names []string,
) error {
	if ownerOnly(ctx) == nil {
		return nil
	}
	person, err := store.People.Get(ctx, tx, d.PersonID)
	if err != nil {
		return err
	}
	for _, n := range names {
		if !strings.HasSuffix(strings.ToLower(n), strings.ToLower(below)) &&
			(person.Mail == "" || !strings.EqualFold(n, person.Mail)) {
			return problem(
				"certificate",
				"/names",
				quoted(n),
				"a name below "+strings.TrimPrefix(
					below,
					".",
				)+", or the mail address of "+person.Name,
				"leave the names out, or have an owner issue it",
			)
		}
	}
	return nil
}

// posing refuses a device's certificate with a name that a gateway has: clients that look at names
// alone would take the device for it.
func posing(ctx context.Context, tx *store.Tx, w pki.Wanted) error {
	gateways, err := store.Gateways.Where(ctx, tx, "1")
	if err != nil {
		return err
	}
	for _, g := range gateways {
		for _, own := range gatewayNames(&g) {
			if slices.ContainsFunc(
				append(slices.Clone(w.Names), w.Name),
				func(n string) bool { return strings.EqualFold(n, own) },
			) {
				return problem(
					"certificate",
					"/names",
					quoted(own)+", which the gateway "+g.Name+" has",
					"names that no gateway has",
					"rename the device, or choose another name",
				)
			}
		}
	}
	return nil
}

// give keeps an issued certificate and puts it with its key into its device's record; a nil key is
// one that the device made itself and has alone.
func (s *Service) give(
	ctx context.Context,
	tx *store.Tx,
	deviceID string,
	a *vpn.Authority,
	c *x509.Certificate,
	above string,
	key *secret.Text,
) (row api.Certificate, err error) {
	kept := issued(a, c, pki.ForClient, actor(ctx))
	kept.DeviceID = deviceID
	// The record first: what it refuses leaves no certificate behind, in a job too, which goes on.
	if _, err := s.Devices.change(ctx, tx, deviceID, 0, func(d *vpn.Device) (*vpn.Device, error) {
		return d, s.hold(ctx, tx, d, vpn.DeviceIdentity{
			Certificate: pki.Bundle(c) + above, Key: key, OnDevice: key == nil,
		})
	}, func(string) bool { return false }); err != nil {
		return row, err
	}
	if err := tx.AddCertificate(ctx, &kept); err != nil {
		return row, err
	}
	if row, err = store.Certificates.Row(ctx, tx, kept.ID); err != nil {
		return row, err
	}
	return row, audit(
		ctx,
		tx,
		"issue",
		"certificate",
		kept.ID,
		row.Device+" by "+a.Name+" until "+kept.To.Format(time.DateOnly),
	)
}

// span is how long a certificate is valid: some days, but within its issuer's time.
func (s *Service) span(by pki.Issuer, days int) (from, to time.Time, err error) {
	if days < 0 || days > mostDays {
		return from, to, problem(
			"certificate",
			"/days",
			fmt.Sprint(days),
			fmt.Sprintf("1 to %d days, or 0 for the authority's own rule", mostDays),
			"choose fewer",
		)
	}
	now := s.now().UTC().Truncate(time.Second)
	from, to = now.Add(-time.Hour), now.AddDate(0, 0, days)
	if from.Before(by.Certificate.NotBefore) {
		from = by.Certificate.NotBefore
	}
	if end := by.Certificate.NotAfter; to.After(end) {
		to = end
	}
	return from, to, nil
}

const mostDays = 3650

// lasting bounds how long an issuer may have a certificate be valid: as long as the authority's
// rule says. An owner may choose longer.
func lasting(ctx context.Context, a *vpn.Authority, usage pki.Usage, days int) error {
	if rule := a.Days(usage); days > rule && ownerOnly(ctx) != nil {
		return problem(
			"certificate",
			"/days",
			fmt.Sprint(days),
			fmt.Sprintf("at most %d days, the rule of %s", rule, a.Name),
			"choose fewer, or have an owner issue it",
		)
	}
	return nil
}

// issued is the row of a certificate that was just signed.
func issued(
	a *vpn.Authority,
	c *x509.Certificate,
	usage pki.Usage,
	operator string,
) vpn.Certificate {
	return vpn.Certificate{
		AuthorityID: a.ID,
		Serial:      c.SerialNumber.Text(16),
		Subject:     c.Subject.CommonName,
		Names:       append([]string{}, pki.Names(c)...),
		Usage:       usage,
		From:        c.NotBefore,
		To:          c.NotAfter,
		PEM:         pki.Bundle(c),
		Operator:    operator,
	}
}

// keyFor is a kind of key that a device's release can use by every protocol.
func keyFor(d *vpn.Device) pki.KeyChoice {
	if found, ok := platform.Find(d.Platform, d.Release); ok {
		for _, can := range found.Row.Can {
			if len(can.KeyKinds) > 0 && !slices.Contains(can.KeyKinds, "ECDSA256") {
				return pki.RSA3072
			}
		}
	}
	return pki.P256
}

func cut(v string, most int) string {
	if runes := []rune(v); len(runes) > most {
		return strings.TrimSpace(string(runes[:most]))
	}
	return v
}

// Revoke takes certificates back for good: one by its identifier, or all of a device, whose
// own one is then taken out of its record. It answers with what that touches.
func (s *Service) Revoke(
	ctx context.Context,
	id, deviceID string,
	reason pki.Reason,
) (w api.Revocation, err error) {
	if !slices.Contains(pki.Reasons, reason) {
		return w, problem(
			"certificate",
			"/reason",
			fmt.Sprintf("%q", reason),
			"unspecified, key-compromise, superseded or ceased",
			"choose one of them",
		)
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		w, err = s.revoke(ctx, tx, id, deviceID, reason)
		return err
	})
	s.checkSoon()
	return w, err
}

func (s *Service) revoke(
	ctx context.Context,
	tx *store.Tx,
	id, deviceID string,
	reason pki.Reason,
) (w api.Revocation, err error) {
	w = api.Revocation{Certificates: []api.Certificate{}, Profiles: []string{}}
	if deviceID == "" {
		one, err := store.Certificates.Row(ctx, tx, id)
		if err != nil {
			return w, err
		}
		if one.Revoked != nil {
			return w, problem(
				"certificate",
				"/id",
				"one that was revoked on "+one.Revoked.Format(time.DateOnly),
				"one that is valid",
				"nothing is to be done",
			)
		}
		w.Certificates = append(w.Certificates, one)
	} else {
		page, err := store.Certificates.List(
			ctx,
			tx,
			store.Query{
				Limit:      500,
				Conditions: map[string]string{"device_id": deviceID, "revoked": "false"},
			},
		)
		if err != nil {
			return w, err
		}
		w.Certificates = page.Items
	}
	for i, c := range w.Certificates {
		if err := tx.Revoke(ctx, c.ID, reason); err != nil {
			return w, err
		}
		if err := audit(
			ctx,
			tx,
			"revoke",
			"certificate",
			c.ID,
			c.Subject+", "+string(reason),
		); err != nil {
			return w, err
		}
		if w.Certificates[i], err = store.Certificates.Row(ctx, tx, c.ID); err != nil {
			return w, err
		}
		if err := s.offboard(ctx, tx, &w, c); err != nil {
			return w, err
		}
	}
	return w, nil
}

// offboard takes a revoked certificate out of its device's record, and lists the profiles
// that need one.
func (s *Service) offboard(
	ctx context.Context,
	tx *store.Tx,
	w *api.Revocation,
	c api.Certificate,
) error {
	if c.DeviceID == "" {
		return nil
	}
	d, err := store.Devices.Get(ctx, tx, c.DeviceID)
	if err != nil {
		return err
	}
	var gone *vpn.DeviceIdentity
	for id := range d.Identities() {
		if list, err := pki.Certificates(id.Certificate); err == nil &&
			list[0].SerialNumber.Text(16) == c.Serial {
			gone = id
		}
	}
	if gone == nil {
		return nil // it has another one by now
	}
	profiles, err := store.Profiles.Where(ctx, tx, "device_id = ?", d.ID)
	if err != nil {
		return err
	}
	for _, p := range profiles {
		worked, err := s.work(ctx, tx, p.ID)
		if err != nil {
			return err
		}
		if id := worked.plan.Connection.Identity; worked.plan.Connection.NeedsIdentity() &&
			(id == nil || strings.HasPrefix(id.Certificate, gone.Certificate)) {
			w.Profiles = append(w.Profiles, worked.in.Device.Name+" to "+worked.in.Gateway.Name)
		}
	}
	_, err = s.Devices.change(
		ctx,
		tx,
		d.ID,
		0,
		func(d *vpn.Device) (*vpn.Device, error) {
			d.Drop(gone.Certificate)
			if d.Enrolment != nil { // it may ask once more, with the secret of its next parcel
				next := *d.Enrolment
				next.Generation++
				d.Enrolment = &next
			}
			return d, nil
		},
		func(string) bool { return false },
	)
	return err
}
