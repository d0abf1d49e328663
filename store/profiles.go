package store

import (
	"context"
	"database/sql"
	"errors"

	"wardicon/api"
	"wardicon/core/vpn"
)

// Where a profile names gateways beside its own; both have an index.
const (
	FallbackOf = "json_extract(iif(json_valid(body), body, '{}'), '$.preferences.fallback_id')"
	SecondTo   = "json_extract(iif(json_valid(body), body, '{}'), '$.preferences.second_to')"
)

// Profiles is the table of profiles.
var Profiles = kept(&Table[vpn.Profile, api.Profile]{
	Noun:   "profile",
	name:   "profiles",
	prefix: "pr",
	meta:   func(p *vpn.Profile) *vpn.Meta { return &p.Meta },
	columns: []column[vpn.Profile]{
		{"device_id", func(p *vpn.Profile) any { return p.DeviceID }},
		{"gateway_id", func(p *vpn.Profile) any { return p.GatewayID }},
		{"pattern_id", func(p *vpn.Profile) any {
			if p.PatternID == "" {
				return nil
			}
			return p.PatternID
		}},
	},
	list: listing[api.Profile]{
		id:   "f.id",
		from: "profiles f",
		joins: "LEFT JOIN devices d ON d.id = f.device_id LEFT JOIN patterns k ON k.id = " +
			"f.pattern_id",
		cols: `f.id, f.version, f.created, f.changed, f.body, f.errors, f.warnings, f.notes,
			f.touched = f.seen, f.device_name, f.gateway_name, f.person_name, f.platform, d.release,
			COALESCE(k.name, '')`,
		scan: func(scan scanner) (row api.Profile, err error) {
			var t vpn.Tally
			var checked bool
			err = scanRecord(
				scan,
				&row.Profile,
				&row.Meta,
				&t.Errors,
				&t.Warnings,
				&t.Notes,
				&checked,
				&row.Device,
				&row.Gateway,
				&row.Person,
				&row.Platform,
				&row.Release,
				&row.Pattern,
			)
			row.Tally, row.Checked = t, checked
			return row, err
		},
		search: []string{
			"f.device_name",
			"f.gateway_name",
			"f.person_name",
		},
		hits: map[string]string{
			"device":  "f.device_id",
			"gateway": "f.gateway_id",
			"person":  "f.person_id",
		},
		first: "device",
		size:  "profiles",
		sorts: map[string]string{
			"device":  "f.device_name ASC, f.gateway_name ASC, f.id ASC",
			"gateway": "f.gateway_name ASC, f.device_name ASC, f.id ASC",
			"person":  "f.person_name ASC, f.device_name ASC, f.id ASC",
			"worst":   "f.errors DESC, f.warnings DESC, f.id DESC",
			"changed": "f.changed ASC, f.id ASC",
		},
		filters: map[string]string{
			"device_id":  "f.device_id = ?",
			"gateway_id": "f.gateway_id = ?",
			"person_id":  "f.person_id = ?",
			"pattern_id": "f.pattern_id = ?",
			"device":     "f.device_id IN (SELECT id FROM devices WHERE name = ?)",
			"gateway":    "f.gateway_id IN (SELECT id FROM gateways WHERE name = ?)",
			"person":     "f.person_id IN (SELECT id FROM people WHERE name = ?)",
			"pattern":    "f.pattern_id IN (SELECT id FROM patterns WHERE name = ?)",
			"platform":   "f.platform = ?",
			"group":      "f.person_id IN (SELECT person_id FROM person_groups WHERE name = ?)",
			"severity":   "f.id IN (SELECT profile_id FROM findings WHERE severity = ?)",
			"rule":       "f.id IN (SELECT profile_id FROM findings WHERE rule = ?)",
		},
	},
})

// TouchProfiles marks the profiles that a condition of our own making fits as due for
// a check.
func (tx *Tx) TouchProfiles(ctx context.Context, condition string, args ...any) error {
	_, err := tx.q.ExecContext(
		ctx,
		"UPDATE profiles SET touched = touched + 1 WHERE "+condition,
		args...)
	return err
}

// touchingAll is under which name it is remembered how far all profiles have been marked.
const touchingAll = "profiles marked up to"

// TouchAll marks every profile as due for a check: at once where they are few, else bit by bit by
// TouchSome, so that nobody waits for it.
func (tx *Tx) TouchAll(ctx context.Context) error {
	n, err := tx.Size(ctx, "profiles")
	if err != nil {
		return err
	}
	if n <= mostTouched {
		return tx.TouchProfiles(ctx, "1")
	}
	return tx.Remember(ctx, touchingAll, "-") // before every identifier
}

const mostTouched = 200

// TouchSome goes on with what TouchAll began, and tells whether there is more.
func (tx *Tx) TouchSome(ctx context.Context) (more bool, err error) {
	after, err := tx.Remembered(ctx, touchingAll)
	if err != nil || after == "" {
		return false, err
	}
	ids, err := tx.names(
		ctx,
		`SELECT id FROM profiles WHERE id > ? ORDER BY id LIMIT ?`,
		after,
		mostTouched,
	)
	if err != nil {
		return false, err
	}
	next := ""
	if len(ids) == mostTouched {
		next = ids[len(ids)-1]
	}
	if len(ids) > 0 {
		err = tx.TouchProfiles(ctx, "id BETWEEN ? AND ?", ids[0], ids[len(ids)-1])
	}
	return next != "", errors.Join(err, tx.Remember(ctx, touchingAll, next))
}

// TouchingAll tells whether TouchAll is not through.
func (tx *Tx) TouchingAll(ctx context.Context) (bool, error) {
	after, err := tx.Remembered(ctx, touchingAll)
	return after != "", err
}

// Touched counts the changes of a profile, and of anything that it depends on.
func (tx *Tx) Touched(ctx context.Context, profileID string) (n int, err error) {
	err = tx.q.QueryRowContext(ctx, `SELECT touched FROM profiles WHERE id = ?`, profileID).Scan(&n)
	if errors.Is(err, sql.ErrNoRows) {
		err = &NotFoundError{"profile", profileID}
	}
	return n, err
}

// TouchGateways marks the records of gateways as due for a check: of one, or of all where none is
// named.
func (tx *Tx) TouchGateways(ctx context.Context, id string) error {
	_, err := tx.q.ExecContext(
		ctx,
		"UPDATE gateways SET touched = touched + 1 WHERE ?1 IN (id, '')",
		id,
	)
	return err
}

// ProfilesOfGroup lists profiles of the devices of a group's people, after an identifier.
func (tx *Tx) ProfilesOfGroup(
	ctx context.Context,
	group, after string,
	limit int,
) ([]string, error) {
	return tx.names(
		ctx,
		`SELECT f.id FROM profiles f WHERE f.id > ? AND f.person_id IN (SELECT person_id FROM
			person_groups WHERE name = ?) ORDER BY f.id LIMIT ?`,
		after,
		group,
		limit,
	)
}

// Due is a profile that waits for a check. Touched goes back with the result.
type Due struct {
	ID      string
	Touched int
}

// DueProfiles lists profiles that wait for a check.
func (tx *Tx) DueProfiles(ctx context.Context, limit int) ([]Due, error) {
	return tx.due(ctx, ofProfile, limit)
}

// DueGateways lists gateways whose record waits for one.
func (tx *Tx) DueGateways(ctx context.Context, limit int) ([]Due, error) {
	return tx.due(ctx, ofGateway, limit)
}

func (tx *Tx) due(ctx context.Context, of holder, limit int) ([]Due, error) {
	return collect(ctx, tx, func(scan scanner) (d Due, err error) {
		err = scan(&d.ID, &d.Touched)
		return d, err
	}, `SELECT id, touched FROM `+of.table+` WHERE touched <> seen ORDER BY id LIMIT ?`,
		limit)
}

// Count sums up what is there, by counts that are kept.
func (tx *Tx) Count(ctx context.Context) (c api.Counts, err error) {
	kept, err := tx.counts(
		ctx,
		`SELECT name, n FROM sizes UNION ALL SELECT 'gateways', COUNT(*) FROM gateways`,
	)
	if err != nil {
		return c, err
	}
	c.Gateways, c.People, c.Devices, c.Profiles, c.Parcels =
		kept["gateways"], kept["people"], kept["devices"], kept["profiles"], kept["parcels"]
	c.Due, c.Blocked, c.Warned, c.Clean =
		kept["due"], kept["blocked"], kept["warned"], kept["clean"]
	c.Tally.Errors, c.Tally.Warnings, c.Tally.Notes =
		kept["errors"], kept["warnings"], kept["notes"]
	return c, nil
}

// CountRules lists the rules that find something, most severe and most frequent first.
func (tx *Tx) CountRules(ctx context.Context) ([]api.RuleSum, error) {
	return collect(ctx, tx, func(scan scanner) (r api.RuleSum, err error) {
		err = scan(&r.Rule, &r.Severity, &r.Profiles)
		return r, err
	}, `SELECT rule, severity, profiles FROM rule_sums ORDER BY CASE severity WHEN 'error' THEN 0
			WHEN 'warning' THEN 1 ELSE 2 END, profiles DESC, rule`)
}

// CountGroup counts the profiles of the devices of a group's people.
func (tx *Tx) CountGroup(ctx context.Context, group string) (n int, err error) {
	err = tx.q.QueryRowContext(ctx,
		`SELECT COUNT(*) FROM profiles WHERE person_id IN (SELECT person_id FROM person_groups WHERE
			name = ?)`, group).
		Scan(&n)
	return n, err
}

// References counts the rows of a table that point to a record.
func (tx *Tx) References(ctx context.Context, table, column, id string) (n int, err error) {
	err = tx.q.QueryRowContext(ctx, "SELECT COUNT(*) FROM "+table+" WHERE "+column+" = ?", id).
		Scan(&n)
	return n, err
}
