package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"maps"
	"slices"

	"wardicon/api"
	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

func keys(m map[string]string) []string { return slices.Sorted(maps.Keys(m)) }

// scanRecord reads the five columns that every record has, and further ones.
func scanRecord(scan func(...any) error, record any, stamp *vpn.Meta, more ...any) error {
	var created, changed int64
	var body []byte
	var s vpn.Meta
	if err := scan(
		append([]any{&s.ID, &s.Version, &created, &changed, &body}, more...)...); err != nil {
		return err
	}
	s.Created, s.Changed = fromMillis(created), fromMillis(changed)
	if json.Unmarshal(body, record) != nil {
		s.Damaged = []string{wholeRecord} // a list goes on with the others
	}
	*stamp = s
	return nil
}

// newestState is what the newest probe of a gateway came to.
const newestState = "COALESCE((SELECT b.state FROM probes b WHERE b.gateway_id = g.id ORDER BY " +
	"b.at DESC, b.rowid DESC LIMIT 1), '')"

// Gateways is the table of gateways.
var Gateways = kept(&Table[vpn.Gateway, api.Gateway]{
	Noun:     "gateway",
	name:     "gateways",
	prefix:   "gw",
	shared:   true,
	complete: (*vpn.Gateway).Complete,
	meta:     func(g *vpn.Gateway) *vpn.Meta { return &g.Meta },
	columns: []column[vpn.Gateway]{
		{"name", func(g *vpn.Gateway) any { return g.Name }},
		{"address", func(g *vpn.Gateway) any { return g.Address }},
		{"city", func(g *vpn.Gateway) any { return g.Place.City }},
	},
	secrets: func(g *vpn.Gateway) map[string]**secret.Text { return g.Offers.Secrets() },
	list: listing[api.Gateway]{
		id:   "g.id",
		from: "gateways g",
		cols: "g.id, g.version, g.created, g.changed, g.body, g.profiles, " + newestState +
			", g.errors, g.warnings, g.notes",
		scan: func(scan scanner) (row api.Gateway, err error) {
			err = scanRecord(
				scan,
				&row.Gateway,
				&row.Meta,
				&row.Profiles,
				&row.Answers,
				&row.Tally.Errors,
				&row.Tally.Warnings,
				&row.Tally.Notes,
			)
			row.Complete()
			return row, err
		},
		search: []string{
			"g.name",
			"g.address",
			"g.city",
		},
		hits:  map[string]string{"gateway": "g.id"},
		first: "name",
		sorts: map[string]string{
			"name":    "g.name ASC, g.id ASC",
			"address": "g.address ASC, g.id ASC",
			"city":    "g.city ASC, g.id ASC",
			"changed": "g.changed ASC, g.id ASC",
		},
		filters: map[string]string{
			"name":    "g.name = ?",
			"city":    "g.city = ?",
			"answers": newestState + " = ?",
			"at": "? IN (SELECT g.address UNION SELECT value FROM " +
				"json_each(iif(json_valid(g.body), g.body, '{}'), '$.addresses'))",
		},
	},
})

// People is the table of people.
var People = kept(&Table[vpn.Person, api.Person]{
	Noun:   "person",
	name:   "people",
	prefix: "pe",
	meta:   func(p *vpn.Person) *vpn.Meta { return &p.Meta },
	columns: []column[vpn.Person]{
		{"name", func(p *vpn.Person) any { return p.Name }},
		{"mail", func(p *vpn.Person) any { return p.Mail }},
	},
	list: listing[api.Person]{
		id:   "p.id",
		from: "people p",
		cols: `p.id, p.version, p.created, p.changed, p.body,
			(SELECT COUNT(*) FROM accounts a WHERE a.person_id = p.id), (SELECT COUNT(*) FROM
			devices d WHERE d.person_id = p.id), COALESCE(s.kind, ''), s.missing`,
		joins: "LEFT JOIN sources s ON s.person_id = p.id",
		scan: func(scan scanner) (row api.Person, err error) {
			var missing sql.NullInt64
			err = scanRecord(scan, &row.Person, &row.Meta, &row.Accounts, &row.Devices, &row.Source,
				&missing)
			if missing.Valid {
				since := fromMillis(missing.Int64)
				row.Missing = &since
			}
			return row, err
		},
		search: []string{
			"p.name",
			"p.mail",
		},
		hits:  map[string]string{"person": "p.id"},
		first: "name",
		size:  "people",
		sorts: map[string]string{
			"name":    "p.name ASC, p.id ASC",
			"mail":    "p.mail ASC, p.id ASC",
			"changed": "p.changed ASC, p.id ASC",
		},
		filters: map[string]string{
			"name":  "p.name = ?",
			"mail":  "p.mail = ?",
			"group": "p.id IN (SELECT person_id FROM person_groups WHERE name = ?)",
			"source": "COALESCE((SELECT iif(o.missing IS NULL, o.kind, 'missing') FROM sources o " +
				"WHERE o.person_id = p.id), 'here') = ?",
		},
	},
})

// Devices is the table of devices.
var Devices = kept(&Table[vpn.Device, api.Device]{
	Noun:   "device",
	name:   "devices",
	prefix: "de",
	meta:   func(d *vpn.Device) *vpn.Meta { return &d.Meta },
	columns: []column[vpn.Device]{
		{"name", func(d *vpn.Device) any { return d.Name }},
		{"person_id", func(d *vpn.Device) any { return d.PersonID }},
		{"platform", func(d *vpn.Device) any { return d.Platform }},
		{"release", func(d *vpn.Device) any { return d.Release }},
		{"identity_expires", identityExpires},
	},
	secrets: func(d *vpn.Device) map[string]**secret.Text {
		places := map[string]**secret.Text{}
		for id := range d.Identities() {
			places[d.KeyPlace(id)] = &id.Key
		}
		return places
	},
	carry: (*vpn.Device).CarryKeys,
	after: func(ctx context.Context, tx *Tx, d *vpn.Device) error { return tx.holds(ctx, d) },
	list: listing[api.Device]{
		id:   "d.id",
		from: "devices d",
		cols: `d.id, d.version, d.created, d.changed, d.body, d.person_name, (SELECT COUNT(*) FROM
			profiles f WHERE f.device_id = d.id),
			(SELECT COALESCE(SUM(errors), 0) FROM profiles f WHERE f.device_id = d.id), (SELECT
			COALESCE(SUM(warnings), 0) FROM profiles f WHERE f.device_id = d.id),
			(SELECT COALESCE(SUM(notes), 0) FROM profiles f WHERE f.device_id = d.id)`,
		scan: func(scan scanner) (row api.Device, err error) {
			err = scanRecord(
				scan,
				&row.Device,
				&row.Meta,
				&row.Person,
				&row.Profiles,
				&row.Tally.Errors,
				&row.Tally.Warnings,
				&row.Tally.Notes,
			)
			return row, err
		},
		search: []string{
			"d.name",
			"d.person_name",
		},
		hits:  map[string]string{"device": "d.id", "person": "d.person_id"},
		first: "name",
		size:  "devices",
		sorts: map[string]string{
			"name":     "d.name ASC, d.id ASC",
			"person":   "d.person_name ASC, d.name ASC, d.id ASC",
			"platform": "d.platform ASC, d.name ASC, d.id ASC",
			"changed":  "d.changed ASC, d.id ASC",
		},
		filters: map[string]string{
			"name":      "d.name = ?",
			"person_id": "d.person_id = ?",
			"person":    "d.person_name = ?",
			"platform":  "d.platform = ?",
			"group":     "d.person_id IN (SELECT person_id FROM person_groups WHERE name = ?)",
		},
	},
})

// Sited holds for devices with a site behind them.
const Sited = "json_extract(iif(json_valid(body), body, '{}'), '$.site') IS NOT NULL"

// identityExpires is when the first of a device's certificates ends.
func identityExpires(d *vpn.Device) any {
	var first any
	for id := range d.Identities() {
		list, err := pki.Certificates(id.Certificate)
		if err != nil {
			continue // refused before it comes here
		}
		if end := millis(list[0].NotAfter); first == nil || end < first.(int64) {
			first = end
		}
	}
	return first
}

// fillExpiry fills in what was not told apart before.
func (s *Store) fillExpiry(ctx context.Context) error {
	return s.once(ctx, "identity ends", func(tx *Tx) error {
		list, err := Devices.Where(
			ctx,
			tx,
			`identity_expires IS NULL AND json_valid(body) AND json_extract(body, '$.identity') IS
				NOT NULL`,
		)
		for _, d := range list {
			if _, err := tx.q.ExecContext(
				ctx,
				`UPDATE devices SET identity_expires = ? WHERE id = ?`,
				identityExpires(&d),
				d.ID,
			); err != nil {
				return err
			}
		}
		return err
	})
}
