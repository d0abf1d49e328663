package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
)

var _ = step(28, `
-- What a job on a selection of records is still to look at.
CREATE TABLE job_targets (
    job_id TEXT NOT NULL REFERENCES jobs ON DELETE CASCADE,
    target TEXT NOT NULL,
    PRIMARY KEY (job_id, target)
) WITHOUT ROWID;
`, `
DROP TABLE job_targets;
`)

var _ = step(39, `
-- Where a job has moved profiles from, so that it can be undone.
CREATE TABLE moves (
    job_id TEXT NOT NULL REFERENCES jobs ON DELETE CASCADE,
    profile_id TEXT NOT NULL REFERENCES profiles ON DELETE CASCADE,
    gateway_id TEXT NOT NULL, -- before
    moved_to TEXT NOT NULL,
    PRIMARY KEY (job_id, profile_id)
) WITHOUT ROWID;
CREATE INDEX moves_profile ON moves (profile_id);
`, `
DROP TABLE moves;
`)

// AddTargets keeps the records that a job works on.
func (tx *Tx) AddTargets(ctx context.Context, jobID string, ids []string) error {
	for _, id := range ids {
		if _, err := tx.q.ExecContext(ctx, `INSERT OR IGNORE INTO job_targets VALUES (?, ?)`,
			jobID, id); err != nil {
			return fmt.Errorf("database: %w", err)
		}
	}
	return nil
}

// Targets are the records of a job after one, in their order.
func (tx *Tx) Targets(ctx context.Context, jobID, after string, limit int) ([]string, error) {
	return collect(ctx, tx, func(scan scanner) (id string, err error) {
		return id, scan(&id)
	}, `SELECT target FROM job_targets WHERE job_id = ? AND target > ? ORDER BY target LIMIT ?`,
		jobID, after, limit)
}

// DropTargets forgets the records of a job that has ended.
func (tx *Tx) DropTargets(ctx context.Context, jobID string) error {
	_, err := tx.q.ExecContext(ctx, `DELETE FROM job_targets WHERE job_id = ?`, jobID)
	return err
}

// ProfilesOf are the profiles whose column, device_id or person_id, names a record.
func (tx *Tx) ProfilesOf(ctx context.Context, column, id string) ([]string, error) {
	return tx.names(ctx, `SELECT id FROM profiles WHERE `+column+` = ? ORDER BY id`, id)
}

// Move is where a profile was, and where a job has moved it to; identifiers of gateways.
type Move struct{ From, To string }

// AddMove keeps where a job has moved a profile from.
func (tx *Tx) AddMove(ctx context.Context, jobID, profileID string, m Move) error {
	_, err := tx.q.ExecContext(ctx, `INSERT INTO moves VALUES (?, ?, ?, ?)`, jobID, profileID,
		m.From, m.To)
	return err
}

// Move reads where a job has moved a profile from; nil where it has not, or that is undone.
func (tx *Tx) Move(ctx context.Context, jobID, profileID string) (*Move, error) {
	var m Move
	err := tx.q.QueryRowContext(ctx, `SELECT gateway_id, moved_to FROM moves WHERE job_id = ? AND
		profile_id = ?`, jobID, profileID).Scan(&m.From, &m.To)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &m, err
}

// Moved are the profiles that a job has moved, and that were not moved back.
func (tx *Tx) Moved(ctx context.Context, jobID string) ([]string, error) {
	return tx.names(ctx, `SELECT profile_id FROM moves WHERE job_id = ? ORDER BY profile_id`, jobID)
}

// DropMove forgets where a job has moved a profile from.
func (tx *Tx) DropMove(ctx context.Context, jobID, profileID string) error {
	_, err := tx.q.ExecContext(ctx, `DELETE FROM moves WHERE job_id = ? AND profile_id = ?`, jobID,
		profileID)
	return err
}
