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
	"wardicon/core/vpn"
)

// RehearsedAs is the account that rehearsals of a gateway sign in with.
const RehearsedAs = "iif(json_valid(body), json_extract(body, '$.rehearsal.account_id'), '')"

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
		scan: func(scan scanner) (r api.Rehearsal, err error) {
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
			"latest":     "r.latest = ?flag",
			"parcel":     "(r.parcel_id != '') = ?flag",
		},
	},
}

// AddRehearsal keeps a rehearsal that begins, and forgets old ones of the same profile.
func (tx *Tx) AddRehearsal(ctx context.Context, r *api.Rehearsal) error {
	tx.note("rehearsal")
	r.ID = newID("rh")
	body, err := json.Marshal(r.Result)
	if err != nil {
		return err
	}
	ofParcel := r.ParcelID != "" // else of an offer of the gateway, for which there is no parcel
	if _, err := tx.q.ExecContext(ctx, `UPDATE rehearsals SET latest = 0 WHERE profile_id = ? AND
		latest = 1 AND ?`, r.ProfileID, ofParcel); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	if _, err := tx.q.ExecContext(ctx, `INSERT INTO rehearsals (id, profile_id, parcel_id,
		gateway_id, at, operator, login, state, cause, body, protocol, place, latest, platform)
		SELECT ?, ?2, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, platform FROM profiles WHERE id = ?2`,
		r.ID, r.ProfileID, r.ParcelID, r.GatewayID, millis(r.Result.At), r.Operator, r.Login,
		r.State, r.Result.CauseID, string(body), r.Result.Protocol, r.Result.Place,
		ofParcel); err != nil {
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
	tx.note("rehearsal")
	body, err := json.Marshal(r.Result)
	if err != nil {
		return err
	}
	if _, err = tx.q.ExecContext(ctx,
		`UPDATE rehearsals SET state = ?, cause = ?, body = ? WHERE id = ?`,
		r.State, r.Result.CauseID, string(body), r.ID); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	if r.State != api.RehearsalPassed && r.State != api.RehearsalFailed ||
		r.Result.CauseID == rehearsal.NotPermitted {
		return nil
	}
	event := api.EventRehearsalPassed
	if r.State == api.RehearsalFailed {
		event = api.EventRehearsalFailed
	}
	if err := tx.emitFor(ctx, ofProfile, event, r.ProfileID, r.Result.Cause); err != nil {
		return err
	}
	_, err = tx.q.ExecContext(ctx, `INSERT INTO rehearsal_cells SELECT gateway_id, protocol,
		platform, id, profile_id, state, ?2, ?3, place, at, iif(state = 'passed', at, 0)
		FROM rehearsals WHERE id = ?1
		ON CONFLICT DO UPDATE SET rehearsal_id = excluded.rehearsal_id,
		profile_id = excluded.profile_id, state = excluded.state, failed_at = excluded.failed_at,
		cause = excluded.cause, place = excluded.place, at = excluded.at,
		passed = max(passed, excluded.passed)`,
		r.ID, r.Result.FailedAt(), r.Result.Cause)
	return err
}

// RehearsalCells are the last rehearsals of a gateway, by protocol and platform.
func (tx *Tx) RehearsalCells(ctx context.Context, gatewayID string) ([]api.RehearsalCell, error) {
	return collect(ctx, tx, func(scan scanner) (c api.RehearsalCell, err error) {
		var at, passed int64
		err = scan(&c.GatewayID, &c.Protocol, &c.Platform, &c.RehearsalID, &c.ProfileID,
			&c.Device, &c.State, &c.FailedAt, &c.Cause, &c.Place, &at, &passed)
		c.At = fromMillis(at)
		if passed > 0 {
			c.Passed = fromMillis(passed)
		}
		return c, err
	}, `SELECT c.gateway_id, c.protocol, c.platform, c.rehearsal_id, c.profile_id, p.device_name,
		c.state, c.failed_at, c.cause, c.place, c.at, c.passed FROM rehearsal_cells c
		JOIN profiles p ON p.id = c.profile_id WHERE c.gateway_id = ?
		ORDER BY c.protocol, c.platform`, gatewayID)
}

// RehearsedPlatforms are the platforms of all cells.
func (tx *Tx) RehearsedPlatforms(ctx context.Context) ([]vpn.Platform, error) {
	return collect(ctx, tx, func(scan scanner) (p vpn.Platform, err error) {
		return p, scan(&p)
	}, `SELECT DISTINCT platform FROM rehearsal_cells`)
}

// RehearsedBefore tells whether any parcel of a profile was rehearsed to an end.
func (tx *Tx) RehearsedBefore(ctx context.Context, profileID string) (before bool, err error) {
	err = tx.q.QueryRowContext(ctx, `SELECT EXISTS (SELECT 1 FROM rehearsals WHERE profile_id = ?
		AND parcel_id != '' AND state IN ('passed', 'failed'))`, profileID).Scan(&before)
	return before, err
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

// RehearsalLogin is the login of a profile's newest rehearsal that came to an end.
func (tx *Tx) RehearsalLogin(ctx context.Context, profileID string) (login string, err error) {
	err = tx.q.QueryRowContext(ctx, `SELECT login FROM rehearsals WHERE profile_id = ? AND
		parcel_id != '' AND state IN ('passed', 'failed') ORDER BY at DESC, rowid DESC LIMIT 1`,
		profileID).Scan(&login)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return login, err
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
