package service

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"wardicon/api"
	"wardicon/core/vpn"
	"wardicon/store"
)

const (
	scheduleTick = 20 * time.Second
	mostSampled  = 200 // profiles of a sample
)

// samples are the profiles that are to be rehearsed one after the other, by what they are a sample of.
type samples struct {
	mu      sync.Mutex
	waiting map[string][]string
	last    map[string]time.Time // when a gateway's schedule was last followed
	soon    chan struct{}
}

func newSamples() *samples {
	return &samples{
		waiting: map[string][]string{}, last: map[string]time.Time{}, soon: make(chan struct{}, 1),
	}
}

// add puts a sample in line. One that is in line already stays as it is.
func (w *samples) add(of string, profiles []string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.waiting[of]) == 0 {
		w.waiting[of] = slices.Clone(profiles)
	}
}

func (w *samples) wake() {
	select {
	case w.soon <- struct{}{}:
	default:
	}
}

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

// RehearseSample rehearses one profile for each pattern and platform of a gateway, or for each
// gateway and platform of a pattern, one after the other, with the gateways' accounts for rehearsals.
func (s *Service) RehearseSample(
	ctx context.Context,
	noun, id string,
) (sample api.RehearsalSample, err error) {
	known := store.Gateways.Known
	if noun == "pattern" {
		known = store.Patterns.Known
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if err := known(ctx, tx, id); err != nil {
			return err
		}
		list, err := tx.RehearsalSample(ctx, noun+"_id", id)
		if err != nil {
			return err
		}
		if len(list) == 0 {
			return problem("rehearsal", "/"+noun, "no parcel", "profiles with parcels",
				"build parcels first")
		}
		sample.Profiles = list[:min(len(list), mostSampled)]
		return audit(ctx, tx, "rehearse", noun, id, "a sample of its profiles")
	})
	if err != nil {
		return sample, err
	}
	if sample, err = s.sampled(ctx, sample.Profiles); err != nil {
		return sample, err
	}
	s.samples.add(noun+" "+id, sample.Profiles)
	s.samples.wake()
	return sample, nil
}

// sampled leaves out of a sample what cannot be rehearsed. It is an error where nothing is left.
func (s *Service) sampled(ctx context.Context, list []string) (api.RehearsalSample, error) {
	sample := api.RehearsalSample{Profiles: []string{}, Skipped: []api.SkippedRehearsal{}}
	var first error
	for _, id := range list {
		_, err := s.rehearsalOf(ctx, id, api.NewRehearsal{}, true)
		if err == nil {
			sample.Profiles = append(sample.Profiles, id)
			continue
		}
		var refused *vpn.Problems
		if !errors.As(err, &refused) {
			return sample, err
		}
		row, err := store.Profiles.Row(ctx, s.store.Read(), id)
		if err != nil {
			return sample, err
		}
		first = cmp.Or(first, error(refused))
		sample.Skipped = append(sample.Skipped, api.SkippedRehearsal{
			ProfileID: id, Device: row.Device + " to " + row.Gateway, Reason: refused.Error(),
		})
	}
	if len(sample.Profiles) == 0 {
		return sample, first
	}
	return sample, nil
}

// RehearseBySchedule rehearses samples of the gateways that have a schedule, and those that were
// asked for, until the context ends.
func (s *Service) RehearseBySchedule(ctx context.Context) {
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
		case <-s.samples.soon:
		}
	}
}

// RehearseDue begins the rehearsals that are due and that may sign in now.
func (s *Service) RehearseDue(ctx context.Context) error {
	every, err := s.store.Read().ScheduledGateways(ctx)
	if err != nil {
		return err
	}
	for id, minutes := range every {
		s.samples.mu.Lock()
		last, known := s.samples.last[id]
		due := known && s.now().Sub(last) >= time.Duration(minutes)*time.Minute
		if !known || due {
			// A service that starts does not sign in everywhere at once: each first waits its time.
			s.samples.last[id] = s.now()
		}
		s.samples.mu.Unlock()
		if !due {
			continue
		}
		list, err := s.store.Read().RehearsalSample(ctx, "gateway_id", id)
		if err != nil {
			return err
		}
		s.samples.add("gateway "+id, list[:min(len(list), mostSampled)])
	}
	for _, of := range s.samples.all() {
		s.rehearseWaiting(As(ctx, Schedule), of)
	}
	return nil
}

func (w *samples) all() (list []string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for of := range w.waiting {
		list = append(list, of)
	}
	slices.Sort(list)
	return list
}

// rehearseWaiting begins those of a sample whose login may sign in; the others stay in line.
func (s *Service) rehearseWaiting(ctx context.Context, of string) {
	s.samples.mu.Lock()
	list := s.samples.waiting[of]
	delete(s.samples.waiting, of)
	s.samples.mu.Unlock()
	var later []string
	for _, id := range list {
		work, err := s.rehearsalOf(ctx, id, api.NewRehearsal{}, true)
		if err == nil {
			_, err = s.begin(ctx, work, false)
		}
		var kind interface{ Kind() vpn.Kind }
		switch {
		case err == nil:
		case errors.As(err, &kind) && kind.Kind() == vpn.KindTries:
			later = append(later, id)
		case ctx.Err() == nil:
			s.log.InfoContext(ctx, "a rehearsal by schedule was not made", "profile", id,
				"reason", err)
		}
	}
	s.samples.mu.Lock()
	defer s.samples.mu.Unlock()
	if len(later) > 0 {
		s.samples.waiting[of] = append(later, s.samples.waiting[of]...)
	}
}

// RehearsalMatrix is the last rehearsal of each gateway, protocol that it offers, and platform.
func (s *Service) RehearsalMatrix(ctx context.Context) (m api.RehearsalMatrix, err error) {
	m.Platforms, m.Rows = []vpn.Platform{}, []api.RehearsalRow{}
	err = s.store.Snapshot(ctx, func(tx *store.Tx) error {
		gateways, err := store.Gateways.Where(ctx, tx, "1")
		if err != nil {
			return err
		}
		slices.SortFunc(gateways, func(a, b vpn.Gateway) int { return cmp.Compare(a.Name, b.Name) })
		cells, err := tx.RehearsalCells(ctx)
		if err != nil {
			return err
		}
		for _, g := range gateways {
			for _, p := range g.Offers.Protocols() {
				row := api.RehearsalRow{
					GatewayID: g.ID, Gateway: g.Name, Protocol: p, Cells: []api.RehearsalCell{},
				}
				for _, c := range cells {
					if c.GatewayID == g.ID && c.Protocol == p {
						row.Cells = append(row.Cells, c)
					}
				}
				m.Rows = append(m.Rows, row)
			}
		}
		for _, p := range vpn.Platforms {
			if slices.ContainsFunc(cells, func(c api.RehearsalCell) bool { return c.Platform == p }) {
				m.Platforms = append(m.Platforms, p)
			}
		}
		return nil
	})
	return m, err
}
