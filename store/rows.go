package store

import (
	"context"
	"errors"
	"fmt"
)

// collect asks a query, and reads every row of what it answers.
func collect[T any](
	ctx context.Context,
	tx *Tx,
	scan func(scan func(...any) error) (T, error),
	query string,
	args ...any,
) (list []T, err error) {
	rows, err := tx.q.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	list = []T{}
	for rows.Next() {
		one, err := scan(rows.Scan)
		if err != nil {
			return nil, errors.Join(fmt.Errorf("database: %w", err), rows.Close())
		}
		list = append(list, one)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	return list, nil
}
