package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"wardicon/core/vpn"
)

// replayLife is how long an answer is kept for a request that is sent again.
const replayLife = 24 * time.Hour

// Replay is the answer to a request that was sent with a key.
type Replay struct {
	Status int
	Header map[string]string
	Body   []byte
}

// Errors of keys.
var (
	ErrKeyReused = vpn.Refuse(
		vpn.KindInvalid,
		"the Idempotency-Key was sent with another request; "+
			"use a new key for each request",
	)
	ErrKeyBusy = vpn.Refuse(vpn.KindBlocked, "a request with this Idempotency-Key is being "+
		"answered, or was interrupted; look at the records before you send it with another key")
)

func replayOwner(operator string) string { return "replay:" + operator }

// BeginReplay notes that an operator's request with a key is being answered, or has the answer to
// the same request before.
func (tx *Tx) BeginReplay(
	ctx context.Context,
	operator, key string,
	request []byte,
) (*Replay, error) {
	now := tx.s.now()
	if _, err := tx.q.ExecContext(ctx, `DELETE FROM replays WHERE created < ?`,
		millis(now.Add(-replayLife))); err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	digest := tx.s.seal.mac(request)
	var known string
	var status sql.NullInt64
	var sealed []byte
	err := tx.q.QueryRowContext(
		ctx,
		`SELECT request, status, sealed FROM replays WHERE operator = ? AND key = ?`,
		operator,
		key,
	).
		Scan(&known, &status, &sealed)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		_, err = tx.q.ExecContext(ctx,
			`INSERT INTO replays (operator, key, request, created) VALUES (?, ?, ?, ?)`,
			operator, key, digest, millis(now))
		return nil, err
	case err != nil:
		return nil, fmt.Errorf("database: %w", err)
	case known != digest:
		return nil, ErrKeyReused
	case !status.Valid:
		return nil, ErrKeyBusy
	}
	plain, err := tx.s.seal.open(replayOwner(operator), key, sealed)
	if err != nil {
		return nil, err
	}
	r := &Replay{}
	err = json.Unmarshal(plain, r)
	return r, err
}

// EndReplay keeps the answer to a request with a key; nil forgets the request, so that it can be
// sent again.
func (tx *Tx) EndReplay(ctx context.Context, operator, key string, r *Replay) error {
	if r == nil {
		_, err := tx.q.ExecContext(ctx, `DELETE FROM replays WHERE operator = ? AND key = ?`,
			operator, key)
		return err
	}
	plain, err := json.Marshal(r)
	if err != nil {
		return err
	}
	_, err = tx.q.ExecContext(ctx, `UPDATE replays SET status = ?, sealed = ? WHERE operator = ? AND
		key = ?`, r.Status, tx.s.seal.seal(replayOwner(operator), key, plain), operator, key)
	return err
}
