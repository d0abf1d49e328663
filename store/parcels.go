package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"wardicon/api"
)

var _ = step(32, `
-- Digest of what the parcel would be with the new values alone, where it was built with both.
ALTER TABLE parcels ADD COLUMN later TEXT NOT NULL DEFAULT '';
`, `
ALTER TABLE parcels DROP COLUMN later;
`)

func parcelOwner(id string) string { return "parcel:" + id }

// AddParcel keeps a parcel; the content of its files is sealed.
func (tx *Tx) AddParcel(ctx context.Context, p *api.Parcel) error {
	p.ID, p.Built = newID("pa"), tx.s.now().UTC().Truncate(time.Millisecond)
	files, err := json.Marshal(p.Files)
	if err != nil {
		return err
	}
	if _, err := tx.q.ExecContext(
		ctx,
		`INSERT INTO parcels (id, profile_id, by_hand, digest, later, built, files)
			VALUES (?, ?, ?, ?, ?, ?, ?)`,
		p.ID,
		p.ProfileID,
		p.ByHand,
		p.Digest,
		p.Later,
		millis(p.Built),
		string(files),
	); err != nil {
		return constraint("parcel", err)
	}
	for _, f := range p.Files {
		if err := tx.putSecret(ctx, parcelOwner(p.ID), f.Name, f.Content); err != nil {
			return fmt.Errorf("database: %w", err)
		}
	}
	return nil
}

const parcelColumns = `SELECT id, profile_id, by_hand, digest, later, built, files, removed
	FROM parcels `

func scanParcel(scan func(...any) error) (p api.Parcel, err error) {
	var built int64
	var files string
	var removed sql.NullInt64
	if err = scan(&p.ID, &p.ProfileID, &p.ByHand, &p.Digest, &p.Later, &built, &files,
		&removed); err != nil {
		return p, err
	}
	if removed.Valid {
		at := fromMillis(removed.Int64)
		p.Removed = &at
	}
	p.Built = fromMillis(built)
	return p, json.Unmarshal([]byte(files), &p.Files)
}

// Parcel reads one parcel, without the content of its files.
func (tx *Tx) Parcel(ctx context.Context, id string) (api.Parcel, error) {
	p, err := scanParcel(tx.q.QueryRowContext(ctx, parcelColumns+`WHERE id = ?`, id).Scan)
	if errors.Is(err, sql.ErrNoRows) {
		return p, &NotFoundError{"parcel", id}
	}
	return p, err
}

// Parcels lists the parcels of a profile, newest first.
func (tx *Tx) Parcels(ctx context.Context, profileID string) ([]api.Parcel, error) {
	return collect(
		ctx,
		tx,
		scanParcel,
		parcelColumns+`WHERE profile_id = ? ORDER BY built DESC, rowid DESC LIMIT 100`,
		profileID,
	)
}

// ParcelFile opens the content of one file.
func (tx *Tx) ParcelFile(ctx context.Context, id, name string) ([]byte, error) {
	content, err := tx.secret(ctx, parcelOwner(id), name)
	if err == nil && content == nil {
		return nil, &NotFoundError{"file", name}
	}
	return content, err
}

// SupersededParcels lists parcels that were built before a moment, whose profile has a newer one,
// and that no link leads to any more.
func (tx *Tx) SupersededParcels(
	ctx context.Context,
	before time.Time,
	after string,
	limit int,
) ([]string, error) {
	return tx.names(
		ctx,
		`SELECT p.id FROM parcels p WHERE p.removed IS NULL AND p.built < ? AND p.id > ?
		AND EXISTS (SELECT 1 FROM parcels n WHERE n.profile_id = p.profile_id AND n.built > p.built)
		AND NOT EXISTS (SELECT 1 FROM handovers h WHERE h.parcel_id = p.id AND h.recalled IS NULL
		AND h.uses < h.max_uses AND h.expires > ?) ORDER BY p.id LIMIT ?`,
		millis(before),
		after,
		millis(tx.s.now()),
		limit,
	)
}

// RemoveFiles removes the sealed files of a parcel. Its row stays, with the digest, as proof of
// what was built.
func (tx *Tx) RemoveFiles(ctx context.Context, id string) error {
	if _, err := tx.q.ExecContext(
		ctx,
		`DELETE FROM secrets WHERE owner = ?`,
		parcelOwner(id),
	); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	_, err := tx.q.ExecContext(
		ctx,
		`UPDATE parcels SET removed = ? WHERE id = ? AND removed IS NULL`,
		millis(tx.s.now()),
		id,
	)
	return err
}

// ForgetParcels removes the sealed files of all parcels of a profile; their rows go
// with the profile itself.
func (tx *Tx) ForgetParcels(ctx context.Context, profileID string) error {
	_, err := tx.q.ExecContext(
		ctx,
		`DELETE FROM secrets WHERE owner IN (SELECT 'parcel:' || id FROM parcels WHERE profile_id =
			?)`,
		profileID,
	)
	return err
}

// LastParcel is the newest parcel of a profile, without its files; nil where there is none.
func (tx *Tx) LastParcel(ctx context.Context, profileID string) (*api.Parcel, error) {
	var p api.Parcel
	var built int64
	err := tx.q.QueryRowContext(ctx,
		`SELECT id, profile_id, by_hand, digest, later, built FROM parcels WHERE profile_id = ? ORDER BY
			built DESC, rowid DESC LIMIT 1`, profileID).
		Scan(&p.ID, &p.ProfileID, &p.ByHand, &p.Digest, &p.Later, &built)
	p.Built = fromMillis(built)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &p, err
}
