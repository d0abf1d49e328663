package service

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"wardicon/core/check"
	"wardicon/store"
)

// checkSoon wakes the background check.
func (s *Service) checkSoon() {
	notify(s.wake)
}

// checkBatch is how many profiles are checked between two looks at the clock.
const checkBatch = 100

// tick is how often the service looks for what time alone has changed.
const tick = 5 * time.Minute

// Recheck checks profiles whose data changed, until the context ends. What is not checked
// by then stays due and is taken up at the next start.
func (s *Service) Recheck(ctx context.Context) {
	s.checkSoon()
	clock := time.NewTicker(tick)
	defer clock.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-s.wake:
		case <-clock.C:
		}
		if err := s.Pass(ctx); err != nil && ctx.Err() == nil {
			s.log.Error("looking at the calendar", "error", err)
		}
		for {
			n, err := s.checkDue(ctx)
			if err != nil && ctx.Err() == nil {
				s.log.Error("checking profiles", "error", err)
			}
			if err != nil || n == 0 {
				break
			}
		}
		if err := s.noteFindings(ctx); err != nil && ctx.Err() == nil {
			s.log.Error("keeping the day's findings", "error", err)
		}
	}
}

// noteFindings keeps how many findings there are today, where that is not known yet.
func (s *Service) noteFindings(ctx context.Context) error {
	tx := s.store.Read()
	now, err := tx.Count(ctx)
	if err != nil {
		return err
	}
	last, err := tx.FindingDays(ctx, s.now())
	if err != nil || len(last) > 0 && last[0].Errors == now.Tally.Errors &&
		last[0].Warnings == now.Tally.Warnings {
		return err
	}
	return s.store.Write(ctx, func(tx *store.Tx) error { return tx.NoteFindings(ctx) })
}

// Pass marks what time alone has changed: profiles whose overrides have ended, and once a
// day all of them, because certificates end.
func (s *Service) Pass(ctx context.Context) error {
	today := s.now().UTC().Format(time.DateOnly)
	last, err := s.store.Read().Remembered(ctx, "day")
	if err != nil {
		return err
	}
	if since, err := time.Parse(time.DateOnly, last); err == nil && last != today {
		if err := errors.Join(s.renewDue(ctx), s.remind(ctx, since)); err != nil {
			return err
		}
	}
	if last != today {
		if err := s.removeSuperseded(ctx); err != nil {
			return err
		}
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.TouchExpired(ctx); err != nil || last == today {
			return err
		}
		if last != "" {
			if err := errors.Join(tx.TouchAll(ctx), tx.TouchGateways(ctx, "")); err != nil {
				return err
			}
		}
		return errors.Join(
			tx.ForgetPast(ctx),
			tx.ForgetRequests(ctx),
			tx.ForgetSlips(ctx, s.now().Add(-slipLife)),
			tx.SweepApprovals(ctx, s.now().Add(-keptApprovals)),
			tx.SweepCalls(ctx, s.now().Add(-keptCalls)),
			tx.SweepEnrolments(ctx, s.now().Add(-keptEnrolments)),
			tx.Remember(ctx, "day", today),
		)
	})
}

// removeSuperseded removes the files of parcels that newer ones took the place of long ago, a few
// at a time.
func (s *Service) removeSuperseded(ctx context.Context) error {
	o, err := s.store.Read().Organisation(ctx)
	if err != nil || o.KeepParcels == 0 {
		return err
	}
	before := s.now().AddDate(0, 0, -o.KeepParcels)
	after, n := "", 0
	for {
		var ids []string
		if err := s.store.Snapshot(ctx, func(tx *store.Tx) (err error) {
			ids, err = tx.SupersededParcels(ctx, before, after, checkBatch)
			return err
		}); err != nil {
			return err
		}
		for _, id := range ids {
			if err := s.store.Write(
				ctx,
				func(tx *store.Tx) error { return tx.RemoveFiles(ctx, id) },
			); err != nil {
				return err
			}
			after = id
			n++
		}
		if len(ids) < checkBatch {
			break
		}
	}
	if n == 0 {
		return nil
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		return audit(
			ctx,
			tx,
			"remove files",
			"parcels",
			"",
			fmt.Sprintf(
				"%d parcels that newer ones took the place of, built before %s",
				n,
				before.UTC().Format(time.DateOnly),
			),
		)
	})
}

// CheckAll checks every profile that is due, and returns how many there were.
func (s *Service) CheckAll(ctx context.Context) (int, error) {
	for total := 0; ; {
		n, err := s.checkDue(ctx)
		total += n
		if err != nil || n == 0 {
			return total, err
		}
	}
}

// checkDue checks some profiles that are due: worked out while reading, as many at once as there
// are processors to spare, and kept in short writes unless they were touched meanwhile.
func (s *Service) checkDue(ctx context.Context) (int, error) {
	if n, err := s.checkGateways(ctx); err != nil || n > 0 {
		return n, err
	}
	for more, err := s.store.Read().TouchingAll(ctx); more || err != nil; {
		if err != nil {
			return 0, err
		}
		err = s.store.Write(ctx, func(tx *store.Tx) error {
			more, err = tx.TouchSome(ctx)
			return err
		})
	}
	due, err := s.store.Read().DueProfiles(ctx, checkBatch)
	if err != nil || len(due) == 0 {
		return 0, err
	}
	results := make([][]check.Finding, len(due))
	errs := make([]error, len(due))
	var next atomic.Int64
	var all sync.WaitGroup
	faults := make(chan error, runtime.GOMAXPROCS(0))
	workers := behind()
	if !s.busy() {
		workers = runtime.GOMAXPROCS(0)
	}
	for worker := range min(workers, len(due)) {
		all.Go(func() {
			err := s.store.Snapshot(ctx, func(tx *store.Tx) error {
				tx = tx.Shelved()
				for i := int(next.Add(1)) - 1; i < len(due); i = int(next.Add(1)) - 1 {
					results[i], errs[i] = s.checkOne(ctx, tx, due[i].ID)
					if worker >= behind() && s.busy() { // somebody came: their processor is theirs
						return nil
					}
				}
				return nil
			})
			if err != nil {
				faults <- err
			}
		})
	}
	all.Wait()
	close(faults)
	for fault := range faults {
		err = errors.Join(err, fault)
	}
	if err = errors.Join(err, ctx.Err()); err != nil {
		return 0, err
	}
	for i := 0; i < len(due); {
		err := s.store.Write(ctx, func(tx *store.Tx) error {
			for end := time.Now().Add(shortWrite); i < len(due) && time.Now().Before(end); i++ {
				if passedOver(errs[i]) == "" && errs[i] != nil {
					return errs[i]
				}
				if err := tx.PutFindings(ctx, due[i], results[i]); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return 0, err
		}
	}
	return len(due), nil
}

// shortWrite is how long work in the background holds the writer at once.
const shortWrite = 3 * time.Millisecond

// checkOne works a profile out. One that cannot be read is no reason to stop: it is a finding of
// its own.
func (s *Service) checkOne(ctx context.Context, tx *store.Tx, id string) ([]check.Finding, error) {
	w, err := s.work(ctx, tx, id)
	if outcome := passedOver(err); outcome != "" {
		if outcome != outcomeGone {
			s.log.ErrorContext(ctx, "a profile cannot be checked", "profile", id, "error", err)
			noun, record := "profile", id
			var damaged *store.DamagedError
			if errors.As(err, &damaged) {
				noun, record, _ = strings.Cut(damaged.Owner, ":")
			}
			return []check.Finding{check.Unreadable(noun, record, err.Error())}, err
		}
		return nil, err // removed since the list was read; there is nothing to keep
	}
	if err != nil {
		return nil, err
	}
	return w.findings, nil
}

// checkGateways checks some gateways' records that are due.
func (s *Service) checkGateways(ctx context.Context) (int, error) {
	tx := s.store.Read()
	due, err := tx.DueGateways(ctx, checkBatch)
	if err != nil || len(due) == 0 {
		return 0, err
	}
	var policy check.Policy
	if policy.Severities, err = tx.Severities(ctx); err != nil {
		return 0, err
	}
	results := make([][]check.Finding, len(due))
	for i, d := range due {
		g, err := store.Gateways.Get(ctx, tx, d.ID)
		if passedOver(err) != "" {
			continue
		}
		if err != nil {
			return 0, err
		}
		results[i] = check.RunGateway(*g, s.now(), policy)
	}
	return len(due), s.store.Write(ctx, func(tx *store.Tx) error {
		for i, d := range due {
			if err := tx.PutGatewayFindings(ctx, d, results[i]); err != nil {
				return err
			}
		}
		return nil
	})
}
