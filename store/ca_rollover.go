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

// held are the valid certificates in devices' records; those of keys that devices have made
// themselves are renewed by them.
const held = `held_certificates h JOIN certificates c ON c.device_id = h.device_id AND
	c.serial = h.serial WHERE h.on_device = 0 AND c.revoked IS NULL AND c.expires > ?`

// HoldersOf lists devices that have a valid certificate of an authority which expires before a
// moment, in the order of their identifiers after one.
func (tx *Tx) HoldersOf(
	ctx context.Context,
	authorityID string,
	before int64,
	after string,
	limit int,
) ([]string, error) {
	return collect(ctx, tx, func(scan scanner) (id string, err error) {
		err = scan(&id)
		return id, err
	}, `SELECT DISTINCT c.device_id FROM `+held+
		` AND c.authority_id = ? AND c.expires < ? AND c.device_id > ? ORDER BY c.device_id
				LIMIT ?`,
		millis(tx.s.now()),
		authorityID,
		before,
		after,
		limit)
}

// CountHolders counts them.
func (tx *Tx) CountHolders(
	ctx context.Context,
	authorityID string,
	before int64,
) (n int, err error) {
	err = tx.q.QueryRowContext(ctx, `SELECT COUNT(DISTINCT c.device_id) FROM `+held+
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
