package service

import (
	"context"

	"wardicon/core/view"
	"wardicon/store"
)

// Audit lists what was done, newest first.
func (s *Service) Audit(ctx context.Context, q store.Query) (view.Page[view.Deed], error) {
	return s.store.Read().Audit(ctx, q)
}
