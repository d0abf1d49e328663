package service

import (
	"context"
	"errors"
	"sync"
	"time"

	"wardicon/api"
	"wardicon/core/drift"
	"wardicon/store"
)

// Limits of asking many gateways.
const (
	probeTick   = time.Minute // how often the schedule is looked at
	probeBatch  = 500         // gateways of one look
	probeAtOnce = 200         // that are asked side by side

	probeAgain = 10 * time.Minute // after which a fault that is new is looked at again
)

// probeJob is the kind of jobs that ask gateways.
const probeJob = "probe"

// failedToProbe counts gateways in a job's result that could not be asked, beside the states of
// probes.
const failedToProbe = "failed"

// notify wakes who waits, if somebody does.
func notify(wake chan struct{}) {
	select {
	case wake <- struct{}{}:
	default:
	}
}

// cancel ends a job that is being done.
func (a *asking) cancel(id string) {
	if end, ok := a.ends.Load(id); ok {
		end.(context.CancelFunc)()
	}
}

// ProbeGateways begins a job that asks gateways on record what they answer: one, or all where none
// is named.
func (s *Service) ProbeGateways(ctx context.Context, gatewayID string) (j api.Job, err error) {
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		j = api.Job{
			Kind:     probeJob,
			Subject:  gatewayID,
			Title:    "Probe all gateways",
			Total:    1,
			Operator: actor(ctx),
			Result:   map[string]int{},
		}
		if gatewayID != "" {
			g, err := store.Gateways.Get(ctx, tx, gatewayID)
			if err != nil {
				return err
			}
			j.Title = "Probe " + g.Name
			return tx.AddJob(ctx, &j)
		}
		page, err := store.Gateways.List(ctx, tx, store.Query{Limit: 1})
		if err != nil {
			return err
		}
		if j.Total = page.Total; j.Total == 0 {
			return problem(
				"probe",
				"/gateways",
				"no gateway on record",
				"one at least",
				"add a gateway first",
			)
		}
		return errors.Join(tx.AddJob(ctx, &j), audit(ctx, tx, "probe", "gateway", "", j.Title))
	})
	if err == nil {
		notify(s.asking.jobs)
	}
	return j, err
}

// Ask asks gateways, by jobs and by the schedule, until the context ends. Jobs that are not done by
// then go on at the next start.
func (s *Service) Ask(ctx context.Context) {
	var all sync.WaitGroup
	all.Go(func() { s.probeBySchedule(ctx) })
	all.Go(func() { s.probeByJobs(ctx) })
	all.Wait()
}

func (s *Service) probeBySchedule(ctx context.Context) {
	clock := time.NewTicker(probeTick)
	defer clock.Stop()
	for {
		if _, err := s.ProbeDue(ctx); err != nil && ctx.Err() == nil {
			s.log.Error("asking gateways", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-clock.C:
		case <-s.asking.schedule:
		}
	}
}

// ProbeDue asks the gateways that are due by the schedule, many side by side, and says how many
// there were.
func (s *Service) ProbeDue(ctx context.Context) (int, error) {
	org, err := s.store.Read().Organisation(ctx)
	if err != nil || org.ProbeEvery == 0 {
		return 0, err
	}
	due, err := s.store.Read().
		UnprobedGateways(ctx, s.now().Add(-time.Duration(org.ProbeEvery)*time.Hour),
			s.now().Add(-probeAgain), probeBatch)
	if err != nil {
		return 0, err
	}
	var faults error
	s.probeAll(
		As(ctx, Schedule),
		due,
		func(_ drift.Probe, err error) { faults = errors.Join(faults, err) },
	)
	return len(due), faults
}

// probeAll asks many gateways, a bounded number side by side, and tells of each when it was asked,
// one at a time.
func (s *Service) probeAll(ctx context.Context, ids []string, told func(drift.Probe, error)) {
	var all sync.WaitGroup
	var mu sync.Mutex
	free := make(chan struct{}, probeAtOnce)
	for _, id := range ids {
		select {
		case free <- struct{}{}:
		case <-ctx.Done():
			all.Wait()
			return
		}
		all.Go(func() {
			defer func() { <-free }()
			p, err := s.Probe(ctx, id)
			var gone *store.NotFoundError
			if errors.As(err, &gone) { // removed meanwhile
				return
			}
			mu.Lock()
			defer mu.Unlock()
			told(p, err)
		})
	}
	all.Wait()
}

// probeByJobs does jobs that ask, each as soon as it is there: one gateway does not wait until all
// others were asked.
func (s *Service) probeByJobs(ctx context.Context) {
	var all sync.WaitGroup
	defer all.Wait()
	for {
		list, err := s.store.Read().RunningJobs(ctx, probeJob)
		if err != nil && ctx.Err() == nil {
			s.log.Error("asking gateways", "error", err)
		}
		for _, j := range list {
			limited, end := context.WithCancel(As(ctx, j.Operator))
			if _, begun := s.asking.ends.LoadOrStore(j.ID, end); begun {
				end()
				continue
			}
			all.Go(func() {
				defer s.asking.ends.Delete(j.ID)
				defer end()
				if err := s.doProbeJob(
					limited,
					j,
				); err != nil &&
					!errors.Is(err, context.Canceled) {
					s.log.Error("asking gateways", "job", j.ID, "error", err)
				}
			})
		}
		select {
		case <-ctx.Done():
			return
		case <-s.asking.jobs:
		}
	}
}

// doProbeJob asks whoever was not asked since the job began, until nobody is left: where it was
// stopped, it goes on so.
func (s *Service) doProbeJob(ctx context.Context, j api.Job) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	keep := func() error {
		return s.store.Write(ctx, func(tx *store.Tx) error {
			going, err := tx.PutJob(ctx, &j)
			if err == nil && !going { // cancelled before anybody could be told
				stop()
			}
			return err
		})
	}
	for {
		left, err := s.stillToProbe(ctx, j)
		if err != nil {
			return err
		}
		if len(left) == 0 {
			j.State, j.Done = api.Done, j.Total
			return keep()
		}
		asked := false
		var faults error
		s.probeAll(ctx, left, func(p drift.Probe, err error) {
			if ctx.Err() != nil {
				return
			}
			switch {
			case err == nil && p.At.Before(j.Created): // it was being asked already: once more
				asked = true
				return
			case err == nil:
				asked = true
				j.Result[string(p.State())]++
			default:
				j.Result[failedToProbe]++
				faults = errors.Join(faults, err)
			}
			j.Done = min(j.Done+1, j.Total)
			faults = errors.Join(faults, keep())
		})
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case !asked && faults != nil: // none of them can be asked
			j.State, j.Problem = api.Failed, faults.Error()
			return errors.Join(faults, keep())
		case !asked: // they were removed
			j.State = api.Done
			return keep()
		}
	}
}

// stillToProbe are gateways of a job that were not asked since it began.
func (s *Service) stillToProbe(ctx context.Context, j api.Job) ([]string, error) {
	if j.Subject == "" {
		return s.store.Read().UnprobedGateways(ctx, j.Created, time.Time{}, probeBatch)
	}
	p, err := s.store.Read().LatestProbe(ctx, j.Subject, j.Created)
	if err != nil || p != nil {
		return nil, err
	}
	return []string{j.Subject}, nil
}
