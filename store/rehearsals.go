package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"wardicon/api"
	"wardicon/core/rehearsal"
)

// mostRehearsals are kept of one profile.
const mostRehearsals = 50

// Rehearsals lists trial connections.
var Rehearsals = &Table[api.Rehearsal, api.Rehearsal]{
	Noun:   "rehearsal",
	name:   "rehearsals",
	prefix: "rh",
	list: listing[api.Rehearsal]{
		id:   "r.id",
		from: "rehearsals r",
		joins: "JOIN profiles p ON p.id = r.profile_id JOIN devices d ON d.id = p.device_id " +
			"JOIN gateways g ON g.id = r.gateway_id",
		cols: "r.id, r.profile_id, r.parcel_id, r.gateway_id, d.name, g.name, r.operator, " +
			"r.login, r.state, r.body",
		scan: func(scan func(...any) error) (r api.Rehearsal, err error) {
			var body string
			if err := scan(&r.ID, &r.ProfileID, &r.ParcelID, &r.GatewayID, &r.Device, &r.Gateway,
				&r.Operator, &r.Login, &r.State, &body); err != nil {
				return r, err
			}
			return r, json.Unmarshal([]byte(body), &r.Result)
		},
		search: []string{"d.name", "g.name"},
		first:  "at",
		sorts: map[string]string{
			"at":      "r.at DESC, r.rowid DESC",
			"device":  "d.name ASC, r.at DESC, r.rowid DESC",
			"gateway": "g.name ASC, r.at DESC, r.rowid DESC",
		},
		filters: map[string]string{
			"profile_id": "r.profile_id = ?",
			"gateway_id": "r.gateway_id = ?",
			"state":      "r.state = ?",
			"cause":      "r.cause = ?",
			"latest": "(r.id = (SELECT id FROM rehearsals n WHERE n.profile_id = r.profile_id " +
				"ORDER BY at DESC, rowid DESC LIMIT 1)) = ?flag",
		},
	},
}

// AddRehearsal keeps a rehearsal that begins, and forgets old ones of the same profile.
func (tx *Tx) AddRehearsal(ctx context.Context, r *api.Rehearsal) error {
	r.ID = newID("rh")
	body, err := json.Marshal(r.Result)
	if err != nil {
		return err
	}
	if _, err := tx.q.ExecContext(ctx, `INSERT INTO rehearsals VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		r.ID, r.ProfileID, r.ParcelID, r.GatewayID, millis(r.Result.At), r.Operator, r.Login,
		r.State, r.Result.CauseID, string(body)); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	_, err = tx.q.ExecContext(
		ctx,
		`DELETE FROM rehearsals WHERE profile_id = ?1 AND id NOT IN (SELECT
		id FROM rehearsals WHERE profile_id = ?1 ORDER BY at DESC, rowid DESC LIMIT ?2)`,
		r.ProfileID,
		mostRehearsals,
	)
	return err
}

// EndRehearsal keeps what a rehearsal came to.
func (tx *Tx) EndRehearsal(ctx context.Context, r *api.Rehearsal) error {
	body, err := json.Marshal(r.Result)
	if err != nil {
		return err
	}
	_, err = tx.q.ExecContext(ctx,
		`UPDATE rehearsals SET state = ?, cause = ?, body = ? WHERE id = ?`,
		r.State, r.Result.CauseID, string(body), r.ID)
	return err
}

// StopRehearsals tells of those that the end of the service interrupted.
func (tx *Tx) StopRehearsals(ctx context.Context) error {
	_, err := tx.q.ExecContext(ctx, `UPDATE rehearsals SET state = ? WHERE state = ?`,
		api.RehearsalStopped, api.RehearsalRunning)
	return err
}

// LastRehearsal is the newest rehearsal of a parcel that came to an end; nil where there is none.
func (tx *Tx) LastRehearsal(
	ctx context.Context,
	profileID, parcelID string,
) (*rehearsal.Result, error) {
	var body string
	err := tx.q.QueryRowContext(ctx, `SELECT body FROM rehearsals WHERE profile_id = ? AND
		parcel_id = ? AND state IN ('passed', 'failed') ORDER BY at DESC, rowid DESC LIMIT 1`,
		profileID, parcelID).Scan(&body)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	r := &rehearsal.Result{}
	return r, json.Unmarshal([]byte(body), r)
}

// LastSignIn is when a login was last tried at a gateway, and by what it failed; the zero time
// where it never was.
func (tx *Tx) LastSignIn(
	ctx context.Context,
	gatewayID, login string,
) (at time.Time, cause string, err error) {
	var ms int64
	err = tx.q.QueryRowContext(ctx, `SELECT at, cause FROM rehearsals WHERE gateway_id = ? AND
		login = ? ORDER BY at DESC, rowid DESC LIMIT 1`, gatewayID, login).Scan(&ms, &cause)
	if errors.Is(err, sql.ErrNoRows) {
		return at, "", nil
	}
	return fromMillis(ms), cause, err
}
