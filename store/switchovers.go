package store

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"wardicon/api"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// A step is what a switchover means for one profile. What became of it is kept by triggers, so that
// it is counted without looking at parcels and links. Its tracked profile is the one that is handed
// over: another one where the gateway is another.
var _ = step(25, `
CREATE TABLE switchovers (
    id      TEXT PRIMARY KEY,
    version INTEGER NOT NULL,
    created INTEGER NOT NULL,
    changed INTEGER NOT NULL,
    body    TEXT NOT NULL,
    name    TEXT NOT NULL COLLATE NOCASE UNIQUE,
    kind    TEXT NOT NULL,
    state   TEXT NOT NULL,
    cut_off INTEGER,
    gateway_id TEXT REFERENCES gateways ON DELETE SET NULL
);
CREATE INDEX switchovers_gateway ON switchovers (gateway_id);
CREATE TABLE switchover_steps (
    id            TEXT PRIMARY KEY,
    switchover_id TEXT NOT NULL REFERENCES switchovers ON DELETE CASCADE,
    profile_id    TEXT NOT NULL,
    tracked       TEXT NOT NULL,
    wave          INTEGER NOT NULL,
    need          TEXT NOT NULL, -- nothing, tap, run, retype or cannot
    why           TEXT NOT NULL,
    fresh         INTEGER NOT NULL, -- new findings
    successor_id  TEXT NOT NULL DEFAULT '', -- gateway
    open          INTEGER NOT NULL DEFAULT 1,
    released      INTEGER,
    built         INTEGER,
    handed        INTEGER,
    taken         INTEGER,
    seen          INTEGER,
    confirmed     INTEGER,
    reminded      INTEGER,
    state         TEXT GENERATED ALWAYS AS (CASE
        WHEN need IN ('nothing', 'cannot') THEN need
        WHEN seen IS NOT NULL OR confirmed IS NOT NULL THEN 'connected'
        WHEN taken IS NOT NULL THEN 'taken'
        WHEN handed IS NOT NULL THEN 'handed-over'
        WHEN built IS NOT NULL THEN 'built'
        WHEN released IS NOT NULL THEN 'released'
        ELSE 'waiting' END) VIRTUAL,
    UNIQUE (switchover_id, profile_id)
);
CREATE INDEX switchover_steps_state ON switchover_steps (switchover_id, state, wave);
CREATE INDEX switchover_steps_profile ON switchover_steps (profile_id);
CREATE INDEX switchover_steps_tracked ON switchover_steps (tracked) WHERE open = 1;
CREATE TRIGGER switchover_built AFTER INSERT ON parcels BEGIN
    UPDATE switchover_steps SET built = NEW.built WHERE tracked = NEW.profile_id AND open = 1
        AND built IS NULL AND released <= NEW.built;
END;
CREATE TRIGGER switchover_handed AFTER INSERT ON handovers BEGIN
    UPDATE switchover_steps SET handed = NEW.created WHERE open = 1 AND handed IS NULL
        AND built IS NOT NULL AND tracked = (SELECT p.profile_id FROM parcels p
        WHERE p.id = NEW.parcel_id AND p.built >= switchover_steps.released);
END;
CREATE TRIGGER switchover_taken AFTER UPDATE OF fetched ON handovers
WHEN NEW.fetched IS NOT NULL BEGIN
    UPDATE switchover_steps SET taken = NEW.fetched WHERE open = 1 AND taken IS NULL
        AND tracked = (SELECT p.profile_id FROM parcels p
        WHERE p.id = NEW.parcel_id AND p.built >= switchover_steps.released);
END;
CREATE TRIGGER switchover_seen AFTER UPDATE OF connected ON handovers
WHEN NEW.connected IS NOT NULL BEGIN
    UPDATE switchover_steps SET seen = NEW.connected WHERE open = 1 AND seen IS NULL
        AND tracked = (SELECT p.profile_id FROM parcels p
        WHERE p.id = NEW.parcel_id AND p.built >= switchover_steps.released);
END;
`, `
DROP TRIGGER switchover_built;
DROP TRIGGER switchover_handed;
DROP TRIGGER switchover_taken;
DROP TRIGGER switchover_seen;
DROP TABLE switchover_steps;
DROP TABLE switchovers;
`)

// The same triggers find a step by its profile, rather than by a look at all steps.
var _ = step(29, `
DROP TRIGGER switchover_handed;
DROP TRIGGER switchover_taken;
DROP TRIGGER switchover_seen;
CREATE TRIGGER switchover_handed AFTER INSERT ON handovers BEGIN
    UPDATE switchover_steps SET handed = NEW.created WHERE open = 1 AND handed IS NULL
        AND built IS NOT NULL
        AND tracked = (SELECT profile_id FROM parcels WHERE id = NEW.parcel_id)
        AND released <= (SELECT built FROM parcels WHERE id = NEW.parcel_id);
END;
CREATE TRIGGER switchover_taken AFTER UPDATE OF fetched ON handovers
WHEN NEW.fetched IS NOT NULL BEGIN
    UPDATE switchover_steps SET taken = NEW.fetched WHERE open = 1 AND taken IS NULL
        AND tracked = (SELECT profile_id FROM parcels WHERE id = NEW.parcel_id)
        AND released <= (SELECT built FROM parcels WHERE id = NEW.parcel_id);
END;
CREATE TRIGGER switchover_seen AFTER UPDATE OF connected ON handovers
WHEN NEW.connected IS NOT NULL BEGIN
    UPDATE switchover_steps SET seen = NEW.connected WHERE open = 1 AND seen IS NULL
        AND tracked = (SELECT profile_id FROM parcels WHERE id = NEW.parcel_id)
        AND released <= (SELECT built FROM parcels WHERE id = NEW.parcel_id);
END;
`, `
SELECT 1;
`)

// OpenSwitchovers are those that have not ended.
const OpenSwitchovers = "(SELECT * FROM switchovers WHERE state NOT IN ('closed', 'undone'))"

// Where they name gateways that take the place of another one, and CAs.
const (
	OpenSuccessors = OpenSwitchovers + " o, json_each(o.body, '$.successor_ids')"
	OpenRollovers  = OpenSwitchovers + " o, json_each(json_array(json_extract(o.body, " +
		"'$.authority_id'), json_extract(o.body, '$.successor_id')))"
)

func timeOrNil(t *time.Time) any {
	if t == nil {
		return nil
	}
	return millis(*t)
}

func timeFrom(at sql.NullInt64) *time.Time {
	if !at.Valid {
		return nil
	}
	when := fromMillis(at.Int64)
	return &when
}

// Switchovers is the table of switchovers.
var Switchovers = kept(&Table[vpn.Switchover, api.Switchover]{
	Noun:   "switchover",
	name:   "switchovers",
	prefix: "sw",
	shared: true,
	meta:   func(s *vpn.Switchover) *vpn.Meta { return &s.Meta },
	columns: []column[vpn.Switchover]{
		{"name", func(s *vpn.Switchover) any { return s.Name }},
		{"kind", func(s *vpn.Switchover) any { return s.Kind }},
		{"state", func(s *vpn.Switchover) any { return s.State }},
		{"cut_off", func(s *vpn.Switchover) any { return timeOrNil(s.CutOff) }},
		{"gateway_id", func(s *vpn.Switchover) any {
			if s.GatewayID == "" {
				return nil
			}
			return s.GatewayID
		}},
	},
	secrets:  func(s *vpn.Switchover) map[string]**secret.Text { return s.Secrets() },
	complete: (*vpn.Switchover).Complete,
	list: listing[api.Switchover]{
		id:    "s.id",
		from:  "switchovers s",
		joins: "LEFT JOIN gateways g ON g.id = s.gateway_id",
		cols: "s.id, s.version, s.created, s.changed, s.body, COALESCE(g.name, ''), (SELECT " +
			"COUNT(*) FROM switchover_steps x WHERE x.switchover_id = s.id), (SELECT COUNT(*) " +
			"FROM switchover_steps x WHERE x.switchover_id = s.id AND x.state IN ('connected', " +
			"'nothing')), EXISTS (SELECT 1 FROM secrets k WHERE k.owner = 'switchover:' || s.id " +
			"AND k.field = 'next/psk'), EXISTS (SELECT 1 FROM secrets k WHERE k.owner = " +
			"'switchover:' || s.id AND k.field = 'next/control_key')",
		scan: func(scan scanner) (row api.Switchover, err error) {
			var psk, control bool
			err = scanRecord(scan, &row.Switchover, &row.Meta, &row.Gateway, &row.Touched,
				&row.Moved, &psk, &control)
			row.Next.PSKSet, row.Next.ControlKeySet = psk, control
			return row, err
		},
		search: []string{"s.name", "g.name"},
		first:  "created",
		sorts: map[string]string{
			"created": "s.created DESC, s.id DESC",
			"name":    "s.name ASC, s.id ASC",
			"cut_off": "s.cut_off ASC, s.id ASC",
		},
		filters: map[string]string{
			"name":       "s.name = ?",
			"state":      "s.state = ?",
			"kind":       "s.kind = ?",
			"gateway_id": "s.gateway_id = ?",
			"active":     "(s.state IN ('running', 'paused')) = ?flag",
		},
	},
})

// SwitchoverSteps lists what switchovers mean for devices.
var SwitchoverSteps = &Table[api.SwitchoverStep, api.SwitchoverStep]{
	Noun: "step",
	list: listing[api.SwitchoverStep]{
		id:    "x.id",
		from:  "switchover_steps x",
		joins: "JOIN profiles f ON f.id = x.tracked LEFT JOIN gateways g ON g.id = x.successor_id",
		cols: "x.id, x.switchover_id, x.profile_id, x.tracked, f.device_name, f.person_name, " +
			"f.platform, COALESCE(g.name, f.gateway_name), x.wave, x.need, x.why, x.fresh, " +
			"x.state, x.successor_id, x.released, x.built, x.handed, x.taken, x.seen, " +
			"x.confirmed, x.reminded",
		scan:   scanStep,
		search: []string{"f.device_name", "f.person_name"},
		first:  "device",
		sorts: map[string]string{
			"device": "f.device_name ASC, x.id ASC",
			"person": "f.person_name ASC, x.id ASC",
			"wave":   "x.wave ASC, x.id ASC",
		},
		filters: map[string]string{
			"switchover_id": "x.switchover_id = ?",
			"state":         "x.state = ?",
			"need":          "x.need = ?",
			"wave":          "x.wave = CAST(? AS INTEGER) - 1",
			"platform":      "f.platform = ?",
			// who holds the old value alone, as far as is known
			"holds_old":  "(x.state NOT IN ('connected', 'taken', 'nothing')) = ?flag",
			"profile_id": "x.profile_id = ?",
		},
	},
}

func scanStep(scan scanner) (x api.SwitchoverStep, err error) {
	var released, built, handed, taken, seen, confirmed, reminded sql.NullInt64
	err = scan(&x.ID, &x.SwitchoverID, &x.ProfileID, &x.Tracked, &x.Device, &x.Person,
		&x.Platform, &x.Gateway, &x.Wave, &x.Need, &x.Why, &x.NewFindings, &x.State,
		&x.SuccessorID, &released, &built, &handed, &taken, &seen, &confirmed, &reminded)
	x.Wave++
	x.Released, x.Built, x.Handed = timeFrom(released), timeFrom(built), timeFrom(handed)
	x.Taken, x.Seen, x.Confirmed = timeFrom(taken), timeFrom(seen), timeFrom(confirmed)
	x.Reminded = timeFrom(reminded)
	return x, err
}

// PutStep keeps what a survey has found for a profile, in the place of what one before has.
func (tx *Tx) PutStep(ctx context.Context, x api.SwitchoverStep) error {
	_, err := tx.q.ExecContext(ctx, `INSERT INTO switchover_steps (id, switchover_id, profile_id,
		tracked, wave, need, why, fresh, successor_id) VALUES (?, ?, ?, ?3, ?, ?, ?, ?, ?)
		ON CONFLICT (switchover_id, profile_id) DO UPDATE SET wave = excluded.wave,
		need = excluded.need, why = excluded.why, fresh = excluded.fresh,
		successor_id = excluded.successor_id`,
		newID("ss"), x.SwitchoverID, x.ProfileID, x.Wave, x.Need, x.Why, x.NewFindings,
		x.SuccessorID)
	return constraint("step", err)
}

// ForgetSteps removes what an earlier survey has found.
func (tx *Tx) ForgetSteps(ctx context.Context, switchoverID string) error {
	_, err := tx.q.ExecContext(ctx, `DELETE FROM switchover_steps WHERE switchover_id = ?`,
		switchoverID)
	return err
}

// ReleaseWave lets the devices of a wave, from 0, have the new value, and marks their profiles as
// due for a check.
func (tx *Tx) ReleaseWave(ctx context.Context, switchoverID string, wave int) error {
	if _, err := tx.q.ExecContext(ctx, `UPDATE switchover_steps SET released = ? WHERE
		switchover_id = ? AND wave = ? AND released IS NULL`, millis(tx.s.now()), switchoverID,
		wave); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	return tx.TouchProfiles(ctx, `id IN (SELECT profile_id FROM switchover_steps WHERE
		switchover_id = ? AND wave = ?)`, switchoverID, wave)
}

// TrackStep says which profile is handed over in the place of a step's own.
func (tx *Tx) TrackStep(ctx context.Context, switchoverID, profileID, tracked string) error {
	_, err := tx.q.ExecContext(ctx, `UPDATE switchover_steps SET tracked = ? WHERE
		switchover_id = ? AND profile_id = ?`, tracked, switchoverID, profileID)
	return err
}

// ConfirmStep notes that an operator knows that a device has the new value.
func (tx *Tx) ConfirmStep(ctx context.Context, switchoverID, profileID string) (bool, error) {
	return tx.one(ctx, `UPDATE switchover_steps SET confirmed = ? WHERE switchover_id = ? AND
		profile_id = ? AND released IS NOT NULL AND confirmed IS NULL`, millis(tx.s.now()),
		switchoverID, profileID)
}

// NoteReminded notes that a person was reminded.
func (tx *Tx) NoteReminded(ctx context.Context, stepID string) error {
	_, err := tx.q.ExecContext(ctx, `UPDATE switchover_steps SET reminded = ? WHERE id = ?`,
		millis(tx.s.now()), stepID)
	return err
}

// CloseSteps ends a switchover's steps: nothing that happens later counts for them.
func (tx *Tx) CloseSteps(ctx context.Context, switchoverID string) error {
	if _, err := tx.q.ExecContext(ctx, `UPDATE switchover_steps SET open = 0 WHERE
		switchover_id = ?`, switchoverID); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	return tx.TouchProfiles(ctx, `id IN (SELECT profile_id FROM switchover_steps WHERE
		switchover_id = ?)`, switchoverID)
}

// MovedBy are the switchovers by which a profile has the new value while two are valid, the one
// that began first first.
func (tx *Tx) MovedBy(ctx context.Context, profileID string) ([]string, error) {
	return tx.names(ctx, `SELECT x.switchover_id FROM switchover_steps x JOIN switchovers s ON
		s.id = x.switchover_id WHERE x.profile_id = ? AND x.open = 1 AND x.released IS NOT NULL
		AND s.state IN ('running', 'paused') ORDER BY s.created, s.id`, profileID)
}

// TouchedBy lists profiles that a switchover touches, by a condition of our own making, after a
// cursor. Devices that were offboarded are not among them.
func (tx *Tx) TouchedBy(
	ctx context.Context,
	condition string,
	args []any,
	after string,
	limit int,
) ([]string, error) {
	return tx.names(ctx, `SELECT id FROM profiles WHERE `+condition+touchable+
		` AND id > ? ORDER BY id LIMIT ?`, append(args, after, limit)...)
}

const touchable = ` AND device_id IN (SELECT id FROM devices WHERE
	json_extract(iif(json_valid(body), body, '{}'), '$.offboarded') IS NULL)`

// CountTouchedBy counts them.
func (tx *Tx) CountTouchedBy(
	ctx context.Context,
	condition string,
	args []any,
) (n int, err error) {
	err = tx.q.QueryRowContext(ctx, `SELECT COUNT(*) FROM profiles WHERE `+condition+touchable,
		args...).Scan(&n)
	return n, err
}

// SwitchoverCounts are the devices of a switchover by state and wave, from 0.
func (tx *Tx) SwitchoverCounts(ctx context.Context, id string) ([]api.SwitchoverCount, error) {
	return collect(ctx, tx, func(scan scanner) (c api.SwitchoverCount, err error) {
		err = scan(&c.Wave, &c.State, &c.Count)
		c.Wave++
		return c, err
	}, `SELECT wave, state, COUNT(*) FROM switchover_steps WHERE switchover_id = ?
		GROUP BY wave, state ORDER BY wave, state`, id)
}

// SwitchoverNeeds are the devices of a switchover by what their people must do, by platform, and by
// the gateway that takes them.
func (tx *Tx) SwitchoverNeeds(ctx context.Context, id string) ([]api.SwitchoverNeed, error) {
	return collect(ctx, tx, func(scan scanner) (n api.SwitchoverNeed, err error) {
		err = scan(&n.Need, &n.Platform, &n.Gateway, &n.Why, &n.Count, &n.NewFindings)
		return n, err
	}, `SELECT x.need, f.platform, COALESCE(g.name, ''), iif(x.need = 'cannot', x.why, ''),
		COUNT(*), SUM(x.fresh > 0) FROM switchover_steps x JOIN profiles f ON f.id = x.profile_id
		LEFT JOIN gateways g ON g.id = x.successor_id
		WHERE x.switchover_id = ? GROUP BY 1, 2, 3, 4
		ORDER BY x.need = 'cannot' DESC, 5 DESC, 1, 2, 3, 4 LIMIT 200`, id)
}

// SwitchoverLoads are the devices that each successor takes, with those that it has.
func (tx *Tx) SwitchoverLoads(ctx context.Context, id string) ([]api.SwitchoverLoad, error) {
	return collect(ctx, tx, func(scan scanner) (l api.SwitchoverLoad, err error) {
		err = scan(&l.GatewayID, &l.Gateway, &l.Coming, &l.Now)
		return l, err
	}, `SELECT g.id, g.name, COUNT(*), (SELECT COUNT(*) FROM profiles p WHERE p.gateway_id = g.id
			AND p.id NOT IN (SELECT tracked FROM switchover_steps WHERE switchover_id = ?1))
		FROM switchover_steps x JOIN gateways g ON g.id = x.successor_id
		WHERE x.switchover_id = ?1 AND x.need NOT IN ('nothing', 'cannot')
		GROUP BY g.id ORDER BY 3 DESC, 2`, id)
}

// ReportsSince counts devices of a switchover whose people have reported a problem since they were
// handed over, and devices that were handed over.
func (tx *Tx) ReportsSince(ctx context.Context, id string) (reports, handed int, err error) {
	err = tx.q.QueryRowContext(ctx, `SELECT
		(SELECT COUNT(DISTINCT x.id) FROM switchover_steps x JOIN reports r
			ON r.profile_id = x.tracked AND r.created >= x.handed WHERE x.switchover_id = ?1),
		(SELECT COUNT(*) FROM switchover_steps WHERE switchover_id = ?1
			AND handed IS NOT NULL)`, id).Scan(&reports, &handed)
	return reports, handed, err
}

// WaveRehearsals counts the newest rehearsals with the new value of a wave's profiles, from 0, that
// have passed and that have failed.
func (tx *Tx) WaveRehearsals(
	ctx context.Context,
	id string,
	wave int,
) (passed, failed int, err error) {
	err = tx.q.QueryRowContext(ctx, `SELECT COALESCE(SUM(r.state = 'passed'), 0),
		COALESCE(SUM(r.state = 'failed'), 0) FROM switchover_steps x JOIN rehearsals r
		ON r.profile_id = x.tracked AND r.latest = 1 AND r.at >= x.built
		WHERE x.switchover_id = ? AND x.wave = ?`, id, wave).Scan(&passed, &failed)
	return passed, failed, err
}

// SwitchoverTimes are the moments at which devices of a switchover came to a state, in days since
// the epoch, counted.
func (tx *Tx) SwitchoverTimes(ctx context.Context, id string) ([]api.SwitchoverDay, error) {
	return collect(ctx, tx, func(scan scanner) (d api.SwitchoverDay, err error) {
		var number int64
		err = scan(&number, &d.Released, &d.Built, &d.Handed, &d.Taken, &d.Connected)
		d.Day = fromMillis(number * dayMillis)
		return d, err
	}, fmt.Sprintf(`WITH x AS (SELECT * FROM switchover_steps WHERE switchover_id = ?1 AND
		need NOT IN ('cannot', 'nothing')) SELECT at / %d, SUM(what = 0), SUM(what = 1),
		SUM(what = 2), SUM(what = 3), SUM(what = 4) FROM (
			SELECT released AS at, 0 AS what FROM x
			UNION ALL SELECT built, 1 FROM x
			UNION ALL SELECT handed, 2 FROM x
			UNION ALL SELECT taken, 3 FROM x
			UNION ALL SELECT COALESCE(seen, confirmed), 4 FROM x
		) WHERE at IS NOT NULL GROUP BY 1 ORDER BY 1`, dayMillis), id)
}

// Unreminded lists steps of a switchover that were handed over before a moment and not taken, whose
// people were not reminded since.
func (tx *Tx) Unreminded(
	ctx context.Context,
	id string,
	before time.Time,
	limit int,
) ([]string, error) {
	return tx.names(ctx, `SELECT id FROM switchover_steps WHERE switchover_id = ?1 AND
		state = 'handed-over' AND handed < ?2 AND COALESCE(reminded, 0) < ?2 ORDER BY id
		LIMIT ?3`, id, millis(before), limit)
}

// OpenLinks are the handovers of a profile that can still be opened, and lead to parcels that were
// built before a moment.
func (tx *Tx) OpenLinks(
	ctx context.Context,
	profileID string,
	before time.Time,
) ([]string, error) {
	return tx.names(ctx, `SELECT h.id FROM handovers h JOIN parcels p ON p.id = h.parcel_id WHERE
		p.profile_id = ? AND p.built < ? AND h.recalled IS NULL AND h.uses < h.max_uses AND
		h.wrong < ? AND h.expires > ?`, profileID, millis(before), MostWrong, millis(tx.s.now()))
}

// ToDeliver lists the released steps of a switchover that were not handed over, as "2:PROFILE",
// after a cursor; before them, where they are to be prepared, as "1:PROFILE".
func (tx *Tx) ToDeliver(
	ctx context.Context,
	id string,
	prepared bool,
	after string,
	limit int,
) ([]string, error) {
	return tx.names(ctx, `SELECT step FROM (
		SELECT '1:' || profile_id AS step FROM switchover_steps WHERE switchover_id = ?1
			AND state IN ('released', 'built') AND ?4
		UNION ALL SELECT '2:' || profile_id FROM switchover_steps WHERE switchover_id = ?1
			AND state IN ('released', 'built')) WHERE step > ?2 ORDER BY step LIMIT ?3`,
		id, after, limit, prepared)
}

// CountToDeliver counts the released steps of a switchover that were not handed over.
func (tx *Tx) CountToDeliver(ctx context.Context, id string) (n int, err error) {
	err = tx.q.QueryRowContext(ctx, `SELECT COUNT(*) FROM switchover_steps WHERE switchover_id = ?
		AND state IN ('released', 'built')`, id).Scan(&n)
	return n, err
}

// StepOf is what a switchover means for one profile.
func (tx *Tx) StepOf(
	ctx context.Context,
	id, profileID string,
) (x api.SwitchoverStep, err error) {
	page, err := SwitchoverSteps.List(ctx, tx, Query{Limit: 1, Conditions: map[string]string{
		"switchover_id": id, "profile_id": profileID,
	}})
	if err != nil {
		return x, err
	}
	if len(page.Items) == 0 {
		return x, &NotFoundError{"profile of the switchover", profileID}
	}
	return page.Items[0], nil
}

// HasCertificateOf tells whether a device has a certificate of a CA that was not revoked.
func (tx *Tx) HasCertificateOf(
	ctx context.Context,
	deviceID, authorityID string,
) (has bool, err error) {
	err = tx.q.QueryRowContext(ctx, `SELECT EXISTS (SELECT 1 FROM held_certificates h JOIN
		certificates c ON c.device_id = h.device_id AND c.serial = h.serial WHERE h.device_id = ? AND
		c.authority_id = ? AND c.revoked IS NULL)`, deviceID, authorityID).Scan(&has)
	return has, err
}

// UnrehearsedOf are profiles of a wave, from 0, that have a parcel with the new value and that the
// wave can be rehearsed by, at most 20; none where that was done.
func (tx *Tx) UnrehearsedOf(ctx context.Context, id string, wave int) ([]string, error) {
	return tx.names(ctx, `SELECT x.tracked FROM switchover_steps x WHERE
		x.switchover_id = ?1 AND x.wave = ?2 AND x.built IS NOT NULL AND x.need <> 'retype'
		AND NOT EXISTS (SELECT 1 FROM rehearsals r JOIN switchover_steps y ON
			r.profile_id = y.tracked AND r.at >= y.built WHERE y.switchover_id = ?1 AND
			y.wave = ?2) ORDER BY x.id LIMIT 20`, id, wave)
}

// OldParcels counts devices of a switchover whose newest parcel has the old value, and links to
// such parcels that can still be opened.
func (tx *Tx) OldParcels(ctx context.Context, id string) (parcels, links int, err error) {
	err = tx.q.QueryRowContext(ctx, `SELECT
		(SELECT COUNT(*) FROM switchover_steps x WHERE x.switchover_id = ?1 AND x.built IS NULL
			AND x.need <> 'nothing' AND EXISTS (SELECT 1 FROM parcels p WHERE
			p.profile_id = x.profile_id)),
		(SELECT COUNT(*) FROM switchover_steps x JOIN parcels p ON p.profile_id = x.profile_id
			JOIN handovers h ON h.parcel_id = p.id WHERE x.switchover_id = ?1 AND
			x.need <> 'nothing' AND p.built < COALESCE(x.released, 9e15) AND h.recalled IS NULL
			AND h.uses < h.max_uses AND h.wrong < ?2 AND h.expires > ?3)`, id, MostWrong,
		millis(tx.s.now())).Scan(&parcels, &links)
	return parcels, links, err
}

// ReleasedPeople are those of whom a device has the new value of a switchover.
func (tx *Tx) ReleasedPeople(ctx context.Context, id string) (map[string]bool, error) {
	list, err := tx.names(ctx, `SELECT DISTINCT f.person_id FROM switchover_steps x JOIN profiles f
		ON f.id = x.profile_id WHERE x.switchover_id = ? AND x.released IS NOT NULL`, id)
	people := map[string]bool{}
	for _, v := range list {
		people[v] = true
	}
	return people, err
}

// Backdate lets what happened in a switchover have happened earlier, for sample data.
func (tx *Tx) Backdate(ctx context.Context, id string, by time.Duration) error {
	ms := by.Milliseconds()
	_, err := tx.q.ExecContext(ctx, `UPDATE switchover_steps SET released = released - ?1,
		built = built - ?1, handed = handed - ?1, taken = taken - ?1, seen = seen - ?1
		WHERE switchover_id = ?2`, ms, id)
	return err
}
