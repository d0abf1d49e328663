package service

import (
	"context"

	"wardicon/api"
	"wardicon/store"
)

// ListViews are the lists of the console that an operator has set up.
func (s *Service) ListViews(ctx context.Context, operatorID string) ([]api.ListView, error) {
	return s.store.Read().ListViews(ctx, operatorID)
}

// PutListView keeps how an operator has set up a list of the console.
func (s *Service) PutListView(ctx context.Context, operatorID string, v api.ListView) error {
	return s.store.Write(ctx, func(tx *store.Tx) error {
		return tx.PutListView(ctx, operatorID, v)
	})
}
