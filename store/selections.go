package store

import (
	"context"
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
