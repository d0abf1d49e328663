package service

import (
	"context"
	"crypto/x509"
	"strings"
	"time"

	"wardicon/api"
	"wardicon/core/pki"
	"wardicon/core/platform"
	"wardicon/core/vpn"
	"wardicon/store"
)

// importDevice finds the device that an import is for, or adds it; nil where none is named.
func (s *Service) importDevice(
	ctx context.Context,
	tx *store.Tx,
	t *api.Imported,
	to api.ImportFor,
) (*vpn.Device, error) {
	if to.Device == "" {
		return nil, nil
	}
	known, err := store.Devices.Where(ctx, tx, "name = ?", to.Device)
	if err != nil {
		return nil, err
	}
	if len(known) > 0 {
		return &known[0], nil
	}
	if to.PersonID == "" {
		return nil, problem("import", "/person", "nobody", "the person who uses the new device",
			"name the person, or a device that is on record")
	}
	name, release, ok := strings.Cut(to.Release, " ")
	if _, known := platform.Find(vpn.Platform(name), release); !ok || !known {
		return nil, problem("import", "/release", to.Release,
			"platform and release of the new device, such as windows 11",
			"name them, or a device that is on record")
	}
	if err := reference(ctx, tx, store.People, "device", "/person_id", to.PersonID); err != nil {
		return nil, err
	}
	d := &vpn.Device{
		Name: to.Device, PersonID: to.PersonID, Platform: vpn.Platform(name), Release: release,
	}
	if err := s.Devices.fit(ctx, tx, d); err != nil {
		return nil, err
	}
	if err := store.Devices.Insert(ctx, tx, d); err != nil {
		return nil, s.Devices.taken(err)
	}
	t.Add("device", "new", d.Name, to.Release)
	return d, audit(ctx, tx, "import", "device", d.ID, d.Name)
}

// importIdentity gives a certificate with its key to the device that is named, unless it has one.
// Without a name it tells whose the certificate is.
func (s *Service) importIdentity(
	ctx context.Context,
	tx *store.Tx,
	t *api.Imported,
	id vpn.Identity,
	d *vpn.Device,
) error {
	list, err := pki.Certificates(id.Certificate)
	if err != nil {
		return err // what the readers hand on can be read
	}
	leaf := list[0]
	until := "valid until " + leaf.NotAfter.UTC().Format(time.DateOnly)
	if d == nil {
		by, err := holder(ctx, tx, leaf)
		if err != nil {
			return err
		}
		if by == nil {
			t.Add("certificate", "left", leaf.Subject.CommonName,
				until+"; name the device that has it")
		} else {
			t.Add("certificate", "same", leaf.Subject.CommonName, "is that of "+by.Name)
		}
		return nil
	}
	for had := range d.Identities() {
		if leads(had.Certificate, leaf) {
			t.Add("certificate", "same", leaf.Subject.CommonName, "is that of "+d.Name)
			return nil
		}
	}
	if another, err := s.hasOfIssuer(ctx, tx, d, leaf); err != nil {
		return err
	} else if another {
		t.Add("certificate", "left", leaf.Subject.CommonName,
			until+"; "+d.Name+" has another one of this CA")
		return nil
	}
	if err := s.inTime("certificate", leaf); err != nil {
		return err
	}
	changed, err := s.Devices.change(ctx, tx, d.ID, 0, func(d *vpn.Device) (*vpn.Device, error) {
		return d, s.hold(ctx, tx, d, vpn.DeviceIdentity{Certificate: id.Certificate, Key: &id.Key})
	}, func(string) bool { return false })
	if err != nil {
		return err
	}
	d.Identity, d.Others = changed.Identity, changed.Others
	t.Add("certificate", "new", leaf.Subject.CommonName, "for "+d.Name+", "+until)
	return nil
}

// holder is the device on record that has a certificate; nil where none has.
func holder(ctx context.Context, tx *store.Tx, leaf *x509.Certificate) (*vpn.Device, error) {
	list, err := store.Devices.Where(
		ctx,
		tx,
		"id IN (SELECT device_id FROM held_certificates WHERE "+
			"serial = ?)",
		leaf.SerialNumber.Text(16),
	)
	for i := range list {
		for had := range list[i].Identities() {
			if leads(had.Certificate, leaf) {
				return &list[i], err
			}
		}
	}
	return nil, err
}

// leads tells whether a certificate is the first of a bundle.
func leads(bundle string, leaf *x509.Certificate) bool {
	list, err := pki.Certificates(bundle)
	return err == nil && list[0].Equal(leaf)
}
