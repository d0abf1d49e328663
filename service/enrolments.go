package service

import (
	"bytes"
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
	"wardicon/core/format"
	"wardicon/core/pki"
	"wardicon/core/plan"
	"wardicon/core/platform"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/store"
)

// Paths by which devices ask for certificates (RFC 7030 §3.2.2, with the CA's identifier as the
// label; RFC 8894 §4).
const (
	ESTPath    = "/.well-known/est/"
	SCEPPath   = "/scep/"
	StatusPath = "/ocsp/"
)

// Hours that an enrolment secret is valid for.
const (
	enrolHours     = 72
	mostEnrolHours = 90 * 24
)

// keptEnrolments is how long it is known which secret was used for which key.
const keptEnrolments = 90 * 24 * time.Hour

// MakeEnrolment makes a one-time secret with which a device may ask a CA for a certificate, once,
// for a key that it makes itself. Hours 0 means 72.
func (s *Service) MakeEnrolment(
	ctx context.Context, deviceID, authorityID string, hours int,
) (made api.NewEnrolment, err error) {
	if hours < 0 || hours > mostEnrolHours {
		return made, problem("enrolment", "/hours", fmt.Sprint(hours),
			fmt.Sprintf("1 to %d, or 0 for %d", mostEnrolHours, enrolHours), "choose fewer hours")
	}
	if hours == 0 {
		hours = enrolHours
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		made, err = s.makeEnrolment(ctx, tx, deviceID, authorityID,
			s.now().Add(time.Duration(hours)*time.Hour))
		return err
	})
	return made, err
}

func (s *Service) makeEnrolment(
	ctx context.Context, tx *store.Tx, deviceID, authorityID string, until time.Time,
) (made api.NewEnrolment, err error) {
	d, _, err := s.wantedOf(ctx, tx, deviceID, nil)
	if err != nil {
		return made, err
	}
	if d.Offboarded != "" {
		return made, problem("enrolment", "/device_id", d.Name+", which is offboarded",
			"a device in use", "take it back into use, if it is")
	}
	a, _, _, err := s.issuer(ctx, tx, authorityID)
	if err != nil {
		return made, err
	}
	organisation, err := tx.Organisation(ctx)
	if err != nil {
		return made, err
	}
	if organisation.Links == "" {
		return made, problem("enrolment", "/links", "no public address",
			"the address under which devices reach this service",
			"set it with the organisation's settings")
	}
	given := secret.New(strings.ToLower(rand.Text()))
	made.Enrolment = api.Enrolment{
		DeviceID: d.ID, Device: d.Name, AuthorityID: a.ID, Authority: a.Name, Operator: actor(ctx),
		Expires: until.UTC().Truncate(time.Second),
	}
	if err := tx.AddEnrolment(ctx, &made.Enrolment, s.store.EnrolmentDigest(given)); err != nil {
		return made, err
	}
	made.Secret = given.Reveal()
	made.EST = organisation.Links + ESTPath + a.ID
	made.SCEP = organisation.Links + SCEPPath + a.ID
	return made, audit(ctx, tx, "make", "enrolment", made.ID, d.Name+" at "+a.Name+" until "+
		made.Expires.Format(time.DateTime))
}

// Enrolments lists those of a device.
func (s *Service) Enrolments(ctx context.Context, deviceID string) ([]api.Enrolment, error) {
	tx := s.store.Read()
	if _, err := store.Devices.Get(ctx, tx, deviceID); err != nil {
		return nil, err
	}
	return tx.Enrolments(ctx, deviceID)
}

// EndEnrolment revokes a secret that was not used.
func (s *Service) EndEnrolment(ctx context.Context, id string) error {
	return s.store.Write(ctx, func(tx *store.Tx) error {
		deviceID, err := tx.EndEnrolment(ctx, id)
		if err != nil {
			return err
		}
		d, err := store.Devices.Get(ctx, tx, deviceID)
		if err != nil {
			return err
		}
		return audit(ctx, tx, "end", "enrolment", id, d.Name)
	})
}

// ErrEnrolment is the error for an enrolment secret that is wrong, ended, used for another key or
// for another CA: who guesses learns nothing.
var ErrEnrolment = vpn.Refuse(
	vpn.KindRole,
	"this enrolment secret is not valid here: it is wrong, "+
		"has expired, or was used for another key",
)

// ErrHolder is the error for a certificate that cannot be renewed.
var ErrHolder = vpn.Refuse(vpn.KindRole, "this certificate cannot be renewed here: it was not "+
	"issued here, was revoked, has expired, or its device is no longer in use")

// Enrol gives a certificate for the key of a request to the device that a secret was made for: the
// certificate and those above it. The same request again gets the same certificate, since an answer
// can be lost.
func (s *Service) Enrol(
	ctx context.Context,
	authorityID string,
	given secret.Text,
	r *x509.CertificateRequest,
	from string,
) (chain []*x509.Certificate, err error) {
	public, err := publicDigest(r.PublicKey)
	if err != nil {
		return nil, ErrEnrolment
	}
	type ready struct {
		*issue
		enrolment *store.Enrolment
	}
	err = settle(ctx, s, func(tx *store.Tx) (*ready, error) {
		e, err := tx.EnrolmentBy(ctx, s.store.EnrolmentDigest(given))
		switch {
		case err != nil:
			return nil, err
		case e == nil || authorityID != "" && e.AuthorityID != authorityID || s.now().After(e.Expires):
			return nil, ErrEnrolment
		case e.Used != nil:
			if !bytes.Equal(e.Key, public) {
				return nil, ErrEnrolment
			}
			chain, err = s.hadBefore(ctx, tx, e)
			return nil, err
		}
		i, err := s.prepareOwn(ctx, tx, e.DeviceID, e.AuthorityID, r.PublicKey)
		return &ready{i, e}, err
	}, func(tx *store.Tx, i *ready) error {
		if i == nil {
			return nil
		}
		ctx := As(ctx, "enrolment "+i.enrolment.ID)
		if chain, err = s.keepOwn(ctx, tx, i.issue); err != nil {
			return err
		}
		ok, err := tx.UseEnrolment(ctx, i.enrolment.ID, public, i.c.SerialNumber.Text(16))
		if err == nil && !ok {
			err = errStale
		}
		return err
	})
	s.checkSoon()
	return chain, s.guessed(err, from)
}

// guessed counts what was refused to an address, so that nobody tries many secrets; whole offices
// that renew from one address are not held up.
func (s *Service) guessed(err error, from string) error {
	if errors.Is(err, ErrEnrolment) || errors.Is(err, ErrHolder) {
		if busy := s.throttleFrom(from); busy != nil {
			return busy
		}
	}
	return err
}

// hadBefore is what an enrolment has given.
func (s *Service) hadBefore(
	ctx context.Context, tx *store.Tx, e *store.Enrolment,
) ([]*x509.Certificate, error) {
	list, err := store.Certificates.List(
		ctx,
		tx,
		store.Query{Limit: 1, Conditions: map[string]string{
			"serial": e.Serial, "authority_id": e.AuthorityID, "revoked": "false",
		}},
	)
	if err != nil {
		return nil, err
	}
	if len(list.Items) == 0 {
		return nil, ErrEnrolment
	}
	a, err := store.Authorities.Get(ctx, tx, e.AuthorityID)
	if err != nil {
		return nil, err
	}
	return pki.Certificates(list.Items[0].PEM + a.Certificate)
}

// prepareOwn makes a certificate for a key that a device has made itself.
func (s *Service) prepareOwn(
	ctx context.Context, tx *store.Tx, deviceID, authorityID string, public crypto.PublicKey,
) (*issue, error) {
	i, err := s.prepareFor(ctx, tx, deviceID, authorityID, nil, 0,
		func(d *vpn.Device) (crypto.PublicKey, error) {
			if d.Offboarded != "" {
				return nil, ErrEnrolment
			}
			return public, nil
		})
	if err != nil {
		return nil, err
	}
	return i, usableKey(i.device, i.c)
}

// usableKey refuses keys that the device's own release could not use for a connection.
func usableKey(d *vpn.Device, c *x509.Certificate) error {
	kinds := []string{"RSA", "ECDSA256", "ECDSA384", "ECDSA521"}
	if found, ok := platform.Find(d.Platform, d.Release); ok {
		for _, can := range found.Row.Can {
			if len(can.KeyKinds) > 0 {
				kinds = slices.DeleteFunc(kinds, func(k string) bool {
					return !slices.Contains(can.KeyKinds, k)
				})
			}
		}
	}
	if kind := pki.KeyKind(c); !slices.Contains(kinds, kind) {
		return problem("certificate", "/request", "a key of the kind "+kind,
			"one of the kinds "+strings.Join(kinds, ", ")+", which "+d.Name+" can use",
			"make another key")
	}
	return nil
}

// keepOwn keeps what was made for a device's own key.
func (s *Service) keepOwn(
	ctx context.Context, tx *store.Tx, i *issue,
) ([]*x509.Certificate, error) {
	if _, err := s.keepIssue(ctx, tx, i); err != nil {
		return nil, err
	}
	return pki.Certificates(pki.Bundle(i.c) + i.by.Certificate)
}

// Reenrol renews the certificate that a device shows it has the key of (RFC 7030 §4.2.2, RFC 8894
// §3.3.1.2), for the same key or a new one. The old one stays valid until it expires or is revoked.
func (s *Service) Reenrol(
	ctx context.Context, authorityID string, has *x509.Certificate, r *x509.CertificateRequest,
	from string,
) (chain []*x509.Certificate, err error) {
	if !pki.SameNames(r, has) {
		return nil, problem("certificate", "/request", strings.Join(pki.Asked(r), ", "),
			"the names of the certificate that is renewed, or none", "ask for no names")
	}
	err = settle(ctx, s, func(tx *store.Tx) (*issue, error) {
		deviceID, by, err := s.holder(ctx, tx, authorityID, has)
		if err != nil {
			return nil, err
		}
		return s.prepareOwn(ctx, tx, deviceID, by, r.PublicKey)
	}, func(tx *store.Tx, i *issue) error {
		chain, err = s.keepOwn(As(ctx, "device "+i.device.ID), tx, i)
		return err
	})
	if errors.Is(err, ErrEnrolment) {
		err = ErrHolder
	}
	s.checkSoon()
	return chain, s.guessed(err, from)
}

// holder is the device that a certificate was issued to, and the CA that renews it: the one that
// issued it or its successor. It must be the one that was asked, where one was. An expired or
// revoked certificate has no holder.
func (s *Service) holder(
	ctx context.Context, tx *store.Tx, authorityID string, has *x509.Certificate,
) (deviceID, by string, err error) {
	now := s.now()
	if now.Before(has.NotBefore) || now.After(has.NotAfter) {
		return "", "", ErrHolder
	}
	list, err := store.Certificates.List(
		ctx,
		tx,
		store.Query{Limit: 10, Conditions: map[string]string{
			"serial": has.SerialNumber.Text(16), "revoked": "false",
		}},
	)
	if err != nil {
		return "", "", err
	}
	for _, c := range list.Items {
		kept, err := pki.Certificates(c.PEM)
		if err != nil || !kept[0].Equal(has) || c.DeviceID == "" {
			continue
		}
		from, err := store.Authorities.Row(ctx, tx, c.AuthorityID)
		if err != nil {
			return "", "", err
		}
		by := cmp.Or(from.SuccessorID, from.ID)
		if authorityID != "" && authorityID != by && authorityID != from.ID {
			continue
		}
		return c.DeviceID, by, nil
	}
	return "", "", ErrHolder
}

// CAs are the certificates of a CA that issues here, its own first; of all that issue, where none
// is named.
func (s *Service) CAs(ctx context.Context, authorityID string) (
	all []*x509.Certificate, err error,
) {
	if authorityID == "" {
		list, err := store.Authorities.Where(ctx, s.store.Read(), "1")
		for _, a := range list {
			if !a.Signs() || a.Retired {
				continue
			}
			own, err := pki.Certificates(a.Certificate)
			if err != nil {
				return nil, err
			}
			all = append(all, own...)
		}
		return all, err
	}
	a, err := store.Authorities.Get(ctx, s.store.Read(), authorityID)
	if err != nil {
		return nil, err
	}
	if !a.Signs() {
		return nil, &store.NotFoundError{Noun: "CA that issues", ID: authorityID}
	}
	return pki.Certificates(a.Certificate)
}

// enrolOf puts into the input of a plan how the device gets the certificate for the profile itself,
// where it does: of the first of its CAs that the gateway trusts, else of the first.
func enrolOf(ctx context.Context, tx *store.Tx, in *plan.Input) error {
	in.Enrol = nil
	e, o := in.Device.Enrolment, in.Organisation
	if e == nil || o.Links == "" {
		return nil
	}
	var by *vpn.Authority
	for _, id := range append([]string{e.AuthorityID}, e.OtherIDs...) {
		a, err := store.Authorities.Get(ctx, tx, id)
		var none *store.NotFoundError
		if errors.As(err, &none) {
			continue // the CA is gone
		}
		if err != nil {
			return err
		}
		if by == nil {
			by = a
		}
		if len(e.OtherIDs) > 0 && in.Gateway.Trusts(a.Certificate) {
			by = a
			break
		}
	}
	if by == nil {
		return nil // the device has no certificate
	}
	chain, err := pki.Certificates(by.Certificate)
	if err != nil {
		return err
	}
	d := &in.Device
	out := &vpn.Enrol{
		EST: cmp.Or(o.Enrol, o.Links) + ESTPath + by.ID, SCEP: o.Links + SCEPPath + by.ID,
		Secret: tx.DeviceSecret(in.Profile, by.ID, e.Generation), Name: cut(d.Name, 64),
		Above: between(chain), Alt: ownNames(d, o)[0], RSA: keyFor(d) == pki.RSA3072,
	}
	if o.Enrol != "" {
		out.Renew = out.EST
	}
	in.Enrol, in.EnrolBy = out, vpn.Authority{
		Meta: by.Meta, Name: by.Name, Certificate: by.Certificate,
	}
	return nil
}

// ownNames are the names that a device's certificate has where none were chosen.
func ownNames(d *vpn.Device, o vpn.Organisation) []string {
	return []string{format.FileName(d.Name, "") + devicesBelow(o)}
}

func devicesBelow(o vpn.Organisation) string {
	return ".devices." + cmp.Or(o.Domain, "invalid")
}

// parcelEnrols is how long after a parcel was built its secret is valid.
const parcelEnrols = 90 * 24 * time.Hour

// enrolByParcel lets the device ask with the secret in its parcel.
func (s *Service) enrolByParcel(ctx context.Context, tx *store.Tx, w *worked) error {
	d := w.in.Device
	digest := s.store.EnrolmentDigest(w.in.Enrol.Secret)
	return tx.PutEnrolment(ctx, &api.Enrolment{
		DeviceID: d.ID, AuthorityID: w.in.EnrolBy.ID, Operator: actor(ctx),
		Expires: s.now().Add(parcelEnrols),
	}, digest)
}
