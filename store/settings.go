package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"wardicon/core/secret"
)

// settings is a table of one row: how the service does something, with a password beside it. The
// row is a JSON document; the password is sealed.
type settings[T any] struct {
	table string
	owner string // of the sealed password
	parts func(*T) (version *int, password **secret.Text, damaged *bool)
	// gives what is not set its usual value
	normalise func(*T)
}

// get reads the row, with the password open.
func (s settings[T]) get(ctx context.Context, tx *Tx) (row T, err error) {
	version, password, damaged := s.parts(&row)
	var body string
	var n int
	if err := tx.q.QueryRowContext(ctx, "SELECT version, body FROM "+s.table).
		Scan(&n, &body); err != nil {
		return row, fmt.Errorf("database: %w", err)
	}
	if err := json.Unmarshal([]byte(body), &row); err != nil {
		return row, fmt.Errorf("database: %s: %w", s.table, err)
	}
	*version = n
	plain, err := tx.secret(ctx, s.owner, "password")
	var broken *DamagedError
	if errors.As(err, &broken) {
		*damaged, err = true, nil
	}
	if plain != nil {
		text := secret.New(string(plain))
		*password = &text
	}
	s.normalise(&row)
	return row, err
}

// put replaces the row.
func (s settings[T]) put(ctx context.Context, tx *Tx, row *T) error {
	s.normalise(row)
	version, password, _ := s.parts(row)
	given := *password
	*password = nil
	body, err := json.Marshal(row)
	if err != nil {
		return err
	}
	if err := tx.q.QueryRowContext(ctx,
		"UPDATE "+s.table+" SET version = version + 1, body = ? RETURNING version", string(body)).
		Scan(version); err != nil {
		return err
	}
	if given == nil || given.IsZero() {
		_, err := tx.q.ExecContext(ctx, `DELETE FROM secrets WHERE owner = ?`, s.owner)
		return err
	}
	return tx.putSecret(ctx, s.owner, "password", []byte(given.Reveal()))
}
