package service

import (
	"context"

	"wardicon/store"
)

// BeginOnce notes that a request with a key is being answered, or has the answer to the same
// request before (nil where there is none).
func (s *Service) BeginOnce(
	ctx context.Context,
	whose, key string,
	request []byte,
) (r *store.Replay, err error) {
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		r, err = tx.BeginReplay(ctx, whose, key, request)
		return err
	})
	return r, err
}

// EndOnce keeps the answer to a request with a key; nil forgets the request.
func (s *Service) EndOnce(ctx context.Context, whose, key string, r *store.Replay) error {
	return s.store.Write(ctx, func(tx *store.Tx) error {
		return tx.EndReplay(ctx, whose, key, r)
	})
}
