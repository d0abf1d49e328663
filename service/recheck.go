package service

import (
	"context"
	"errors"

	"wardicon/core/check"
	"wardicon/store"
)

// checkSoon wakes the background check.
func (s *Service) checkSoon() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// batch is how many profiles are checked between two looks at the clock.
const batch = 100

// Run checks profiles whose data changed, until the context ends. What is not checked
// by then stays due and is taken up at the next start.
func (s *Service) Run(ctx context.Context) {
	s.checkSoon()
	for {
		select {
		case <-ctx.Done():
			return
		case <-s.wake:
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
	tx := s.store.Read()
	due, err := tx.DueProfiles(ctx, batch)
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
