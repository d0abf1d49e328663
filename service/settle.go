package service

import (
	"context"
	"errors"
	"runtime"
	"time"

	"wardicon/store"
)

// errStale says that what was computed does not fit the records any more: somebody changed them
// meanwhile.
var errStale = errors.New("the records were changed while this was worked out; try again")

// mostTries is how often something is computed beside the writes of others, before it is computed
// within one.
const mostTries = 4

// settle computes from one view of the records, beside whoever writes, and then keeps what came out
// in a short write. keep looks whether the records are still those and answers errStale where they
// are not.
func settle[T any](
	ctx context.Context,
	s *Service,
	compute func(tx *store.Tx) (T, error),
	keep func(tx *store.Tx, v T) error,
) error {
	for range mostTries {
		var v T
		if err := s.store.Snapshot(ctx, func(tx *store.Tx) (err error) {
			v, err = compute(tx)
			return err
		}); err != nil {
			return err
		}
		if err := s.store.Write(
			ctx,
			func(tx *store.Tx) error { return keep(tx, v) },
		); !errors.Is(
			err,
			errStale,
		) {
			return err
		}
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		v, err := compute(tx)
		if err != nil {
			return err
		}
		return keep(tx, v)
	})
}

// current answers errStale where a profile, or anything that its plan depends on, was changed since
// it was worked out.
func (w *worked) current(ctx context.Context, tx *store.Tx) error {
	touched, err := tx.Touched(ctx, w.in.Profile.ID)
	if err == nil && touched != w.touched {
		err = errStale
	}
	return err
}

// behind is how much work goes on at once behind what operators do: it leaves one processor to
// them.
func behind() int { return max(1, runtime.GOMAXPROCS(0)-1) }

// calm is how long nobody has asked for anything when work in the background takes every processor.
const calm = 2 * time.Second

// Called notes that somebody asks for something.
func (s *Service) Called() { s.called.Store(time.Now().UnixNano()) }

// busy tells whether somebody has asked for something just now.
func (s *Service) busy() bool { return time.Since(time.Unix(0, s.called.Load())) < calm }
