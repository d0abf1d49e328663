package service

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"sync"
	"time"

	"wardicon/api"
	"wardicon/core/filecheck"
	"wardicon/core/rehearsal"
	"wardicon/core/vpn"
	"wardicon/rehearse"
	"wardicon/store"
)

// Limits of rehearsals.
const (
	rehearsedAtOnce = 20
	signInEvery     = time.Minute // of one login at one gateway
	mostQueued      = 200
)

// rehearsing are the rehearsals under way.
type rehearsing struct {
	queue chan rehearsalWork
	live  sync.Map      // by identifier: *live
	soon  chan struct{} // wakes who begins those of samples
}

type rehearsalWork struct {
	row     api.Rehearsal
	request rehearse.Request
}

// live is a rehearsal whose steps are still coming.
type live struct {
	mu    sync.Mutex
	steps []rehearsal.Step
}

func newRehearsing() *rehearsing {
	return &rehearsing{
		queue: make(chan rehearsalWork, mostQueued), soon: make(chan struct{}, 1),
	}
}

// Rehearse begins a trial connection with the files of a profile's newest parcel. What it came to
// stands in its record when it is over.
func (s *Service) Rehearse(
	ctx context.Context,
	profileID string,
	in api.NewRehearsal,
) (row api.Rehearsal, err error) {
	work, err := s.rehearsalOf(ctx, store.Sampled{ProfileID: profileID}, in, false)
	if err != nil {
		return row, err
	}
	return s.begin(ctx, work, in.Again, nil)
}

// begin puts a rehearsal on record, with what is kept beside it, and has it made.
func (s *Service) begin(
	ctx context.Context,
	work rehearsalWork,
	again bool,
	beside func(*store.Tx, api.Rehearsal) error,
) (row api.Rehearsal, err error) {
	if len(s.rehearsing.queue) == cap(s.rehearsing.queue) {
		return row, vpn.Refuse(vpn.KindTries, fmt.Sprintf("the rehearsal: %d are waiting already; "+
			"try again in a minute", mostQueued))
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if err := s.maySignIn(ctx, tx, work.row, again); err != nil {
			return err
		}
		if err := tx.AddRehearsal(ctx, &work.row); err != nil {
			return err
		}
		if row, err = store.Rehearsals.Row(ctx, tx, work.row.ID); err != nil {
			return err
		}
		if beside != nil {
			if err := beside(tx, row); err != nil {
				return err
			}
		}
		return audit(ctx, tx, "rehearse", "profile", work.row.ProfileID,
			row.Device+" to "+row.Gateway)
	})
	if err != nil {
		return row, err
	}
	s.rehearsing.live.Store(row.ID, &live{})
	work.row = row
	select {
	case s.rehearsing.queue <- work:
	default: // as many came at the same moment
		s.rehearsing.live.Delete(row.ID)
		row.State = api.RehearsalStopped
		err = s.store.Write(ctx, func(tx *store.Tx) error {
			return errors.Join(tx.EndRehearsal(ctx, &row), tx.SettleSamples(ctx))
		})
	}
	return row, err
}

// rehearsalOf reads the connection out of the files of the newest parcel, or of those that would be
// built for another offer. As a test it signs in with the account for rehearsals of the gateway,
// and with nobody's own.
func (s *Service) rehearsalOf(
	ctx context.Context,
	of store.Sampled,
	in api.NewRehearsal,
	asTest bool,
) (work rehearsalWork, err error) {
	err = s.store.Snapshot(ctx, func(tx *store.Tx) error {
		w, files, parcelID, err := s.rehearsedFiles(ctx, tx, of)
		if err != nil {
			return err
		}
		work.request = rehearse.Request{
			As: w.subject.Release, Hosts: w.in.Gateway.Hosts, Lead: w.in.Gateway.ProbeAt,
		}
		found := false
		for _, item := range filecheck.Check(files, filecheck.Options{Now: s.now()}) {
			for _, l := range item.Connections {
				if !found && l.Connection.Protocol == w.plan.Connection.Protocol {
					work.request.File, work.request.Connection = item.Name, l.Connection
					found = true
				}
			}
		}
		if !found {
			return problem("rehearsal", "/profile", "a parcel that a person types in",
				"one with a file that the device reads", "rehearse it on the device")
		}
		c := &work.request.Connection
		if asTest {
			if err := s.signInAsTest(ctx, tx, w, c); err != nil {
				return err
			}
			work.row.Login = c.Login
		} else if c.NeedsPassword() {
			if c.Login == "" {
				c.Login = w.plan.Connection.Login
			}
			if c.Password.IsZero() {
				c.Password = in.Password
			}
			if c.Password.IsZero() {
				for _, a := range w.in.Accounts {
					if a.Password != nil && (a.ID == w.in.Profile.Preferences.AccountID ||
						len(w.in.Accounts) == 1) {
						c.Password = *a.Password
					}
				}
			}
			if c.Password.IsZero() {
				return problem("rehearsal", "/password", "nothing", "the password of "+c.Login,
					"enter it; it is not stored")
			}
			work.row.Login = c.Login
		}
		work.row.ProfileID, work.row.ParcelID = of.ProfileID, parcelID
		work.row.GatewayID, work.row.Operator = w.in.Gateway.ID, actor(ctx)
		work.row.State = api.RehearsalRunning
		work.row.Result = rehearsal.Begun(s.now(), work.request.File, *c)
		return nil
	})
	return work, err
}

// rehearsedFiles are the files of a profile's newest parcel, or those that would be built if the
// profile asked for another offer of its gateway.
func (s *Service) rehearsedFiles(
	ctx context.Context,
	tx *store.Tx,
	of store.Sampled,
) (w *worked, files []filecheck.File, parcelID string, err error) {
	if of.Offer != "" {
		p, err := store.Profiles.Get(ctx, tx, of.ProfileID)
		if err != nil {
			return nil, nil, "", err
		}
		p.Preferences.Protocol = of.Offer
		if w, err = s.workOn(ctx, tx, *p); err != nil {
			return nil, nil, "", err
		}
		if !w.plan.Works() {
			return nil, nil, "", problem("rehearsal", "/offer", w.hindrance(),
				"an offer that the device can take", "choose another offer")
		}
		made, err := w.plan.Files()
		for _, f := range made {
			files = append(files, filecheck.File{Name: f.Name, Data: f.Content})
		}
		return w, files, "", err
	}
	if w, err = s.work(ctx, tx, of.ProfileID); err != nil {
		return nil, nil, "", err
	}
	list, err := tx.Parcels(ctx, of.ProfileID)
	if err != nil {
		return nil, nil, "", err
	}
	if len(list) == 0 || list[0].Removed != nil {
		return nil, nil, "", problem("rehearsal", "/profile", "no parcel",
			"a parcel of the profile", "build it first")
	}
	for _, f := range list[0].Files {
		content, err := tx.ParcelFile(ctx, list[0].ID, f.Name)
		if err != nil {
			return nil, nil, "", err
		}
		files = append(files, filecheck.File{Name: f.Name, Data: content})
	}
	return w, files, list[0].ID, nil
}

// hindrance is why a plan does not work.
func (w *worked) hindrance() string {
	switch {
	case w.plan.Lacking != "":
		return w.plan.Lacking
	case w.plan.Unfit != nil:
		return w.plan.Unfit.Error()
	case len(w.plan.Passed) > 0:
		return w.plan.Passed[0].Reason
	}
	return "no way to connect by " + w.plan.Connection.Protocol.Title()
}

// maySignIn keeps a login from being locked out: one try a minute, and none after the gateway
// rejected it, unless somebody confirms.
func (s *Service) maySignIn(
	ctx context.Context,
	tx *store.Tx,
	row api.Rehearsal,
	again bool,
) error {
	if row.Login == "" {
		return nil
	}
	if !strings.HasPrefix(row.ID, loosePrefix) {
		s.loose.mu.Lock()
		err := s.loose.maySignIn(row, again, s.now())
		s.loose.mu.Unlock()
		if err != nil {
			return err
		}
	}
	last, cause, err := tx.LastSignIn(ctx, row.GatewayID, row.Login)
	switch {
	case err != nil || last.IsZero():
		return err
	case s.now().Sub(last) < signInEvery:
		return tooSoon(row.Login)
	case cause == passwordWrong && !again:
		return rejectedBefore()
	}
	return nil
}

// Rehearsals lists trial connections.
func (s *Service) Rehearsals(
	ctx context.Context,
	q store.Query,
) (api.Page[api.Rehearsal], error) {
	return store.Rehearsals.List(ctx, s.store.Read(), q)
}

// Rehearsal is one, with the steps that are over.
func (s *Service) Rehearsal(ctx context.Context, id string) (api.Rehearsal, error) {
	var row api.Rehearsal
	var err error
	if strings.HasPrefix(id, loosePrefix) {
		row, err = s.looseRehearsal(ctx, id)
	} else {
		row, err = store.Rehearsals.Row(ctx, s.store.Read(), id)
	}
	if l, ok := s.rehearsing.live.Load(id); ok && err == nil && row.State == api.RehearsalRunning {
		l := l.(*live)
		l.mu.Lock()
		row.Result.Steps = append(row.Result.Steps, l.steps...)
		l.mu.Unlock()
	}
	return row, err
}

// RunRehearsals makes rehearsals, those that are asked for and those of schedules, until the
// context ends. Those that it interrupts are not made again: every sign-in counts at the gateway.
func (s *Service) RunRehearsals(ctx context.Context) {
	for s.stopInterrupted(ctx) != nil {
		select {
		case <-ctx.Done():
			return
		case <-time.After(leastPause):
		}
	}
	var all sync.WaitGroup
	all.Go(func() { s.RehearseQueued(ctx) })
	all.Go(func() { s.rehearseBySchedule(ctx) })
	all.Wait()
}

// stopInterrupted tells of rehearsals that the end of the service interrupted.
func (s *Service) stopInterrupted(ctx context.Context) error {
	err := s.store.Write(ctx, func(tx *store.Tx) error {
		return errors.Join(tx.StopRehearsals(ctx), tx.SettleSamples(ctx))
	})
	if err != nil && ctx.Err() == nil {
		s.log.ErrorContext(ctx, "rehearsals that were interrupted", "error", err)
	}
	return err
}

// RehearseQueued makes the rehearsals that were begun, some side by side, until the context ends.
func (s *Service) RehearseQueued(ctx context.Context) {
	var all sync.WaitGroup
	defer all.Wait()
	for range rehearsedAtOnce {
		all.Go(func() {
			for {
				select {
				case <-ctx.Done():
					return
				case work := <-s.rehearsing.queue:
					s.rehearseOne(ctx, work)
				}
			}
		})
	}
}

func (s *Service) rehearseOne(ctx context.Context, work rehearsalWork) {
	defer s.rehearsing.live.Delete(work.row.ID)
	known, _ := s.rehearsing.live.LoadOrStore(work.row.ID, &live{})
	l := known.(*live)
	work.request.Reached = func(step rehearsal.Step) {
		l.mu.Lock()
		defer l.mu.Unlock()
		l.steps = append(l.steps, step)
	}
	r := &rehearse.Rehearser{
		Resolver: s.asking.resolver, Now: s.now,
		Allowed: func(a netip.Addr) error {
			if why := s.asking.unprobed(a); why != "" {
				return errors.New(why)
			}
			return nil
		},
	}
	work.row.Result = r.Run(ctx, work.request)
	if ctx.Err() != nil {
		return // the next start tells that it was stopped
	}
	work.row.State = api.RehearsalFailed
	if work.row.Result.Passed {
		work.row.State = api.RehearsalPassed
	}
	if strings.HasPrefix(work.row.ID, loosePrefix) {
		s.loose.end(work.row)
		return
	}
	if err := s.store.Write(ctx, func(tx *store.Tx) error {
		return errors.Join(tx.EndRehearsal(ctx, &work.row),
			tx.TouchProfiles(ctx, "id = ?", work.row.ProfileID), tx.SettleSamples(ctx))
	}); err != nil {
		s.log.ErrorContext(ctx, "keeping a rehearsal", "rehearsal", work.row.ID, "error", err)
	}
	s.checkSoon()
}
