package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"wardicon/api"
)

// Visit is a browser that has opened a handover, with what was seen of it.
type Visit struct {
	HandoverID string
	Before     string // the address that it was opened from
	Probe      string // a one-time name
	V4, V6     string // addresses, by each family alone
	Resolver   string // that asked for the one-time name
}

// AddVisit keeps what was opened open for a browser, and drops visits that ended.
func (tx *Tx) AddVisit(ctx context.Context, v Visit, bearer string, until time.Time) error {
	if _, err := tx.q.ExecContext(
		ctx,
		`DELETE FROM visits WHERE expires < ?`,
		millis(tx.s.now()),
	); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	_, err := tx.q.ExecContext(
		ctx,
		`INSERT INTO visits (hash, handover_id, expires, before_, probe) VALUES (?, ?, ?, ?, ?)`,
		bearerHash(bearer),
		v.HandoverID,
		millis(until),
		v.Before,
		v.Probe,
	)
	if err != nil {
		return fmt.Errorf("database: %w", err)
	}
	return tx.prove(ctx, provenVisit, bearerHash(bearer))
}

// Visit finds what a browser has opened; nil where it has not, or no longer.
func (tx *Tx) Visit(ctx context.Context, handoverID, bearer string) (*Visit, error) {
	v := Visit{HandoverID: handoverID}
	err := tx.q.QueryRowContext(ctx,
		`SELECT v.before_, v.probe, v.v4, v.v6, v.resolver FROM visits v JOIN handovers h ON h.id =
			v.handover_id WHERE v.hash = ? AND v.handover_id = ? AND v.expires > ? AND h.recalled IS
			NULL`,
		bearerHash(
			bearer,
		), handoverID, millis(tx.s.now())).
		Scan(&v.Before, &v.Probe, &v.V4, &v.V6, &v.Resolver)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err == nil {
		err = tx.untouched(ctx, provenVisit, bearerHash(bearer), handoverID)
	}
	return &v, err
}

// What is noted of a visit under its one-time name.
const (
	SeenV4       = "v4"
	SeenV6       = "v6"
	SeenResolver = "resolver"
)

// NoteSeen notes the address of whoever came for a one-time name; false where nobody was given it.
func (tx *Tx) NoteSeen(ctx context.Context, probe, what, address string) (bool, error) {
	column := map[string]string{SeenV4: "v4", SeenV6: "v6", SeenResolver: "resolver"}[what]
	return tx.one(
		ctx,
		`UPDATE visits SET `+column+` = ? WHERE probe = ? AND probe <> '' AND expires > ?`,
		address,
		probe,
		millis(tx.s.now()),
	)
}

// NoteSeenConnection notes that a profile's device was seen through a gateway.
func (tx *Tx) NoteSeenConnection(
	ctx context.Context,
	s api.SeenConnection,
) (first bool, err error) {
	now := millis(tx.s.now())
	if err := tx.q.QueryRowContext(ctx,
		`INSERT INTO seen_connections VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET address =
			excluded.address, by_ = excluded.by_, last = excluded.last RETURNING first = last`,
		s.ProfileID, s.GatewayID, s.Address, s.By, now, now).
		Scan(&first); err != nil {
		return false, fmt.Errorf("database: %w", err)
	}
	return first, nil
}

// NoteConnected notes when the device of a handover was first seen through its gateway.
func (tx *Tx) NoteConnected(ctx context.Context, handoverID string) error {
	tx.note("handover")
	_, err := tx.q.ExecContext(
		ctx,
		`UPDATE handovers SET connected = COALESCE(connected, ?) WHERE id = ?`,
		millis(tx.s.now()),
		handoverID,
	)
	return err
}

// SeenConnections lists the gateways that a profile's device was seen through, the latest first.
func (tx *Tx) SeenConnections(ctx context.Context, profileID string) ([]api.SeenConnection, error) {
	return collect(ctx, tx, func(scan scanner) (s api.SeenConnection, err error) {
		var first, last int64
		err = scan(&s.ProfileID, &s.GatewayID, &s.Gateway, &s.Address, &s.By, &first, &last)
		s.First, s.Last = fromMillis(first), fromMillis(last)
		return s, err
	}, `SELECT s.profile_id, s.gateway_id, g.name, s.address, s.by_, s.first, s.last FROM
			seen_connections s JOIN gateways g ON g.id = s.gateway_id WHERE s.profile_id = ? ORDER
			BY s.last DESC`,
		profileID)
}

// OthersSeen counts the profiles beside one whose devices were seen through a gateway since some
// time.
func (tx *Tx) OthersSeen(
	ctx context.Context,
	gatewayID, profileID string,
	since time.Time,
) (n int, err error) {
	err = tx.q.QueryRowContext(ctx,
		`SELECT COUNT(*) FROM seen_connections WHERE gateway_id = ? AND profile_id <> ? AND last >=
			?`, gatewayID, profileID, millis(since)).
		Scan(&n)
	return n, err
}
