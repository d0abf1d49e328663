package service

import (
	"context"
	"errors"
	"slices"

	"wardicon/api"
	"wardicon/core/plan"
	"wardicon/core/vpn"
	"wardicon/store"
)

// Prospects shows what a pattern would make of the devices that it is for, a page by
// name, before anything is kept. The pattern need not be kept either.
func (s *Service) Prospects(
	ctx context.Context,
	p vpn.Pattern,
	limit, offset int,
) (api.Page[api.Prospect], error) {
	page := api.Page[api.Prospect]{Items: []api.Prospect{}}
	tx := s.store.Read()
	if p.Name == "" {
		p.Name = "new pattern"
	}
	if err := s.Patterns.fit(ctx, tx, &p); err != nil {
		return page, err
	}
	total, err := tx.CountClass(ctx, p)
	if err != nil {
		return page, err
	}
	page.Total = total
	ids, err := tx.ClassPage(ctx, p, limit, offset)
	if err != nil {
		return page, err
	}
	gateways, err := s.choice(ctx, tx, p)
	if err != nil {
		return page, err
	}
	for _, id := range ids {
		of, err := s.prospectsOf(ctx, tx, p, id, gateways)
		if err != nil {
			return page, err
		}
		for _, one := range of {
			page.Items = append(page.Items, one.shown())
		}
	}
	return page, nil
}

// choice reads the gateways that a pattern chooses from, in its order.
func (s *Service) choice(ctx context.Context, tx *store.Tx, p vpn.Pattern) ([]vpn.Gateway, error) {
	all, err := store.Gateways.Where(ctx, tx, "1 = 1")
	if err != nil || len(p.GatewayIDs) == 0 {
		return all, err
	}
	var list []vpn.Gateway
	for _, id := range p.GatewayIDs {
		if i := slices.IndexFunc(all, func(g vpn.Gateway) bool { return g.ID == id }); i >= 0 {
			list = append(list, all[i])
		}
	}
	return list, nil
}

// prospect is one device with one gateway by a pattern; old is the profile that is there.
type prospect struct {
	w     *worked
	why   string
	old   *vpn.Profile
	state string
}

func (p *prospect) shown() api.Prospect {
	t := p.w.shown()
	v := api.Prospect{
		DeviceID:  p.w.in.Device.ID,
		Device:    p.w.in.Device.Name,
		Person:    p.w.in.Person.Name,
		Release:   t.Release,
		GatewayID: p.w.in.Gateway.ID,
		Gateway:   p.w.in.Gateway.Name,
		Why:       p.why,
		State:     p.state,
		Name:      t.Connection.Name,
		Protocol:  t.Connection.Protocol,
		Works:     p.w.plan.Works(),
		Format:    t.Format,
		Passed:    t.Passed,
		Unmet:     t.Unmet,
		Tally:     t.Tally,
	}
	if p.old != nil {
		v.ProfileID = p.old.ID
	}
	return v
}

// States of a prospect.
const (
	stateNew     = "new"
	stateSame    = "same"
	stateChanges = "changes"
	stateMoves   = "moves"
)

// prospectsOf plans one device by a pattern.
func (s *Service) prospectsOf(
	ctx context.Context,
	tx *store.Tx,
	p vpn.Pattern,
	deviceID string,
	gateways []vpn.Gateway,
) ([]prospect, error) {
	org, err := tx.Organisation(ctx)
	if err != nil {
		return nil, err
	}
	device, err := store.Devices.Get(ctx, tx, deviceID)
	if err != nil {
		return nil, err
	}
	person, err := store.People.Get(ctx, tx, device.PersonID)
	if err != nil {
		return nil, err
	}
	accounts, err := store.Accounts.Where(ctx, tx, "person_id = ?", person.ID)
	if err != nil {
		return nil, err
	}
	profiles, err := store.Profiles.Where(ctx, tx, "device_id = ?", deviceID)
	if err != nil {
		return nil, err
	}
	in := plan.Input{
		Organisation: org,
		Pattern:      p,
		Device:       *device,
		Person:       *person,
		Accounts:     accounts,
		Profile:      vpn.Profile{DeviceID: deviceID, PatternID: p.ID},
	}
	if p.Gateways == vpn.ChooseFastest {
		if in.Times, err = tx.AnswerTimes(ctx, *person); err != nil {
			return nil, err
		}
	}
	leads, _ := plan.Leads(in, gateways)
	var list []prospect
	for n, lead := range leads {
		one := prospect{why: lead.Reason, state: stateNew}
		in := in
		in.Gateway, in.Profile.GatewayID, in.Profile.ID =
			lead.Gateway, lead.Gateway.ID, "pr-preview"
		second := p.Fallback && n > 0
		if i := slices.IndexFunc(
			profiles,
			func(f vpn.Profile) bool { return f.GatewayID == lead.Gateway.ID },
		); i >= 0 {
			one.old, one.state = &profiles[i], stateChanges
			if p.ID != "" && profiles[i].PatternID == p.ID {
				one.state = stateSame
			}
		} else if i := slices.IndexFunc(
			profiles,
			func(f vpn.Profile) bool {
				return p.ID != "" && f.PatternID == p.ID &&
					(f.Preferences.SecondTo != "") == second &&
					!slices.ContainsFunc(
						leads,
						func(l plan.Lead) bool { return l.Gateway.ID == f.GatewayID },
					)
			},
		); i >= 0 &&
			p.Gateways != vpn.ChooseEach {
			one.old, one.state = &profiles[i], stateMoves
		}
		if one.old != nil {
			in.Profile.ID, in.Profile.Preferences = one.old.ID, one.old.Preferences
		}
		one.fallback(&in, p, leads, n)
		if one.w, err = s.settled(ctx, tx, in); err != nil {
			return nil, err
		}
		list = append(list, one)
		if p.Fallback && n == 0 && len(leads) > 1 && one.w.plan.Apart == "" {
			break // the second gateway stands in the same file
		}
	}
	return list, nil
}

// fallback settles which of two gateways a profile is for.
func (p *prospect) fallback(in *plan.Input, by vpn.Pattern, leads []plan.Lead, n int) {
	w := &in.Profile.Preferences
	before := *w
	if w.FallbackID, w.SecondTo = "", ""; by.Fallback && len(leads) > 1 {
		if n == 0 {
			w.FallbackID, in.Fallback = leads[1].Gateway.ID, &leads[1].Gateway
		} else {
			w.SecondTo, in.Second = leads[0].Gateway.ID, leads[0].Gateway.Name
		}
	}
	if p.state == stateSame &&
		(before.FallbackID != w.FallbackID || before.SecondTo != w.SecondTo) {
		p.state = stateChanges
	}
}

// RollOut makes or changes the profiles of all devices that a pattern is for, as a job.
func (s *Service) RollOut(ctx context.Context, patternID string) (api.Job, error) {
	j := api.Job{
		Kind:     "roll-out",
		Subject:  patternID,
		Operator: actor(ctx),
		Result:   map[string]int{},
	}
	err := s.store.Write(ctx, func(tx *store.Tx) error {
		p, err := store.Patterns.Get(ctx, tx, patternID)
		if err != nil {
			return err
		}
		if j.Total, err = tx.CountClass(ctx, *p); err != nil {
			return err
		}
		j.Title = "Roll out " + p.Name
		if err := tx.AddJob(ctx, &j); err != nil {
			return err
		}
		return audit(ctx, tx, "roll-out", "pattern", patternID, j.Title)
	})
	s.workSoon()
	return j, err
}

// nextRollOut lists devices that the pattern is for.
func (s *Service) nextRollOut(
	ctx context.Context,
	tx *store.Tx,
	j api.Job,
	limit int,
) ([]string, error) {
	p, err := store.Patterns.Get(ctx, tx, j.Subject)
	if err != nil {
		return nil, err
	}
	return tx.Class(ctx, *p, j.Cursor, limit)
}

// rollOutOne makes or changes the profiles of one device.
func (s *Service) rollOutOne(
	ctx context.Context,
	tx *store.Tx,
	j api.Job,
	id string,
) (kept, error) {
	p, err := store.Patterns.Get(ctx, tx, j.Subject)
	if err != nil {
		return nil, err
	}
	gateways, err := s.choice(ctx, tx, *p)
	if err != nil {
		return nil, err
	}
	list, err := s.prospectsOf(ctx, tx, *p, id, gateways)
	if err != nil {
		return nil, err
	}
	from, err := tx.DeviceState(ctx, id)
	if err != nil {
		return nil, err
	}
	return func(ctx context.Context, tx *store.Tx, count func(string)) error {
		if now, err := tx.DeviceState(ctx, id); err != nil {
			return err
		} else if now != from {
			return errStale
		}
		for _, one := range list {
			if err := s.carryOut(ctx, tx, *p, one); err != nil {
				return err
			}
			count(one.state)
			if !one.w.plan.Works() {
				count("blocked")
			}
		}
		return nil
	}, nil
}

// carryOut keeps the profile of a prospect. Preferences that were set manually stay.
func (s *Service) carryOut(ctx context.Context, tx *store.Tx, p vpn.Pattern, one prospect) error {
	if one.state == stateSame {
		return nil
	}
	profile := vpn.Profile{
		DeviceID:    one.w.in.Device.ID,
		GatewayID:   one.w.in.Gateway.ID,
		PatternID:   p.ID,
		Preferences: one.w.in.Profile.Preferences,
	}
	if one.old == nil {
		if err := store.Profiles.Insert(ctx, tx, &profile); err != nil {
			return err
		}
	} else {
		profile.Meta = one.old.Meta
		if err := store.Profiles.Update(ctx, tx, &profile, one.old.Version); err != nil {
			return err
		}
	}
	return errors.Join(
		tx.TouchProfiles(ctx, "device_id = ?", profile.DeviceID),
		audit(
			ctx,
			tx,
			"roll-out",
			"profile",
			profile.ID,
			one.w.in.Device.Name+" to "+one.w.in.Gateway.Name+" by "+p.Name,
		),
	)
}
