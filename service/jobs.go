package service

import (
	"context"
	"errors"
	"maps"
	"slices"
	"time"

	"wardicon/api"
	"wardicon/store"
)

// jobBatch is how many devices or profiles are listed at once.
const jobBatch = 25

// How long a job waits after a fault that may pass: twice as long each time.
const (
	leastPause = time.Second
	mostPause  = time.Minute
)

// kind is what a job that changes records does: one device or profile after the other.
type kind struct {
	// those after its cursor
	next func(ctx context.Context, tx *store.Tx, j api.Job, limit int) ([]string, error)
	// computed while reading
	one func(ctx context.Context, tx *store.Tx, j api.Job, id string) (kept, error)
	// one stands for several, each of which it counts
	several bool
	// what else ends with a job, however it ends; nil where nothing does
	ended func(ctx context.Context, tx *store.Tx, j api.Job) error
}

// kept keeps what was computed for one device or profile, and counts what became of it.
type kept func(ctx context.Context, tx *store.Tx, count func(outcome string)) error

// tallied is what is computed where nothing is to be kept.
func tallied(outcome string) kept {
	return func(_ context.Context, _ *store.Tx, count func(string)) error {
		count(outcome)
		return nil
	}
}

// Outcomes beside those of a kind.
const (
	outcomeGone    = "gone"    // removed before its turn came
	outcomeDamaged = "damaged" // a value of it cannot be read
	outcomeFailed  = "failed"
	outcomeRefused = "refused"
)

// kinds are the kinds of jobs that change records. Those that ask gateways go on beside them.
func (s *Service) kinds() map[string]kind {
	return map[string]kind{
		"roll-out":    {next: s.nextRollOut, one: s.rollOutOne},
		"fix":         {next: s.nextFix, one: s.fixOne},
		"renew":       {next: s.nextRenewal, one: s.renewOne},
		"hand-over":   {next: s.nextHandOver, one: s.handOverOne},
		"import":      s.imports(),
		"undo-import": s.undoes(),
		"survey":      s.surveys(),
		"switch":      s.switches(),
		selectionJob:  s.selections(),
	}
}

// workSoon wakes the worker.
func (s *Service) workSoon() {
	notify(s.jobsWake)
}

// Work does jobs, the oldest first, until the context ends. What is not done by then goes on at the
// next start; what a passing fault has stopped, such as a full disk, goes on by itself.
func (s *Service) Work(ctx context.Context) {
	pause := leastPause
	again := time.NewTimer(0)
	defer again.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-s.jobsWake:
		case <-again.C:
		}
		err := s.WorkAll(ctx)
		if err == nil {
			pause = leastPause
			again.Reset(mostPause)
			continue
		}
		if ctx.Err() == nil {
			s.log.ErrorContext(ctx, "a job waits", "error", err, "pause", pause)
		}
		again.Reset(pause)
		pause = min(2*pause, mostPause)
	}
}

// WorkAll does all jobs that are there. An error is one that may pass: nothing is lost, and it goes
// on with the next call.
func (s *Service) WorkAll(ctx context.Context) error {
	for {
		list, err := s.store.Read().RunningJobs(ctx, slices.Collect(maps.Keys(s.kinds()))...)
		if err != nil || len(list) == 0 {
			return err
		}
		if err := s.workOnJob(ctx, list[0]); err != nil {
			return err
		}
	}
}

// workOnJob does one job, part by part, until it is done or cancelled.
func (s *Service) workOnJob(ctx context.Context, j api.Job) error {
	ctx = As(ctx, j.Operator)
	k := s.kinds()[j.Kind]
	defer s.checkSoon()
	defer s.mailSoon()
	for {
		var ids []string
		if err := s.store.Snapshot(ctx, func(tx *store.Tx) (err error) {
			ids, err = k.next(ctx, tx, j, jobBatch)
			return err
		}); passedOver(err) != "" { // what it works on is gone: others are not to wait for it
			return s.failJob(ctx, j, err)
		} else if err != nil {
			return err
		}
		if len(ids) == 0 {
			return s.endJob(ctx, j)
		}
		for _, id := range ids {
			switch err := s.doOne(ctx, k, &j, id); {
			case errors.Is(err, errCancelled):
				return nil
			case err != nil:
				return err
			}
		}
		s.checkSoon()
		s.mailSoon()
	}
}

// failJob ends a job that cannot go on at all.
func (s *Service) failJob(ctx context.Context, j api.Job, why error) error {
	s.log.ErrorContext(ctx, "a job failed", "job", j.ID, "kind", j.Kind, "error", why)
	j.State, j.Problem = api.Failed, cut(why.Error(), 300)
	return s.store.Write(ctx, func(tx *store.Tx) error { return s.putEnded(ctx, tx, &j) })
}

// putEnded keeps a job that has ended, and ends what goes with it.
func (s *Service) putEnded(ctx context.Context, tx *store.Tx, j *api.Job) error {
	if _, err := tx.PutJob(ctx, j); err != nil {
		return err
	}
	if k := s.kinds()[j.Kind]; k.ended != nil {
		return k.ended(ctx, tx, *j)
	}
	return nil
}

func (s *Service) endJob(ctx context.Context, j api.Job) error {
	j.State, j.Total = api.Done, j.Done // some may have gone, or come, since they were counted
	return s.store.Write(ctx, func(tx *store.Tx) error { return s.putEnded(ctx, tx, &j) })
}

// doOne does a job's work on one device or profile, and keeps it together with how far the job has
// come, so that it is done once whatever happens. What fails for a reason of its own is counted and
// passed over.
func (s *Service) doOne(ctx context.Context, k kind, j *api.Job, id string) error {
	var next api.Job
	keep := func(tx *store.Tx, do kept) error {
		next = *j
		next.Result = maps.Clone(j.Result)
		if next.Result == nil {
			next.Result = map[string]int{}
		}
		done := 0
		if err := do(ctx, tx, func(outcome string) { next.Result[outcome]++; done++ }); err != nil {
			return err
		}
		if !k.several {
			done = 1
		}
		next.Done, next.Cursor = j.Done+done, id
		next.Total = max(j.Total, next.Done)
		going, err := tx.PutJob(ctx, &next)
		if err == nil && !going {
			err = errCancelled // what was done for this one is given up with it
		}
		return err
	}
	err := settle(ctx, s, func(tx *store.Tx) (kept, error) { return k.one(ctx, tx, *j, id) }, keep)
	if outcome := passedOver(err); outcome != "" && ctx.Err() == nil {
		s.log.ErrorContext(
			ctx,
			"a job passes one over",
			"job",
			j.ID,
			"kind",
			j.Kind,
			"record",
			id,
			"error",
			err,
		)
		if outcome != outcomeGone && j.Problem == "" {
			j.Problem = cut(err.Error(), 300)
		}
		err = s.store.Write(ctx, func(tx *store.Tx) error { return keep(tx, tallied(outcome)) })
	}
	if err == nil {
		*j = next
	}
	return err
}

// passedOver says what an error makes of the one that it came from; empty where the whole job has
// to wait.
func passedOver(err error) string {
	var gone *store.NotFoundError
	var fault *store.FaultError
	var damaged *store.DamagedError
	switch {
	case err == nil,
		errors.Is(err, errCancelled),
		errors.As(err, &fault),
		errors.Is(err, context.Canceled),
		errors.Is(err, context.DeadlineExceeded):
		return ""
	case errors.As(err, &gone):
		return outcomeGone
	case errors.As(err, &damaged):
		return outcomeDamaged
	}
	return outcomeFailed
}

var errCancelled = errors.New("the job was cancelled")

// Jobs lists jobs, newest first; without a kind, those of every kind.
func (s *Service) Jobs(ctx context.Context, q store.Query) (api.Page[api.Job], error) {
	return store.Jobs.List(ctx, s.store.Read(), q)
}

// Job reads one job.
func (s *Service) Job(ctx context.Context, id string) (api.Job, error) {
	return s.store.Read().Job(ctx, id)
}

// Cancel ends a job that runs; what it has done stays done.
func (s *Service) Cancel(ctx context.Context, id string) (api.Job, error) {
	var j api.Job
	err := s.store.Write(ctx, func(tx *store.Tx) error {
		var err error
		if j, err = tx.Job(ctx, id); err != nil || j.State != api.Running {
			return err
		}
		j.State = api.Cancelled
		if err := s.putEnded(ctx, tx, &j); err != nil {
			return err
		}
		if err := tx.DropSample(ctx, id); err != nil {
			return err
		}
		return audit(ctx, tx, "cancel", "job", id, j.Title)
	})
	if err == nil {
		s.asking.cancel(id)
	}
	return j, err
}
