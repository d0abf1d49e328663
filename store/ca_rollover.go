package store

import (
	"context"
	"strings"
)

// SetSuccessor says which authority takes the place of another from now on; an empty one takes
// that back.
func (tx *Tx) SetSuccessor(ctx context.Context, authorityID, successorID string) error {
	_, err := tx.q.ExecContext(
		ctx,
		`UPDATE authorities SET successor_id = NULLIF(?, ''), rolled_over = CASE ? WHEN '' THEN NULL
			ELSE ? END WHERE id = ?`,
		successorID,
		successorID,
		millis(tx.s.now()),
		authorityID,
	)
	return err
}

// newest are the valid certificates of devices that are the last one of their device; those of keys
// that devices have made themselves are renewed by them.
const newest = `certificates c WHERE c.device_id IS NOT NULL AND c.revoked IS NULL AND c.expires > ?
	AND NOT EXISTS (SELECT 1 FROM certificates n WHERE n.device_id = c.device_id AND n.created >
	c.created) AND NOT EXISTS (SELECT 1 FROM devices d WHERE d.id = c.device_id AND
	json_extract(d.body, '$.identity.on_device'))`

// NewestOf lists devices whose newest certificate is valid, of an authority, and expires before a
// moment, in the order of their identifiers after one.
func (tx *Tx) NewestOf(
	ctx context.Context,
	authorityID string,
	before int64,
	after string,
	limit int,
) ([]string, error) {
	return collect(ctx, tx, func(scan scanner) (id string, err error) {
		err = scan(&id)
		return id, err
	}, `SELECT c.device_id FROM `+newest+
		` AND c.authority_id = ? AND c.expires < ? AND c.device_id > ? ORDER BY c.device_id
				LIMIT ?`,
		millis(tx.s.now()),
		authorityID,
		before,
		after,
		limit)
}

// CountNewest counts them.
func (tx *Tx) CountNewest(
	ctx context.Context,
	authorityID string,
	before int64,
) (n int, err error) {
	err = tx.q.QueryRowContext(ctx, `SELECT COUNT(*) FROM `+newest+
		` AND c.authority_id = ? AND c.expires < ?`, millis(tx.s.now()), authorityID, before).
		Scan(&n)
	return n, err
}

// Unbuilt counts the profiles of gateways that have no parcel since an authority was rolled over.
func (tx *Tx) Unbuilt(
	ctx context.Context,
	authorityID string,
	gatewayIDs []string,
) (n int, err error) {
	if len(gatewayIDs) == 0 {
		return 0, nil
	}
	args := []any{authorityID}
	for _, id := range gatewayIDs {
		args = append(args, id)
	}
	err = tx.q.QueryRowContext(ctx,
		`SELECT COUNT(*) FROM profiles f WHERE NOT EXISTS (SELECT 1 FROM parcels p WHERE
			p.profile_id = f.id AND p.built >= (SELECT COALESCE(rolled_over, 0) FROM authorities
			WHERE id = ?))
		AND f.gateway_id IN (?`+strings.Repeat(", ?", len(gatewayIDs)-1)+`)`, args...).
		Scan(&n)
	return n, err
}
