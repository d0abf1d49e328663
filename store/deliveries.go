package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"wardicon/api"
)

func (tx *Tx) deliveryDigest(token string) string {
	return tx.s.seal.mac([]byte("delivery\x00" + token))
}

// PutDelivery lets a gateway fetch its configuration by a token, in the place of an earlier one.
func (tx *Tx) PutDelivery(ctx context.Context, gatewayID, token string) error {
	_, err := tx.q.ExecContext(ctx, `INSERT INTO deliveries (gateway_id, token, created)
		VALUES (?, ?, ?) ON CONFLICT (gateway_id) DO UPDATE SET token = excluded.token,
		created = excluded.created`, gatewayID, tx.deliveryDigest(token), millis(tx.s.now()))
	return constraint("delivery", err)
}

// RemoveDelivery takes the token of a gateway away.
func (tx *Tx) RemoveDelivery(ctx context.Context, gatewayID string) error {
	_, err := tx.q.ExecContext(ctx, `DELETE FROM deliveries WHERE gateway_id = ?`, gatewayID)
	return err
}

// DeliveredTo is the gateway that a token is for.
func (tx *Tx) DeliveredTo(ctx context.Context, token string) (gatewayID string, err error) {
	err = tx.q.QueryRowContext(ctx, `SELECT gateway_id FROM deliveries WHERE token = ?`,
		tx.deliveryDigest(token)).Scan(&gatewayID)
	if errors.Is(err, sql.ErrNoRows) {
		return "", &NotFoundError{"delivery", ""}
	}
	return gatewayID, err
}

// Delivery is what a gateway runs, as far as it has told.
func (tx *Tx) Delivery(ctx context.Context, gatewayID string) (d api.Delivery, err error) {
	var created int64
	var seen sql.NullInt64
	err = tx.q.QueryRowContext(ctx, `SELECT created, seen, runs, offered FROM deliveries WHERE
		gateway_id = ?`, gatewayID).Scan(&created, &seen, &d.Runs, &d.Offered)
	if errors.Is(err, sql.ErrNoRows) {
		return d, &NotFoundError{"delivery of gateway", gatewayID}
	}
	if err != nil {
		return d, fmt.Errorf("database: %w", err)
	}
	d.Created = fromMillis(created)
	if seen.Valid {
		at := fromMillis(seen.Int64)
		d.Seen = &at
	}
	return d, nil
}

// NoteDelivery keeps when a gateway has asked, what it runs and what it was offered.
func (tx *Tx) NoteDelivery(ctx context.Context, gatewayID, runs, offered string) error {
	_, err := tx.q.ExecContext(ctx, `UPDATE deliveries SET seen = ?, runs = ?, offered = ? WHERE
		gateway_id = ?`, millis(tx.s.now()), runs, offered, gatewayID)
	return err
}

// NewlyDelivered keeps a digest of what a gateway is given, and tells whether it is another than
// before.
func (tx *Tx) NewlyDelivered(ctx context.Context, gatewayID, digest string) (bool, error) {
	done, err := tx.q.ExecContext(ctx, `UPDATE deliveries SET audited = ?1 WHERE gateway_id = ?2 AND
		audited <> ?1`, digest, gatewayID)
	if err != nil {
		return false, err
	}
	n, err := done.RowsAffected()
	return n > 0, err
}
