package store

import (
	"context"
	"errors"
	"fmt"
)

// scanner reads the columns of a row.
type scanner = func(columns ...any) error

// collect asks a query, and reads every row of what it answers.
func collect[T any](
	ctx context.Context,
	tx *Tx,
	read func(scan scanner) (T, error),
	query string,
	args ...any,
) ([]T, error) {
	list := []T{}
	err := each(ctx, tx, func(scan scanner) error {
		one, err := read(scan)
		list = append(list, one)
		return err
	}, query, args...)
	if err != nil {
		return nil, err
	}
	return list, nil
}

// each asks a query, and reads every row of what it answers in turn.
func each(
	ctx context.Context,
	tx *Tx,
	read func(scan scanner) error,
	query string,
	args ...any,
) error {
	rows, err := tx.q.QueryContext(ctx, query, args...)
	if err != nil {
		return fmt.Errorf("database: %w", err)
	}
	for rows.Next() {
		if err := read(rows.Scan); err != nil {
			return errors.Join(fmt.Errorf("database: %w", err), rows.Close())
		}
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	return nil
}
