package service

import (
	"context"
	"crypto/x509"
	"errors"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/pki"
	"wardicon/core/plan"
	"wardicon/core/platform"
	"wardicon/core/switchover"
	"wardicon/core/vpn"
	"wardicon/store"
)

// worked is a plan with all that it was made from; secrets in it are open.
type worked struct {
	in       plan.Input
	plan     plan.Plan
	subject  *check.Subject
	findings []check.Finding
	built    map[bool]string   // digests of what would be built now, by hand or not
	signer   string            // stands for what parcels are signed with
	touched  int               // the profile's count of changes then
	moved    []api.FoundRecord // switchovers by which it has a new value
}

func (w *worked) shown() api.Planned {
	return api.Planned{
		Profile: w.in.Profile,

		Switchovers: append([]api.FoundRecord{}, w.moved...),
		Connection:  w.plan.Connection.Masked(),
		Choices:     w.plan.Choices,
		Findings:    w.findings,
		Tally:       check.Count(w.findings),
		Passed:      w.plan.Passed,
		Unmet:       w.plan.Unmet,
		Chains:      w.subject.Chains(),
		Agreements:  w.subject.Agreements(),
		Pattern:     w.in.Pattern.Name,
		Formats:     w.plan.Ability.Formats,
		Release:     w.plan.Release.Title,
		Format:      w.plan.Format,
		Title:       w.in.Device.Name + " → " + w.in.Gateway.Name,
		PersonID:    w.in.Person.ID,
	}
}

// Plan plans and checks a profile that is kept.
func (s *Service) Plan(ctx context.Context, profileID string) (api.Planned, error) {
	w, err := s.work(ctx, s.store.Read(), profileID)
	if err != nil {
		return api.Planned{}, err
	}
	return w.shown(), nil
}

// Try plans and checks a profile without keeping it.
func (s *Service) Try(ctx context.Context, p vpn.Profile) (api.Planned, error) {
	tx := s.store.Read()
	if err := p.Validate(); err != nil {
		return api.Planned{}, err
	}
	if err := s.Profiles.refers(ctx, tx, &p); err != nil {
		return api.Planned{}, err
	}
	p.ID = "pr-preview"
	w, err := s.workOn(ctx, tx, p)
	if err != nil {
		return api.Planned{}, err
	}
	return w.shown(), nil
}

func (s *Service) work(ctx context.Context, tx *store.Tx, profileID string) (*worked, error) {
	p, err := store.Profiles.Get(ctx, tx, profileID)
	if err != nil {
		return nil, err
	}
	w, err := s.workOn(ctx, tx, *p)
	if err != nil {
		return nil, err
	}
	if w.signer, err = tx.SignerMark(ctx); err != nil {
		return nil, err
	}
	if w.touched, err = tx.Touched(ctx, profileID); err != nil {
		return nil, err
	}
	last, err := tx.LastParcel(ctx, profileID)
	if err != nil || last == nil {
		return w, err
	}
	if w.subject.Rehearsed, err = tx.LastRehearsal(ctx, profileID, last.ID); err != nil {
		return nil, err
	}
	w.subject.Outdated = s.isOutdated(w, *last)
	if w.subject.RehearsedBefore, err = tx.RehearsedBefore(ctx, profileID); err != nil {
		return nil, err
	}
	w.subject.RehearsalRequired = w.in.Pattern.RequireRehearsal && !last.ByHand &&
		w.plan.Format != platform.ByHand
	if w.subject.Outdated || w.subject.RehearsedBefore || w.subject.RehearsalRequired {
		w.findings = check.RunProfile(w.subject)
	}
	return w, nil
}

func (s *Service) workOn(ctx context.Context, tx *store.Tx, p vpn.Profile) (*worked, error) {
	in, err := input(ctx, tx, p)
	if err != nil {
		return nil, err
	}
	by, err := s.moved(ctx, tx, &in, switchover.Moved)
	if err != nil {
		return nil, err
	}
	w, err := s.settled(ctx, tx, in)
	if err != nil {
		return nil, err
	}
	w.moved = by
	return w, nil
}

// input reads what a profile is planned from.
func input(ctx context.Context, tx *store.Tx, p vpn.Profile) (in plan.Input, err error) {
	org, err := tx.Organisation(ctx)
	if err != nil {
		return in, err
	}
	device, err := store.Devices.Get(ctx, tx, p.DeviceID)
	if err != nil {
		return in, err
	}
	person, err := store.People.Get(ctx, tx, device.PersonID)
	if err != nil {
		return in, err
	}
	gateway, err := store.Gateways.Get(ctx, tx, p.GatewayID)
	if err != nil {
		return in, err
	}
	accounts, err := store.Accounts.Where(ctx, tx, "person_id = ?", person.ID)
	if err != nil {
		return in, err
	}
	in = plan.Input{
		Organisation: org,
		Profile:      p,
		Gateway:      *gateway,
		Device:       *device,
		Person:       *person,
		Accounts:     accounts,
	}
	if in.Pattern, err = pattern(ctx, tx, p.PatternID); err != nil {
		return in, err
	}
	return in, beside(ctx, tx, &in)
}

// beside reads the gateways that a profile's own is tried before, or after.
func beside(ctx context.Context, tx *store.Tx, in *plan.Input) error {
	in.Fallback, in.Second = nil, ""
	if id := in.Profile.Preferences.FallbackID; id != "" {
		g, err := store.Gateways.Get(ctx, tx, id)
		if err != nil {
			return err
		}
		in.Fallback = g
	}
	if id := in.Profile.Preferences.SecondTo; id != "" {
		g, err := store.Gateways.Get(ctx, tx, id)
		if err != nil {
			return err
		}
		in.Second = g.Name
	}
	return nil
}

// pattern reads a pattern; the zero one where none is named.
func pattern(ctx context.Context, tx *store.Tx, id string) (vpn.Pattern, error) {
	if id == "" {
		return vpn.Pattern{}, nil
	}
	p, err := store.Patterns.Get(ctx, tx, id)
	if err != nil {
		return vpn.Pattern{}, err
	}
	return *p, nil
}

// settled plans and checks.
func (s *Service) settled(ctx context.Context, tx *store.Tx, in plan.Input) (*worked, error) {
	siblings, err := s.siblings(ctx, tx, in)
	if err != nil {
		return nil, err
	}
	if err = enrolOf(ctx, tx, &in); err != nil {
		return nil, err
	}
	w := &worked{in: in, plan: plan.Make(in)}
	w.subject = check.Planned(in, w.plan, siblings)
	w.subject.Judge, w.subject.Now = s.memo.Judge, s.now()
	if w.plan.Connection.Site != nil {
		if w.subject.Neighbours, err = neighbours(ctx, tx, in); err != nil {
			return nil, err
		}
	}
	if err := s.known(ctx, tx, w); err != nil {
		return nil, err
	}
	w.subject.Damaged = damaged(in)
	w.findings = check.RunProfile(w.subject)
	return w, nil
}

// damaged is what of the records that a plan is made from cannot be read.
func damaged(in plan.Input) (list []check.Damage) {
	add := func(noun, name string, stamp vpn.Meta) {
		for _, field := range stamp.Damaged {
			list = append(
				list,
				check.Damage{Noun: noun, ID: stamp.ID, Name: name, Pointer: "/" + field},
			)
		}
	}
	add("gateway", in.Gateway.Name, in.Gateway.Meta)
	add("device", in.Device.Name, in.Device.Meta)
	for _, a := range in.Accounts {
		add("account", a.Login, a.Meta)
	}
	return list
}

// known fills in what is known beside the plan: how the owner wants rules to be taken, and
// which secrets and logins are elsewhere too.
func (s *Service) known(ctx context.Context, tx *store.Tx, w *worked) (err error) {
	in, subject := w.in, w.subject
	if subject.Live, err = s.seen(ctx, tx, in.Gateway); err != nil {
		return err
	}
	if subject.Policy.Severities, err = tx.Severities(ctx); err != nil {
		return err
	}
	if subject.Policy.Overrides, err = tx.Overrides(ctx, in.Profile.ID); err != nil {
		return err
	}
	if a := w.plan.Account; a != nil {
		if err := s.sharers(
			ctx,
			tx,
			w,
			"account",
			a.ID,
			"password",
			vpn.FieldPassword,
		); err != nil {
			return err
		}
		if subject.Alike, err = tx.AlikeLogins(ctx, a.Login, in.Gateway.ID); err != nil {
			return err
		}
	}
	if !w.plan.Connection.PSK().IsZero() {
		if err := s.sharers(
			ctx,
			tx,
			w,
			"gateway",
			in.Gateway.ID,
			"offers/"+string(w.plan.Connection.Protocol)+"/psk",
			vpn.FieldPSK,
		); err != nil {
			return err
		}
	}
	if id := w.plan.Connection.Identity; id != nil {
		if err := s.revoked(ctx, tx, subject, id.Certificate); err != nil {
			return err
		}
	}
	if proof := in.Device.Proof(&in.Gateway); proof != nil && w.plan.Connection.NeedsIdentity() {
		return s.sharers(
			ctx,
			tx,
			w,
			"device",
			in.Device.ID,
			in.Device.KeyPlace(proof),
			vpn.FieldIdentity,
		)
	}
	return nil
}

// revoked tells the checks whether the device's certificate was taken back here.
func (s *Service) revoked(
	ctx context.Context,
	tx *store.Tx,
	subject *check.Subject,
	certificate string,
) error {
	list, err := pki.Certificates(certificate)
	if err != nil {
		return nil // another rule says so
	}
	at, found, err := tx.RevokedSerial(ctx, list[0].SerialNumber.Text(16))
	if found {
		subject.Revoked = append(
			subject.Revoked,
			&x509.RevocationList{
				RawIssuer: list[0].RawIssuer,
				RevokedCertificateEntries: []x509.RevocationListEntry{
					{SerialNumber: list[0].SerialNumber, RevocationTime: at},
				},
			},
		)
	}
	return err
}

// sharers finds records that have the same secret. A password of another account of the
// same person is that person's own affair.
func (s *Service) sharers(
	ctx context.Context,
	tx *store.Tx,
	w *worked,
	noun, id, secret string,
	field vpn.Field,
) error {
	list, err := tx.Sharers(ctx, noun, id, secret, 20)
	if err != nil {
		return err
	}
	for _, other := range list {
		name, person, err := tx.Title(ctx, other.Noun, other.ID)
		if err != nil {
			return err
		}
		w.subject.Reused = append(
			w.subject.Reused,
			check.Reuse{
				Field: field,
				Noun:  other.Noun,
				Name:  name,
				Same:  other.Noun == "account" && person == w.in.Person.ID,
			},
		)
	}
	return nil
}

// siblings plans the other profiles of the device, as far as the checks look at them.
func (s *Service) siblings(
	ctx context.Context,
	tx *store.Tx,
	in plan.Input,
) ([]check.Sibling, error) {
	others, err := store.Profiles.Where(
		ctx,
		tx,
		"device_id = ? AND id <> ?",
		in.Device.ID,
		in.Profile.ID,
	)
	if err != nil {
		return nil, err
	}
	var list []check.Sibling
	for _, other := range others {
		g, err := store.Gateways.Get(ctx, tx, other.GatewayID)
		if err != nil {
			return nil, err
		}
		if in.Pattern, err = pattern(ctx, tx, other.PatternID); err != nil {
			return nil, err
		}
		in.Profile, in.Gateway = other, *g
		if err := errors.Join(beside(ctx, tx, &in), enrolOf(ctx, tx, &in)); err != nil {
			return nil, err
		}
		c := plan.Make(in).Connection
		list = append(
			list,
			check.Sibling{
				Name:       c.Name,
				GatewayID:  other.GatewayID,
				Routes:     c.Routes,
				Connect:    c.Connect,
				Identifier: c.Identifier,
			},
		)
	}
	return list, nil
}

// neighbours are the other routers whose sites are behind the same gateway.
func neighbours(ctx context.Context, tx *store.Tx, in plan.Input) ([]check.Neighbour, error) {
	devices, err := store.Devices.Where(
		ctx,
		tx,
		store.Sited+" AND id <> ? AND id IN (SELECT device_id FROM profiles WHERE gateway_id = ?)",
		in.Device.ID,
		in.Gateway.ID,
	)
	if err != nil {
		return nil, err
	}
	list := make([]check.Neighbour, len(devices))
	for i, d := range devices {
		list[i] = check.Neighbour{Device: d.Name, Site: *d.Site}
	}
	return list, nil
}
