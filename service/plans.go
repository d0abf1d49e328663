package service

import (
	"context"

	"wardicon/core/check"
	"wardicon/core/plan"
	"wardicon/core/view"
	"wardicon/core/vpn"
	"wardicon/store"
)

// worked is a plan with all that it was made from; secrets in it are open.
type worked struct {
	in       plan.Input
	plan     plan.Plan
	subject  *check.Subject
	findings []check.Finding
}

func (w *worked) shown() view.Planned {
	return view.Planned{
		Profile: w.in.Profile, Connection: w.plan.Connection.Masked(), Choices: w.plan.Choices, Findings: w.findings, Tally: check.Count(w.findings),
		Passed: w.plan.Passed, Unmet: w.plan.Unmet, Pattern: w.in.Pattern.Name, Formats: w.plan.Ability.Formats,
		Release: w.plan.Release.Title, Format: w.plan.Format, Title: w.in.Device.Name + " → " + w.in.Gateway.Name, PersonID: w.in.Person.ID,
	}
}

// Plan plans and checks a profile that is kept.
func (s *Service) Plan(ctx context.Context, profileID string) (view.Planned, error) {
	w, err := s.work(ctx, s.store.Read(), profileID)
	if err != nil {
		return view.Planned{}, err
	}
	return w.shown(), nil
}

// Try plans and checks a profile without keeping it.
func (s *Service) Try(ctx context.Context, p vpn.Profile) (view.Planned, error) {
	tx := s.store.Read()
	if err := p.Validate(); err != nil {
		return view.Planned{}, err
	}
	if err := s.Profiles.refers(ctx, tx, &p); err != nil {
		return view.Planned{}, err
	}
	p.ID = "pr-preview"
	w, err := s.workOn(ctx, tx, p)
	if err != nil {
		return view.Planned{}, err
	}
	return w.shown(), nil
}

func (s *Service) work(ctx context.Context, tx *store.Tx, profileID string) (*worked, error) {
	p, err := store.Profiles.Get(ctx, tx, profileID)
	if err != nil {
		return nil, err
	}
	return s.workOn(ctx, tx, *p)
}

func (s *Service) workOn(ctx context.Context, tx *store.Tx, p vpn.Profile) (*worked, error) {
	org, err := tx.Organisation(ctx)
	if err != nil {
		return nil, err
	}
	device, err := store.Devices.Get(ctx, tx, p.DeviceID)
	if err != nil {
		return nil, err
	}
	person, err := store.People.Get(ctx, tx, device.PersonID)
	if err != nil {
		return nil, err
	}
	gateway, err := store.Gateways.Get(ctx, tx, p.GatewayID)
	if err != nil {
		return nil, err
	}
	accounts, err := store.Accounts.Where(ctx, tx, "person_id = ?", person.ID)
	if err != nil {
		return nil, err
	}
	in := plan.Input{Organisation: org, Profile: p, Gateway: *gateway, Device: *device, Person: *person, Accounts: accounts}
	if in.Pattern, err = pattern(ctx, tx, p.PatternID); err != nil {
		return nil, err
	}
	return s.settled(ctx, tx, in)
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
	w := &worked{in: in, plan: plan.Make(in)}
	w.subject = check.Planned(in, w.plan, siblings)
	w.subject.Judge = s.memo.Judge
	w.findings = check.Run(w.subject)
	return w, nil
}

// siblings plans the other profiles of the device, as far as the checks look at them.
func (s *Service) siblings(ctx context.Context, tx *store.Tx, in plan.Input) ([]check.Sibling, error) {
	others, err := store.Profiles.Where(ctx, tx, "device_id = ? AND id <> ?", in.Device.ID, in.Profile.ID)
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
		c := plan.Make(in).Connection
		list = append(list, check.Sibling{Name: c.Name, Routes: c.Routes})
	}
	return list, nil
}
