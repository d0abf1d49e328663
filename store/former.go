package store

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"wardicon/core/secret"
)

// Compare holds a value to a secret of a record by their keyed digests: known tells whether the
// record has the secret, same whether it is this one; until is when the value stopped being it,
// where it is one of the last few that were replaced.
func (tx *Tx) Compare(
	ctx context.Context,
	noun, id, field string,
	value secret.Text,
) (known, same bool, until time.Time, err error) {
	owner := noun + ":" + id
	mark := tx.s.seal.mark(owner, []byte(value.Reveal()))
	var its []byte
	err = tx.q.QueryRowContext(
		ctx,
		`SELECT mark FROM secrets WHERE owner = ? AND field = ? AND mark IS NOT NULL`,
		owner,
		field,
	).Scan(&its)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return false, false, until, nil
	case err != nil:
		return false, false, until, fmt.Errorf("database: %w", err)
	case bytes.Equal(its, mark):
		return true, true, until, nil
	}
	var ended int64
	err = tx.q.QueryRowContext(
		ctx,
		`SELECT until FROM former WHERE owner = ? AND field = ? AND mark = ?`,
		owner,
		field,
		mark,
	).Scan(&ended)
	if errors.Is(err, sql.ErrNoRows) {
		return true, false, until, nil
	}
	if err != nil {
		return true, false, until, fmt.Errorf("database: %w", err)
	}
	return true, false, fromMillis(ended), nil
}
