package store

import (
	"context"
	"errors"
	"fmt"

	"wardicon/core/view"
)

// Log adds a line to the audit log, in the same transaction as the deed itself.
func (tx *Tx) Log(ctx context.Context, d view.Deed) error {
	_, err := tx.q.ExecContext(ctx, `INSERT INTO audit (at, operator, action, noun, object, detail) VALUES (?, ?, ?, ?, ?, ?)`,
		millis(tx.s.now()), d.Operator, d.Action, d.Noun, d.Object, d.Detail)
	return err
}

// Audit lists the audit log, newest first.
func (tx *Tx) Audit(ctx context.Context, q Query) (page view.Page[view.Deed], err error) {
	page.Items = []view.Deed{}
	pattern := holds(q.Search)
	const where = ` FROM audit WHERE operator || char(10) || action || char(10) || noun || char(10) || object || char(10) || detail LIKE ?1 ESCAPE '\'`
	if err = tx.q.QueryRowContext(ctx, `SELECT COUNT(*)`+where, pattern).Scan(&page.Total); err != nil {
		return page, err
	}
	rows, err := tx.q.QueryContext(ctx, `SELECT seq, at, operator, action, noun, object, detail`+where+` ORDER BY seq DESC LIMIT ?2 OFFSET ?3`, pattern, q.Limit, q.Offset)
	if err != nil {
		return page, fmt.Errorf("database: %w", err)
	}
	for rows.Next() {
		var d view.Deed
		var at int64
		if err := rows.Scan(&d.Seq, &at, &d.Operator, &d.Action, &d.Noun, &d.Object, &d.Detail); err != nil {
			return page, errors.Join(err, rows.Close())
		}
		d.At = fromMillis(at)
		page.Items = append(page.Items, d)
	}
	return page, errors.Join(rows.Err(), rows.Close())
}
