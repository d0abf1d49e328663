package store

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"wardicon/api"
)

var _ = step(30, `
-- What was seen when somebody said that it does not work.
ALTER TABLE reports ADD COLUMN facts TEXT NOT NULL DEFAULT '';
`, `
ALTER TABLE reports DROP COLUMN facts;
`)

// mostReports bounds how many of one profile are kept.
const mostReports = 20

// Reports lists what people said does not work.
var Reports = &Table[api.Report, api.Report]{
	Noun:   "report",
	name:   "reports",
	prefix: "rp",
	list: listing[api.Report]{
		id:   "r.id",
		from: "reports r",
		joins: "JOIN profiles f ON f.id = r.profile_id JOIN devices d ON d.id = f.device_id JOIN " +
			"gateways g ON g.id = f.gateway_id JOIN people p ON p.id = d.person_id",
		cols: "r.id, r.profile_id, d.name, g.name, p.name, r.message, r.cause, r.facts, " +
			"r.created, r.done",
		scan: func(scan scanner) (r api.Report, err error) {
			var created int64
			var done sql.NullInt64
			if err := scan(
				&r.ID,
				&r.ProfileID,
				&r.Device,
				&r.Gateway,
				&r.Person,
				&r.Message,
				&r.Cause,
				&r.Facts,
				&created,
				&done,
			); err != nil {
				return r, err
			}
			r.Created = fromMillis(created)
			if done.Valid {
				at := fromMillis(done.Int64)
				r.Done = &at
			}
			return r, nil
		},
		search: []string{"d.name", "g.name", "p.name", "r.message"},
		first:  "created",
		sorts:  map[string]string{"created": "r.created DESC, r.rowid DESC"},
		filters: map[string]string{
			"profile_id": "r.profile_id = ?",
			"open":       "(r.done IS NULL) = ?flag",
		},
	},
}

// AddReport keeps what somebody said, and forgets the oldest ones of the same profile.
func (tx *Tx) AddReport(ctx context.Context, r api.Report) error {
	if _, err := tx.q.ExecContext(
		ctx,
		`INSERT INTO reports (id, profile_id, message, cause, facts, created) VALUES (?, ?, ?, ?,
			?, ?)`,
		newID("rp"),
		r.ProfileID,
		r.Message,
		r.Cause,
		r.Facts,
		millis(tx.s.now()),
	); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	_, err := tx.q.ExecContext(
		ctx,
		`DELETE FROM reports WHERE profile_id = ?1 AND id NOT IN (SELECT id FROM reports WHERE
			profile_id = ?1 ORDER BY done IS NULL DESC, created DESC, rowid DESC LIMIT ?2)`,
		r.ProfileID,
		mostReports,
	)
	if err != nil {
		return fmt.Errorf("database: %w", err)
	}
	return tx.emitFor(ctx, ofProfile, api.EventReport, r.ProfileID, r.Message)
}

// CloseReport notes that one was dealt with.
func (tx *Tx) CloseReport(ctx context.Context, id string, at time.Time) error {
	ok, err := tx.one(
		ctx,
		`UPDATE reports SET done = COALESCE(done, ?) WHERE id = ?`,
		millis(at),
		id,
	)
	if err == nil && !ok {
		err = &NotFoundError{Noun: "report", ID: id}
	}
	return err
}
