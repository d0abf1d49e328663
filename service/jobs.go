package service

import (
	"context"
	"errors"
	"maps"
	"slices"

	"wardicon/core/view"
	"wardicon/store"
)

// jobBatch is how many devices one part of a job takes; others can write between parts.
const jobBatch = 25

// workSoon wakes the worker.
func (s *Service) workSoon() {
	poke(s.jobsWake)
}

// Work does jobs, the oldest first, until the context ends. What is not done by then
// goes on at the next start.
func (s *Service) Work(ctx context.Context) {
	s.workSoon()
	for {
		select {
		case <-ctx.Done():
			return
		case <-s.jobsWake:
		}
		if err := s.WorkAll(ctx); err != nil && ctx.Err() == nil {
			s.log.Error("doing jobs", "error", err)
		}
	}
}

// WorkAll does all jobs that are there.
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

// kinds are the kinds of jobs that change records: each does one part, and tells whether it was the last. Those that ask
// gateways go on beside them.
func (s *Service) kinds() map[string]func(context.Context, *store.Tx, *view.Job) (bool, error) {
	return map[string]func(context.Context, *store.Tx, *view.Job) (bool, error){"roll-out": s.rollOut, "mend": s.mendPart, "renew": s.renewPart, "hand-over": s.handOverPart}
}

// workOnJob does one job, part by part, until it is done, cancelled or failed.
func (s *Service) workOnJob(ctx context.Context, j view.Job) error {
	ctx = As(ctx, j.Operator)
	for going := true; going; {
		next := j
		next.Result = map[string]int{}
		for k, v := range j.Result {
			next.Result[k] = v
		}
		err := s.store.Write(ctx, func(tx *store.Tx) error {
			finished, err := s.kinds()[j.Kind](ctx, tx, &next)
			if err != nil {
				return err
			}
			if finished {
				next.State = view.Done
			}
			going, err = tx.PutJob(ctx, &next)
			if err == nil && !going {
				return errCancelled // what this part did is given up with it
			}
			going = going && !finished
			return err
		})
		s.checkSoon()
		s.mailSoon()
		switch {
		case errors.Is(err, errCancelled):
			return nil
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil:
			j.State, j.Problem = view.Failed, err.Error()
			return s.store.Write(ctx, func(tx *store.Tx) error {
				_, err := tx.PutJob(ctx, &j)
				return err
			})
		}
		j = next
	}
	return nil
}

var errCancelled = errors.New("the job was cancelled")

// Jobs lists jobs, newest first; without a kind, those of every kind.
func (s *Service) Jobs(ctx context.Context, kind string, limit, offset int) (view.Page[view.Job], error) {
	return s.store.Read().Jobs(ctx, kind, limit, offset)
}

// Job reads one job.
func (s *Service) Job(ctx context.Context, id string) (view.Job, error) {
	return s.store.Read().Job(ctx, id)
}

// Cancel ends a job that runs; what it has done stays done.
func (s *Service) Cancel(ctx context.Context, id string) (view.Job, error) {
	var j view.Job
	err := s.store.Write(ctx, func(tx *store.Tx) error {
		var err error
		if j, err = tx.Job(ctx, id); err != nil || j.State != view.Running {
			return err
		}
		j.State = view.Cancelled
		if _, err := tx.PutJob(ctx, &j); err != nil {
			return err
		}
		return deed(ctx, tx, "cancel", "job", id, j.Title)
	})
	if err == nil {
		s.asking.cancel(id)
	}
	return j, err
}
