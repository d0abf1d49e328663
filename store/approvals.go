package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"wardicon/api"
)

var _ = step(38, `
ALTER TABLE organisation ADD COLUMN four_eyes INTEGER NOT NULL DEFAULT 0;
-- What somebody wants to do that takes two.
CREATE TABLE approvals (
    id       TEXT PRIMARY KEY,
    action   TEXT NOT NULL,
    object   TEXT NOT NULL,
    what     TEXT NOT NULL, -- in words
    role     TEXT NOT NULL, -- that decides
    operator TEXT NOT NULL,
    created  INTEGER NOT NULL,
    decided  INTEGER,
    by       TEXT NOT NULL DEFAULT '',
    granted  INTEGER NOT NULL DEFAULT 0,
    used     INTEGER
);
CREATE INDEX approvals_created ON approvals (created DESC);
`, `
DROP TABLE approvals;
ALTER TABLE organisation DROP COLUMN four_eyes;
`)

const approvalColumns = `SELECT id, action, object, what, role, operator, created, decided, by, granted,
	used FROM approvals `

func scanApproval(scan scanner) (a api.Approval, err error) {
	var created int64
	var decided, used sql.NullInt64
	if err = scan(&a.ID, &a.Action, &a.Object, &a.What, &a.Role, &a.Operator, &created, &decided,
		&a.By, &a.Granted, &used); err != nil {
		return a, err
	}
	a.Created = fromMillis(created)
	if decided.Valid {
		at := fromMillis(decided.Int64)
		a.Decided = &at
	}
	if used.Valid {
		at := fromMillis(used.Int64)
		a.Used = &at
	}
	return a, nil
}

// Approvals lists what was asked since a moment, the newest first.
func (tx *Tx) Approvals(ctx context.Context, since time.Time) ([]api.Approval, error) {
	return collect(ctx, tx, scanApproval, approvalColumns+`WHERE created > ? ORDER BY created DESC, id
		LIMIT 200`, millis(since))
}

// Approval reads one.
func (tx *Tx) Approval(ctx context.Context, id string) (a api.Approval, err error) {
	a, err = scanApproval(tx.q.QueryRowContext(ctx, approvalColumns+`WHERE id = ?`, id).Scan)
	if errors.Is(err, sql.ErrNoRows) {
		return a, &NotFoundError{"approval", id}
	}
	return a, err
}

// ApprovalFor finds what an operator has asked for last, of those that were not used: the same
// action on the same object in the same words, since a moment.
func (tx *Tx) ApprovalFor(ctx context.Context, a api.Approval, since time.Time) (
	*api.Approval, error,
) {
	found, err := scanApproval(tx.q.QueryRowContext(ctx, approvalColumns+`WHERE action = ? AND
		object = ? AND what = ? AND operator = ? AND created > ? AND used IS NULL
		ORDER BY created DESC LIMIT 1`, a.Action, a.Object, a.What, a.Operator, millis(since)).Scan)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	return &found, nil
}

// AddApproval keeps what somebody wants to do.
func (tx *Tx) AddApproval(ctx context.Context, a *api.Approval) error {
	a.ID, a.Created = newID("ap"), tx.s.now().UTC().Truncate(time.Millisecond)
	_, err := tx.q.ExecContext(ctx, `INSERT INTO approvals (id, action, object, what, role, operator,
		created) VALUES (?, ?, ?, ?, ?, ?, ?)`, a.ID, a.Action, a.Object, a.What, a.Role, a.Operator,
		millis(a.Created))
	return err
}

// DecideApproval keeps what somebody else says to it; false where it was decided meanwhile.
func (tx *Tx) DecideApproval(ctx context.Context, id, by string, granted bool) (bool, error) {
	return tx.one(ctx, `UPDATE approvals SET decided = ?, by = ?, granted = ? WHERE id = ? AND
		decided IS NULL`, millis(tx.s.now()), by, granted, id)
}

// UseApproval uses one up; false where it was used meanwhile.
func (tx *Tx) UseApproval(ctx context.Context, id string) (bool, error) {
	return tx.one(ctx, `UPDATE approvals SET used = ? WHERE id = ? AND granted AND used IS NULL`,
		millis(tx.s.now()), id)
}

// SweepApprovals removes those of before a moment; the audit log keeps what they were.
func (tx *Tx) SweepApprovals(ctx context.Context, before time.Time) error {
	_, err := tx.q.ExecContext(ctx, `DELETE FROM approvals WHERE created < ?`, millis(before))
	return err
}

// CountDeciders counts the operators who can sign in with a role, but for one.
func (tx *Tx) CountDeciders(ctx context.Context, roles []string, but string) (n int, err error) {
	for _, role := range roles {
		var some int
		if err := tx.q.QueryRowContext(ctx, `SELECT COUNT(*) FROM operators WHERE role = ? AND
			NOT disabled AND name <> ?`, role, but).Scan(&some); err != nil {
			return 0, fmt.Errorf("database: %w", err)
		}
		n += some
	}
	return n, nil
}
