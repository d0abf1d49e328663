package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"fmt"
	"strconv"
	"time"

	"wardicon/api"
)

// MostWrong is how many wrong passcodes lock a link for good.
const MostWrong = 10

// Handovers lists parcels on their way.
var Handovers = &Table[api.Handover, api.Handover]{
	Noun:   "handover",
	name:   "handovers",
	prefix: "ho",
	list: listing[api.Handover]{
		id:    "h.id",
		from:  "handovers h",
		joins: "JOIN parcels p ON p.id = h.parcel_id JOIN profiles f ON f.id = p.profile_id",
		cols: "h.id, h.parcel_id, p.profile_id, f.device_name, f.gateway_name, f.person_name, " +
			"h.days, h.expires, h.max_uses, h.uses, h.wrong, h.batch, h.recalled, h.sent, " +
			"h.opened, h.fetched, h.connected, h.operator, h.created, " + handoverState,
		scan:   scanHandover,
		search: []string{"f.device_name", "f.gateway_name", "f.person_name"},
		first:  "created",
		size:   "handovers",
		hits: map[string]string{
			"device":  "f.device_id",
			"gateway": "f.gateway_id",
			"person":  "f.person_id",
		},
		sorts: map[string]string{
			"created": "h.created DESC, h.id DESC",
			"expires": "h.expires ASC, h.id ASC",
			"device":  "f.device_name ASC, h.id ASC",
			"person":  "f.person_name ASC, h.id ASC",
		},
		filters: map[string]string{
			"state":      handoverState + " = ?",
			"profile_id": "p.profile_id = ?",
			"device_id":  "f.device_id = ?",
			"person_id":  "f.person_id = ?",
			"gateway_id": "f.gateway_id = ?",
			"batch":      "h.batch = ?",
			"ended": "(" + handoverState + " IN ('expired', 'used-up', 'locked', " +
				"'recalled')) = ?flag",
			"open": "(h.recalled IS NULL AND h.wrong < " + strconv.Itoa(
				MostWrong,
			) + " AND h.uses < h.max_uses AND h.expires > unixepoch() * 1000) = ?flag",
			"group": "f.person_id IN (SELECT person_id FROM person_groups WHERE name = ?)",
		},
	},
}

var handoverState = fmt.Sprintf(
	`CASE WHEN h.recalled IS NOT NULL THEN 'recalled' WHEN h.wrong >= %d THEN 'locked' WHEN
		h.connected IS NOT NULL THEN 'connected' WHEN h.fetched IS NOT NULL THEN 'fetched'
	WHEN h.expires <= unixepoch() * 1000 THEN 'expired' WHEN h.uses >= h.max_uses THEN 'used-up'
	WHEN h.opened IS NOT NULL THEN 'opened' WHEN h.sent IS NOT NULL THEN 'sent' ELSE 'made' END`,
	MostWrong,
)

func scanHandover(scan func(...any) error) (h api.Handover, err error) {
	var expires, created int64
	var recalled, sent, opened, fetched, connected sql.NullInt64
	if err := scan(
		&h.ID,
		&h.ParcelID,
		&h.ProfileID,
		&h.Device,
		&h.Gateway,
		&h.Person,
		&h.Days,
		&expires,
		&h.MaxUses,
		&h.Uses,
		&h.Wrong,
		&h.Batch,
		&recalled,
		&sent,
		&opened,
		&fetched,
		&connected,
		&h.Operator,
		&created,
		&h.State,
	); err != nil {
		return h, err
	}
	h.Expires, h.Created = fromMillis(expires), fromMillis(created)
	for _, at := range []struct {
		from sql.NullInt64
		to   **time.Time
	}{
		{recalled, &h.Recalled},
		{sent, &h.Sent},
		{opened, &h.Opened},
		{fetched, &h.Fetched},
		{connected, &h.Connected},
	} {
		if at.from.Valid {
			when := fromMillis(at.from.Int64)
			*at.to = &when
		}
	}
	return h, nil
}

// linkHash is how a link is kept: it has 160 random bits or more, no salt is needed.
func linkHash(token string) []byte {
	h := sha256.Sum256([]byte("handover link " + token))
	return h[:]
}

// AddHandover keeps a handover under the hash of its link.
func (tx *Tx) AddHandover(ctx context.Context, h *api.Handover, token, passcode string) error {
	tx.note("handover")
	h.ID = newID(Handovers.prefix)
	_, err := tx.q.ExecContext(
		ctx,
		`INSERT INTO handovers (id, parcel_id, link, passcode, days, expires, max_uses, batch,
			operator, created) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		h.ID,
		h.ParcelID,
		linkHash(token),
		passcode,
		h.Days,
		millis(h.Expires),
		h.MaxUses,
		h.Batch,
		h.Operator,
		millis(tx.s.now()),
	)
	if err != nil {
		return constraint(Handovers.Noun, err)
	}
	return tx.prove(ctx, provenHandover, h.ID)
}

// HandoverByLink finds a handover, with the hash of its passcode.
func (tx *Tx) HandoverByLink(
	ctx context.Context,
	token string,
) (h api.Handover, passcode string, err error) {
	var id string
	err = tx.q.QueryRowContext(ctx, `SELECT id, passcode FROM handovers WHERE link = ?`,
		linkHash(token)).
		Scan(&id, &passcode)
	if errors.Is(err, sql.ErrNoRows) {
		return h, "", &NotFoundError{Handovers.Noun, "of that link"}
	}
	if err != nil {
		return h, "", fmt.Errorf("database: %w", err)
	}
	if err := tx.untouched(ctx, provenHandover, id, id); err != nil {
		return h, "", err
	}
	h, err = Handovers.Row(ctx, tx, id)
	return h, passcode, err
}

// CountTry counts a try at a passcode before it is looked at; false where no more is allowed.
func (tx *Tx) CountTry(ctx context.Context, id string) (bool, error) {
	return tx.one(
		ctx,
		`UPDATE handovers SET wrong = wrong + 1 WHERE id = ? AND wrong < ? AND uses < max_uses AND
			recalled IS NULL AND expires > ?`,
		id,
		MostWrong,
		millis(tx.s.now()),
	)
}

// TakeTryBack takes a try back whose passcode was right.
func (tx *Tx) TakeTryBack(ctx context.Context, id string) error {
	_, err := tx.q.ExecContext(
		ctx,
		`UPDATE handovers SET wrong = MAX(0, wrong - 1) WHERE id = ?`,
		id,
	)
	return err
}

// CountUse counts a use; false where no more is allowed.
func (tx *Tx) CountUse(ctx context.Context, id string) (bool, error) {
	return tx.one(
		ctx,
		`UPDATE handovers SET uses = uses + 1, opened = COALESCE(opened, ?) WHERE id = ? AND uses <
			max_uses AND recalled IS NULL AND expires > ?`,
		millis(tx.s.now()),
		id,
		millis(tx.s.now()),
	)
}

// NoteFetched notes when a file was fetched first.
func (tx *Tx) NoteFetched(ctx context.Context, id string) error {
	tx.note("handover")
	_, err := tx.q.ExecContext(
		ctx,
		`UPDATE handovers SET fetched = COALESCE(fetched, ?) WHERE id = ?`,
		millis(tx.s.now()),
		id,
	)
	return err
}

// Recall closes a handover and what was opened by it; false where it was closed already.
func (tx *Tx) Recall(ctx context.Context, id string) (bool, error) {
	if _, err := tx.q.ExecContext(ctx, `DELETE FROM visits WHERE handover_id = ?`, id); err != nil {
		return false, fmt.Errorf("database: %w", err)
	}
	if err := tx.forgetSlips(ctx, `id = ?`, id); err != nil {
		return false, err
	}
	return tx.one(
		ctx,
		`UPDATE handovers SET recalled = ? WHERE id = ? AND recalled IS NULL`,
		millis(tx.s.now()),
		id,
	)
}

// one runs a statement and tells whether it changed a row.
func (tx *Tx) one(ctx context.Context, statement string, args ...any) (bool, error) {
	res, err := tx.q.ExecContext(ctx, statement, args...)
	if err != nil {
		return false, fmt.Errorf("database: %w", err)
	}
	n, err := res.RowsAffected()
	return n > 0, err
}

// SumHandovers counts handovers by state.
func (tx *Tx) SumHandovers(ctx context.Context) ([]api.HandoverSum, error) {
	counts, err := tx.counts(
		ctx,
		`SELECT `+handoverState+` AS state, COUNT(*) FROM handovers h GROUP BY state`,
	)
	if err != nil {
		return nil, err
	}
	list := []api.HandoverSum{}
	for _, state := range api.HandoverStates {
		list = append(list, api.HandoverSum{State: state, Count: counts[state]})
	}
	return list, nil
}

// HandoverDays counts, by day (UTC), what happened to links that were made since a moment.
func (tx *Tx) HandoverDays(ctx context.Context, since time.Time) ([]api.HandoverDay, error) {
	return collect(ctx, tx, func(scan scanner) (d api.HandoverDay, err error) {
		var number int64
		err = scan(&number, &d.Made, &d.Fetched, &d.Connected)
		d.Day = fromMillis(number * dayMillis)
		return d, err
	}, fmt.Sprintf(`WITH h AS (SELECT created, fetched, connected FROM handovers
			WHERE created >= ?)
		SELECT at / %d, SUM(what = 0), SUM(what = 1), SUM(what = 2) FROM (
			SELECT created AS at, 0 AS what FROM h
			UNION ALL SELECT fetched, 1 FROM h
			UNION ALL SELECT connected, 2 FROM h
		) WHERE at IS NOT NULL GROUP BY 1 ORDER BY 1`, dayMillis), millis(since))
}

// The halves of a slip.
const (
	SlipLink     = "link"
	SlipPasscode = "passcode"
)

// AddSlip keeps one half of what a person is to be told, sealed, until it was.
func (tx *Tx) AddSlip(ctx context.Context, id, half, value string) error {
	return tx.putSecret(ctx, Handovers.owner(id), half, []byte(value))
}

// Slip opens one half; empty where it is not kept, or no longer.
func (tx *Tx) Slip(ctx context.Context, id, half string) (string, error) {
	value, err := tx.secret(ctx, Handovers.owner(id), half)
	return string(value), err
}

// Told tells whether a link to a parcel is open that its person has opened, or will be told of:
// link and passcode can still be read.
func (tx *Tx) Told(ctx context.Context, parcelID string) (told bool, err error) {
	err = tx.q.QueryRowContext(ctx,
		`SELECT EXISTS (SELECT 1 FROM handovers h WHERE h.parcel_id = ? AND h.recalled IS NULL AND
			h.wrong < ? AND h.uses < h.max_uses AND h.expires > ?
		AND (h.opened IS NOT NULL OR EXISTS (SELECT 1 FROM secrets s WHERE s.owner = 'handover:' ||
		h.id)))`, parcelID, MostWrong, millis(tx.s.now())).
		Scan(&told)
	return told, err
}

// ForgetSlips removes what was kept for handovers that were made before a moment.
func (tx *Tx) ForgetSlips(ctx context.Context, before time.Time) error {
	return tx.forgetSlips(ctx, `batch <> '' AND created < ?`, millis(before))
}

func (tx *Tx) forgetSlips(ctx context.Context, condition string, arg any) error {
	_, err := tx.q.ExecContext(
		ctx,
		`DELETE FROM secrets WHERE owner IN (SELECT 'handover:' || id FROM handovers WHERE `+
			condition+`)`,
		arg,
	)
	return err
}
