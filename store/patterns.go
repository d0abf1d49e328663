package store

import (
	"context"
	"database/sql"
	"errors"
	"strings"

	"wardicon/api"
	"wardicon/core/vpn"
)

// Patterns is the table of patterns.
var Patterns = kept(&Table[vpn.Pattern, api.Pattern]{
	Noun:    "pattern",
	name:    "patterns",
	prefix:  "pa",
	shared:  true,
	meta:    func(p *vpn.Pattern) *vpn.Meta { return &p.Meta },
	columns: []column[vpn.Pattern]{{"name", func(p *vpn.Pattern) any { return p.Name }}},
	list: listing[api.Pattern]{
		id:   "p.id",
		from: "patterns p",
		cols: "p.id, p.version, p.created, p.changed, p.body, (SELECT COUNT(*) FROM profiles f " +
			"WHERE f.pattern_id = p.id)",
		scan: func(scan scanner) (row api.Pattern, err error) {
			err = scanRecord(scan, &row.Pattern, &row.Meta, &row.Profiles)
			return row, err
		},
		search: []string{"p.name"},
		first:  "name",
		sorts: map[string]string{
			"name":    "p.name ASC, p.id ASC",
			"changed": "p.changed ASC, p.id ASC",
		},
		filters: map[string]string{"name": "p.name = ?"},
	},
})

// class is the condition for the devices that a pattern is for.
func class(p vpn.Pattern) (condition string, args []any) {
	condition = "1 = 1"
	if len(p.Platforms) > 0 {
		condition += " AND platform IN (" + strings.TrimSuffix(
			strings.Repeat("?, ", len(p.Platforms)),
			", ",
		) + ")"
		for _, v := range p.Platforms {
			args = append(args, v)
		}
	}
	if len(p.Groups) > 0 {
		condition += " AND person_id IN (SELECT person_id FROM person_groups WHERE name IN (" +
			strings.TrimSuffix(
				strings.Repeat("?, ", len(p.Groups)),
				", ",
			) + "))"
		for _, v := range p.Groups {
			args = append(args, v)
		}
	}
	return condition, args
}

// CountClass counts the devices that a pattern is for.
func (tx *Tx) CountClass(ctx context.Context, p vpn.Pattern) (n int, err error) {
	condition, args := class(p)
	err = tx.q.QueryRowContext(ctx, "SELECT COUNT(*) FROM devices WHERE "+condition, args...).
		Scan(&n)
	return n, err
}

// Class lists identifiers of devices that a pattern is for: the ones after a cursor, by
// identifier.
func (tx *Tx) Class(ctx context.Context, p vpn.Pattern, after string, limit int) ([]string, error) {
	condition, args := class(p)
	return tx.names(
		ctx,
		"SELECT id FROM devices WHERE "+condition+" AND id > ? ORDER BY id LIMIT ?",
		append(args, after, limit)...)
}

// DeviceState stands for all that the profiles of a device are planned from: it differs once one of
// those records was changed.
func (tx *Tx) DeviceState(ctx context.Context, deviceID string) (state string, err error) {
	err = tx.q.QueryRowContext(ctx, `SELECT concat_ws(' ', o.version, d.version, p.version,
			(SELECT COUNT(*) || ' ' || COALESCE(SUM(version), 0) FROM accounts WHERE person_id =
			p.id),
			(SELECT COUNT(*) || ' ' || COALESCE(SUM(version), 0) FROM profiles WHERE device_id =
			d.id),
			(SELECT COUNT(*) || ' ' || COALESCE(SUM(version), 0) FROM patterns),
			(SELECT COUNT(*) || ' ' || COALESCE(SUM(version), 0) FROM gateways))
		FROM devices d JOIN people p ON p.id = d.person_id, organisation o WHERE d.id = ?`,
		deviceID).Scan(&state)
	if errors.Is(err, sql.ErrNoRows) {
		err = &NotFoundError{"device", deviceID}
	}
	return state, err
}

// ClassPage lists identifiers of devices that a pattern is for, a page by name.
func (tx *Tx) ClassPage(ctx context.Context, p vpn.Pattern, limit, offset int) ([]string, error) {
	condition, args := class(p)
	return tx.names(
		ctx,
		"SELECT id FROM devices WHERE "+condition+" ORDER BY name, id LIMIT ? OFFSET ?",
		append(args, limit, offset)...)
}
