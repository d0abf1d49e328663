package service

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"time"

	"wardicon/api"
	"wardicon/core/vpn"
	"wardicon/store"
)

const (
	scheduleTick = 20 * time.Second
	mostSampled  = 200 // profiles of a sample

	// rehearseJob is the kind of jobs that rehearse samples.
	rehearseJob = "rehearse"
)

// signInAsTest puts the gateway's account for rehearsals in the place of whoever the file is for. A
// certificate of a device is not used without being asked for: the device could be disconnected.
func (s *Service) signInAsTest(
	ctx context.Context,
	tx *store.Tx,
	w *worked,
	c *vpn.Connection,
) error {
	g := w.in.Gateway
	if c.NeedsIdentity() {
		return problem("rehearsal", "/profile", "a sign-in by the device's own certificate",
			"one by password or key", "rehearse the profile by itself")
	}
	if !c.NeedsPassword() {
		return nil
	}
	if g.Rehearsal.AccountID == "" {
		return problem("rehearsal", "/gateway/rehearsal/account_id",
			"no account for rehearsals", "an account to sign in with",
			"set one on the gateway's record")
	}
	a, err := store.Accounts.Get(ctx, tx, g.Rehearsal.AccountID)
	if err != nil {
		return err
	}
	if a.Password == nil {
		return problem("rehearsal", "/gateway/rehearsal/account_id", a.Login+" without a password",
			"an account with one", "note its password on its record")
	}
	how := g.SignInBy(c.Protocol)
	c.Login = vpn.JoinLogin(how.Form, a.Login, cmp.Or(a.Realm, how.Realm))
	c.Password = *a.Password
	return nil
}

// RehearseSample begins a job that rehearses one profile for each pattern and platform of a
// gateway, or for each gateway and platform of a pattern, one after the other, with the gateways'
// accounts for rehearsals. Where one is under way already, it is answered instead.
func (s *Service) RehearseSample(
	ctx context.Context,
	noun, id string,
) (api.RehearsalSample, error) {
	sample, profiles, err := s.sampleOf(ctx, noun, id)
	if err != nil || sample.Job.ID != "" {
		return sample, err
	}
	return s.beginSample(ctx, noun, id, sample.Job.Title, ofParcels(profiles))
}

// beginSample puts what can be rehearsed of a sample of a record in line, unless one is there by
// now.
func (s *Service) beginSample(
	ctx context.Context,
	noun, id, title string,
	list []store.Sampled,
) (api.RehearsalSample, error) {
	sample, left, err := s.sampled(ctx, list)
	if err != nil {
		return sample, err
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		running, err := runningSample(ctx, tx, id)
		if err != nil {
			return err
		}
		if running != nil {
			sample.Job = *running
			return nil
		}
		sample.Job = api.Job{Kind: rehearseJob, Subject: id, Title: title, Operator: actor(ctx)}
		return errors.Join(tx.AddSample(ctx, &sample.Job, left),
			audit(ctx, tx, "rehearse", noun, id, title))
	})
	notify(s.rehearsing.soon)
	return sample, err
}

// sampleOf are the profiles of a sample, and the job where it is rehearsed already.
func (s *Service) sampleOf(
	ctx context.Context,
	noun, id string,
) (sample api.RehearsalSample, list []string, err error) {
	err = s.store.Snapshot(ctx, func(tx *store.Tx) error {
		name, err := sampleName(ctx, tx, noun, id)
		if err != nil {
			return err
		}
		sample.Job.Title = "Rehearse a sample of " + name
		running, err := runningSample(ctx, tx, id)
		if err != nil {
			return err
		}
		if running != nil {
			sample.Job, sample.Skipped = *running, []api.SkippedRehearsal{}
			left, err := tx.Sampled(ctx, running.ID)
			sample.Profiles = []string{}
			for _, one := range left {
				sample.Profiles = append(sample.Profiles, one.ProfileID)
			}
			return err
		}
		list, err = tx.RehearsalSample(ctx, noun+"_id", id)
		if err == nil && len(list) == 0 {
			err = problem("rehearsal", "/"+noun, "no parcel", "profiles with parcels",
				"build parcels first")
		}
		list = list[:min(len(list), mostSampled)]
		return err
	})
	return sample, list, err
}

// runningSample is the job that rehearses a record already; nil where there is none.
func runningSample(ctx context.Context, tx *store.Tx, id string) (*api.Job, error) {
	running, err := tx.RunningJobs(ctx, rehearseJob)
	i := slices.IndexFunc(running, func(j api.Job) bool { return j.Subject == id })
	if err != nil || i < 0 {
		return nil, err
	}
	return &running[i], nil
}

func sampleName(ctx context.Context, tx *store.Tx, noun, id string) (string, error) {
	if noun == "pattern" {
		p, err := store.Patterns.Get(ctx, tx, id)
		if err != nil {
			return "", err
		}
		return p.Name, nil
	}
	g, err := store.Gateways.Get(ctx, tx, id)
	if err != nil {
		return "", err
	}
	return g.Name, nil
}

// sampled leaves out of a sample what cannot be rehearsed. It is an error where nothing is left.
func (s *Service) sampled(
	ctx context.Context,
	list []store.Sampled,
) (sample api.RehearsalSample, left []store.Sampled, err error) {
	sample.Profiles, sample.Skipped = []string{}, []api.SkippedRehearsal{}
	var first error
	for _, one := range list {
		_, err := s.rehearsalOf(ctx, one, api.NewRehearsal{}, one.Offer == "")
		if err == nil {
			left = append(left, one)
			sample.Profiles = append(sample.Profiles, one.ProfileID)
			continue
		}
		if passedOver(err) == "" {
			return sample, nil, err
		}
		if first == nil {
			first = err
		}
		skipped := api.SkippedRehearsal{
			ProfileID: one.ProfileID, Device: one.Offer.Title(), Reason: whyNot(err),
		}
		if one.Offer == "" {
			row, err := store.Profiles.Row(ctx, s.store.Read(), one.ProfileID)
			if err != nil {
				return sample, nil, err
			}
			skipped.Device = row.Device + " to " + row.Gateway
		}
		sample.Skipped = append(sample.Skipped, skipped)
	}
	if len(left) == 0 {
		return sample, nil, first
	}
	return sample, left, nil
}

// whyNot says why a rehearsal is not made, and what to do.
func whyNot(err error) string {
	var refused *vpn.Problems
	if errors.As(err, &refused) {
		return refused.List[0].Found + "; " + refused.List[0].Fix
	}
	return err.Error()
}

// rehearseBySchedule rehearses samples of the gateways that have a schedule, and those that were
// asked for, until the context ends.
func (s *Service) rehearseBySchedule(ctx context.Context) {
	clock := time.NewTicker(scheduleTick)
	defer clock.Stop()
	for {
		if err := s.RehearseDue(ctx); err != nil && ctx.Err() == nil {
			s.log.ErrorContext(ctx, "rehearsing by schedule", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-clock.C:
		case <-s.rehearsing.soon:
		}
	}
}

// RehearseDue begins the rehearsals that are due and that may sign in now. Those of a sample whose
// login may not yet stay in line, over a restart too.
func (s *Service) RehearseDue(ctx context.Context) error {
	scheduled, err := s.store.Read().ScheduledGateways(ctx)
	if err != nil {
		return err
	}
	now := s.now()
	for _, g := range scheduled {
		due := !g.Followed.IsZero() && now.Sub(g.Followed) >= g.Every
		// A schedule that is new first waits its time, and so does one of a clock that went back.
		if due || g.Followed.IsZero() || g.Followed.After(now) {
			if err := s.scheduleSample(As(ctx, Schedule), g, due); err != nil {
				return err
			}
		}
	}
	running, err := s.store.Read().RunningJobs(ctx, rehearseJob)
	if err != nil || len(running) == 0 {
		return err
	}
	for _, j := range running {
		err = errors.Join(err, s.rehearseSampled(As(ctx, j.Operator), j))
	}
	return errors.Join(err, s.store.Write(ctx, func(tx *store.Tx) error {
		return tx.SettleSamples(ctx)
	}))
}

// scheduleSample keeps that a schedule was looked at, and puts a sample in line where it is due.
// One that is in line already stays as it is.
func (s *Service) scheduleSample(
	ctx context.Context,
	g store.ScheduledGateway,
	due bool,
) error {
	return s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.FollowSchedule(ctx, g.ID, s.now()); err != nil || !due {
			return err
		}
		running, err := runningSample(ctx, tx, g.ID)
		if err != nil || running != nil {
			return err
		}
		list, err := tx.RehearsalSample(ctx, "gateway_id", g.ID)
		if err != nil || len(list) == 0 {
			return err
		}
		return errors.Join(tx.DropEndedJobs(ctx, rehearseJob, g.ID, Schedule),
			tx.AddSample(ctx, &api.Job{
				Kind: rehearseJob, Subject: g.ID, Title: "Rehearse a sample of " + g.Name,
				Operator: Schedule,
			}, ofParcels(list[:min(len(list), mostSampled)])))
	})
}

// ofParcels are rehearsals of the newest parcels of profiles.
func ofParcels(profiles []string) []store.Sampled {
	list := make([]store.Sampled, len(profiles))
	for i, id := range profiles {
		list[i].ProfileID = id
	}
	return list
}

// rehearseSampled begins those of a sample whose login may sign in; the others stay in line.
func (s *Service) rehearseSampled(ctx context.Context, j api.Job) error {
	list, err := s.store.Read().Sampled(ctx, j.ID)
	if err != nil {
		return err
	}
	for _, one := range list {
		work, err := s.rehearsalOf(ctx, one, api.NewRehearsal{}, one.Offer == "")
		if err == nil {
			_, err = s.begin(ctx, work, false, func(tx *store.Tx, row api.Rehearsal) error {
				return tx.BeginSampled(ctx, j.ID, one, row.ID)
			})
		}
		var kind interface{ Kind() vpn.Kind }
		waits := errors.As(err, &kind) && kind.Kind() == vpn.KindTries
		if err == nil || waits {
			continue
		}
		outcome := passedOver(err)
		if outcome == "" { // a fault that may pass
			return err
		}
		why := ""
		if outcome == outcomeFailed {
			outcome, why = outcomeRefused, cut(whyNot(err), 300)
		}
		s.log.InfoContext(ctx, "a rehearsal was not made", "profile", one.ProfileID, "offer",
			one.Offer, "reason", err)
		if err := s.store.Write(ctx, func(tx *store.Tx) error {
			return tx.LeaveSample(ctx, j.ID, one, outcome, why)
		}); err != nil {
			return err
		}
	}
	return nil
}
