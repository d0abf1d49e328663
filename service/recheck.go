package service

import (
	"context"
	"errors"
	"time"

	"wardicon/core/check"
	"wardicon/store"
)

// checkSoon wakes the background check.
func (s *Service) checkSoon() {
	poke(s.wake)
}

// checkBatch is how many profiles are checked between two looks at the clock.
const checkBatch = 100

// tick is how often the service looks for what time alone has changed.
const tick = 5 * time.Minute

// Run checks profiles whose data changed, until the context ends. What is not checked
// by then stays due and is taken up at the next start.
func (s *Service) Run(ctx context.Context) {
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
	}
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
	return s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.TouchEnded(ctx); err != nil || last == today {
			return err
		}
		if last != "" {
			if err := errors.Join(tx.TouchProfiles(ctx, "1"), tx.TouchGateways(ctx, "")); err != nil {
				return err
			}
		}
		return errors.Join(tx.ForgetPast(ctx), tx.ForgetRequests(ctx), tx.ForgetSlips(ctx, s.now().Add(-slipLife)), tx.Remember(ctx, "day", today))
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

// checkDue checks some profiles that are due: worked out while reading, kept in one
// transaction unless they were touched meanwhile.
func (s *Service) checkDue(ctx context.Context) (int, error) {
	if n, err := s.checkGateways(ctx); err != nil || n > 0 {
		return n, err
	}
	tx := s.store.Read()
	due, err := tx.DueProfiles(ctx, checkBatch)
	if err != nil || len(due) == 0 {
		return 0, err
	}
	results := make([][]check.Finding, len(due))
	for i, d := range due {
		w, err := s.work(ctx, tx, d.ID)
		var gone *store.NotFoundError
		if errors.As(err, &gone) {
			continue // removed since the list was read; there is nothing to keep
		}
		if err != nil {
			return 0, err
		}
		results[i] = w.findings
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		for i, d := range due {
			if err := tx.PutFindings(ctx, d, results[i]); err != nil {
				return err
			}
		}
		return nil
	})
	return len(due), err
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
		var gone *store.NotFoundError
		if errors.As(err, &gone) {
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
