package service

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"wardicon/api"
	"wardicon/store"
)

// Trail is where entries of the audit log are copied to.
type Trail interface {
	// Name tells it from others, and is kept with how far it has come.
	Name() string
	// Write takes entries in their order. After an error they are written again: it may take an
	// entry more than once, and never leaves one out.
	Write(ctx context.Context, entries []api.AuditEntry) error
}

const (
	trailBatch = 500
	leastTrail = time.Second
	mostTrail  = 5 * time.Minute
)

// CopyAudit copies the audit log to a trail from where it has come to, and goes on with what is
// added, until the context ends. What cannot be written waits.
func (s *Service) CopyAudit(ctx context.Context, to Trail) {
	key := "trail " + to.Name()
	pause := leastTrail
	watch, watching := s.Watch()
	if watching {
		defer watch.End()
	}
	for ctx.Err() == nil {
		n, err := s.copySome(ctx, key, to)
		switch {
		case err != nil && ctx.Err() == nil:
			s.log.ErrorContext(ctx, "the audit log is not copied", "to", to.Name(), "error", err,
				"again", pause)
			sleep(ctx, pause)
			pause = min(2*pause, mostTrail)
		case n < trailBatch && watching:
			pause = leastTrail
			wait, stop := context.WithTimeout(ctx, time.Minute)
			if watch.Next(wait, 0) == nil && wait.Err() == nil {
				watching = false // the service ends
			}
			stop()
		case n < trailBatch:
			sleep(ctx, leastTrail)
		}
	}
}

func sleep(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// copySome copies a part, and keeps how far it has come.
func (s *Service) copySome(ctx context.Context, key string, to Trail) (int, error) {
	tx := s.store.Read()
	text, err := tx.Remembered(ctx, key)
	if err != nil {
		return 0, err
	}
	var last int64
	if text != "" {
		if last, err = strconv.ParseInt(text, 10, 64); err != nil {
			return 0, fmt.Errorf("what is kept of %s: %w", key, err)
		}
	}
	list, err := tx.EntriesAfter(ctx, last, trailBatch)
	if err != nil || len(list) == 0 {
		return 0, err
	}
	if err := to.Write(ctx, list); err != nil {
		return 0, err
	}
	return len(list), s.store.Write(ctx, func(tx *store.Tx) error {
		return tx.Remember(ctx, key, strconv.FormatInt(list[len(list)-1].Seq, 10))
	})
}
