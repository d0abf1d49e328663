package service

import (
	"context"
	"sync"
	"time"

	"wardicon/store"
)

// useTick is how often it is kept when sessions were used last: whoever reads does not wait for a
// write.
const useTick = time.Minute

// uses are the last uses of sessions that are not kept yet.
type uses struct {
	mu sync.Mutex
	at map[string]time.Time
}

func (u *uses) note(id string, at time.Time) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.at == nil {
		u.at = map[string]time.Time{}
	}
	u.at[id] = at.UTC()
}

// last is the later one of what is kept and what is not yet.
func (u *uses) last(id string, kept *time.Time) *time.Time {
	u.mu.Lock()
	defer u.mu.Unlock()
	if at, ok := u.at[id]; ok && (kept == nil || at.After(*kept)) {
		return &at
	}
	return kept
}

func (u *uses) take() map[string]time.Time {
	u.mu.Lock()
	defer u.mu.Unlock()
	taken := u.at
	u.at = nil
	return taken
}

// KeepUses keeps when sessions were used, until the context ends. What is lost by a sudden end is a
// minute.
func (s *Service) KeepUses(ctx context.Context) {
	clock := time.NewTicker(useTick)
	defer clock.Stop()
	for going := true; going; {
		select {
		case <-ctx.Done():
			going = false
		case <-clock.C:
		}
		if err := s.keepUses(context.WithoutCancel(ctx)); err != nil {
			s.log.ErrorContext(ctx, "keeping when sessions were used", "error", err)
		}
	}
}

func (s *Service) keepUses(ctx context.Context) error {
	taken := s.used.take()
	if len(taken) == 0 {
		return nil
	}
	err := s.store.Write(ctx, func(tx *store.Tx) error {
		for id, at := range taken {
			if err := tx.UseSession(ctx, id, at); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil { // next time, then
		for id, at := range taken {
			if s.used.last(id, nil) == nil {
				s.used.note(id, at)
			}
		}
	}
	return err
}
