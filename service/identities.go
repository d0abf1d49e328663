package service

import (
	"bytes"
	"context"
	"crypto/x509"
	"strings"
	"time"

	"wardicon/api"
	"wardicon/core/pki"
	"wardicon/core/vpn"
	"wardicon/store"
)

// hold puts a certificate into a device's record, as its first. Those of the same CA go, and those
// of CAs that it succeeds; those of others stay beside it, for gateways that trust theirs and not
// its own, unless they have expired.
func (s *Service) hold(
	ctx context.Context, tx *store.Tx, d *vpn.Device, id vpn.DeviceIdentity,
) error {
	list, err := pki.Certificates(id.Certificate)
	if err != nil {
		return err
	}
	var others []vpn.DeviceIdentity
	err = s.eachIssuer(
		ctx,
		tx,
		d,
		list[0],
		func(had *vpn.DeviceIdentity, until time.Time, same bool) {
			if !same && s.now().Before(until) && len(others) < vpn.MaxOthers {
				others = append(others, *had)
			}
		},
	)
	d.Identity, d.Others = &id, others
	return err
}

// hasOfIssuer tells whether a device has a certificate of the CA that has issued another one.
func (s *Service) hasOfIssuer(
	ctx context.Context, tx *store.Tx, d *vpn.Device, leaf *x509.Certificate,
) (has bool, err error) {
	err = s.eachIssuer(ctx, tx, d, leaf, func(_ *vpn.DeviceIdentity, _ time.Time, same bool) {
		has = has || same
	})
	return has, err
}

// eachIssuer goes through a device's certificates: until when each is valid, and whether it is of the
// CA that has issued a leaf, or of one that this CA succeeds.
func (s *Service) eachIssuer(
	ctx context.Context, tx *store.Tx, d *vpn.Device, leaf *x509.Certificate,
	found func(had *vpn.DeviceIdentity, until time.Time, same bool),
) error {
	all, err := store.Authorities.Where(ctx, tx, "1")
	if err != nil {
		return err
	}
	own, err := issuerOf(ctx, tx, all, leaf)
	if err != nil {
		return err
	}
	for had := range d.Identities() {
		list, err := pki.Certificates(had.Certificate)
		if err != nil {
			continue // it proves nothing
		}
		before, err := issuerOf(ctx, tx, all, list[0])
		if err != nil {
			return err
		}
		found(had, list[0].NotAfter, own == before)
	}
	return nil
}

// issuerOf names who issued a certificate: the CA on record that has, or the last of those that have
// succeeded it; else the name and the key that the certificate says.
func issuerOf(
	ctx context.Context, tx *store.Tx, all []vpn.Authority, c *x509.Certificate,
) (string, error) {
	for _, a := range all {
		list, err := pki.Certificates(a.Certificate)
		if err != nil || !bytes.Equal(list[0].RawSubject, c.RawIssuer) ||
			c.CheckSignatureFrom(list[0]) != nil {
			continue
		}
		id := a.ID
		for range all { // successors cannot go round, but a record may be wrong
			row, err := store.Authorities.Row(ctx, tx, id)
			if err != nil || row.SuccessorID == "" {
				return id, err
			}
			id = row.SuccessorID
		}
		return id, nil
	}
	return string(c.RawIssuer) + string(c.AuthorityKeyId), nil
}

// DropDeviceCertificate takes a certificate with its key out of a device's record. It is not revoked
// by that.
func (s *Service) DropDeviceCertificate(
	ctx context.Context, deviceID, serial string,
) (api.Device, error) {
	return s.Devices.Change(ctx, deviceID, 0, func(d *vpn.Device) (*vpn.Device, error) {
		for id := range d.Identities() {
			list, err := pki.Certificates(id.Certificate)
			if err == nil && strings.EqualFold(list[0].SerialNumber.Text(16), serial) {
				d.Drop(id.Certificate)
				return d, nil
			}
		}
		return nil, &store.NotFoundError{Noun: "certificate of " + d.Name, ID: serial}
	}, func(string) bool { return true })
}
