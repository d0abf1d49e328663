package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"wardicon/core/drift"
)

// How long what gateways answered is kept.
const (
	probeLife  = 90 * 24 * time.Hour
	mostProbes = 1000 // of one gateway
)

// Probes lists what gateways answered when they were asked.
var Probes = &Table[drift.ProbeRow, drift.ProbeRow]{
	Noun:   "probe",
	name:   "probes",
	prefix: "pb",
	list: listing[drift.ProbeRow]{
		id:    "b.id",
		from:  "probes b",
		joins: "JOIN gateways g ON g.id = b.gateway_id",
		cols:  "b.id, b.gateway_id, g.name, b.at, b.by_, b.state, b.differences, b.times",
		scan: func(scan scanner) (r drift.ProbeRow, err error) {
			var at int64
			var times string
			if err := scan(
				&r.ID,
				&r.GatewayID,
				&r.Gateway,
				&at,
				&r.By,
				&r.State,
				&r.Differences,
				&times,
			); err != nil {
				return r, err
			}
			r.At = fromMillis(at)
			return r, json.Unmarshal([]byte(times), &r.Times)
		},
		search: []string{"g.name"},
		first:  "at",
		sorts: map[string]string{
			"at":      "b.at DESC, b.rowid DESC",
			"gateway": "g.name ASC, b.at DESC, b.rowid DESC",
			"state": "CASE b.state WHEN 'no-response' THEN 0 WHEN 'differs' THEN 1 WHEN " +
				"'unresolved' THEN 2 ELSE 3 END ASC, g.name ASC, b.at DESC, b.rowid DESC",
		},
		filters: map[string]string{
			"gateway_id": "b.gateway_id = ?",
			"state":      "b.state = ?",
			"latest": "(b.id = (SELECT id FROM probes n WHERE n.gateway_id = b.gateway_id " +
				"ORDER BY at DESC, rowid DESC LIMIT 1)) = ?flag",
		},
	},
}

// AddProbe keeps a probe, and forgets old ones of the same gateway.
func (tx *Tx) AddProbe(ctx context.Context, p *drift.Probe) error {
	tx.note("probe")
	p.ID = newID("pb")
	row := p.Row()
	body, err := json.Marshal(p)
	if err != nil {
		return err
	}
	times, err := json.Marshal(row.Times)
	if err != nil {
		return err
	}
	if _, err := tx.q.ExecContext(
		ctx,
		`INSERT INTO probes VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
		p.ID,
		p.GatewayID,
		millis(p.At),
		p.By,
		row.State,
		row.Differences,
		string(times),
		string(body),
	); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	_, err = tx.q.ExecContext(
		ctx,
		`DELETE FROM probes WHERE gateway_id = ?1 AND (at < ?2 OR at < (SELECT at FROM probes WHERE
			gateway_id = ?1 ORDER BY at DESC LIMIT 1 OFFSET ?3))`,
		p.GatewayID,
		millis(p.At.Add(-probeLife)),
		mostProbes,
	)
	return err
}

// Probe reads one.
func (tx *Tx) Probe(ctx context.Context, gatewayID, id string) (p drift.Probe, err error) {
	return tx.probe(
		ctx,
		id,
		`SELECT body FROM probes WHERE gateway_id = ? AND id = ?`,
		gatewayID,
		id,
	)
}

// LatestProbe reads the newest one of a gateway since some time; nil where there is none.
func (tx *Tx) LatestProbe(
	ctx context.Context,
	gatewayID string,
	since time.Time,
) (*drift.Probe, error) {
	return shelved(tx, "probe "+gatewayID+" "+since.String(), func() (*drift.Probe, error) {
		p, err := tx.probe(
			ctx,
			"",
			`SELECT body FROM probes WHERE gateway_id = ? AND at >= ? ORDER BY at DESC, rowid DESC
				LIMIT 1`,
			gatewayID,
			millis(since),
		)
		var none *NotFoundError
		if errors.As(err, &none) {
			return nil, nil
		}
		return &p, err
	})
}

func (tx *Tx) probe(ctx context.Context, id, query string, args ...any) (p drift.Probe, err error) {
	var body string
	switch err := tx.q.QueryRowContext(ctx, query, args...).Scan(&body); {
	case errors.Is(err, sql.ErrNoRows):
		return p, &NotFoundError{Noun: "probe", ID: id}
	case err != nil:
		return p, fmt.Errorf("database: %w", err)
	}
	return p, json.Unmarshal([]byte(body), &p)
}

// ProbeBefore reads the newest one of a gateway between two moments; nil where there is none.
func (tx *Tx) ProbeBefore(
	ctx context.Context,
	gatewayID string,
	since, before time.Time,
) (*drift.Probe, error) {
	return shelved(
		tx,
		fmt.Sprint("probe ", gatewayID, " ", since, " ", before),
		func() (*drift.Probe, error) {
			p, err := tx.probe(
				ctx,
				"",
				`SELECT body FROM probes WHERE gateway_id = ? AND at BETWEEN ? AND ? ORDER BY at
					DESC, rowid DESC LIMIT 1`,
				gatewayID,
				millis(since),
				millis(before),
			)
			var none *NotFoundError
			if errors.As(err, &none) {
				return nil, nil
			}
			return &p, err
		},
	)
}

// UnprobedGateways lists gateways that were not asked since some time, those that waited longest
// first. Where the newest probe was not sound and the one before it was, or there was none, once
// more is asked soon: since another moment.
func (tx *Tx) UnprobedGateways(
	ctx context.Context,
	since, soon time.Time,
	limit int,
) ([]string, error) {
	const nth = `(SELECT %s FROM probes b WHERE b.gateway_id = g.id ORDER BY b.at DESC, b.rowid DESC
		LIMIT 1 OFFSET %d)`
	return tx.names(
		ctx,
		`SELECT id FROM (SELECT g.id AS id, COALESCE(`+fmt.Sprintf(
			nth,
			"at",
			0,
		)+`, 0) AS at, `+fmt.Sprintf(
			nth,
			"state",
			0,
		)+` AS newest, COALESCE(`+fmt.Sprintf(
			nth,
			"state",
			1,
		)+`, 'sound') AS earlier FROM gateways g)
		WHERE at < ? OR at < ? AND (newest <> 'matches' AND earlier = 'matches' OR newest =
		'unresolved') ORDER BY at, id LIMIT ?`,
		millis(since),
		millis(soon),
		limit,
	)
}

// CountAnswers counts gateways by what their newest probes came to; empty are those that were not
// asked.
func (tx *Tx) CountAnswers(ctx context.Context) (map[string]int, error) {
	return tx.counts(
		ctx,
		"SELECT "+newestState+" AS newest, COUNT(*) FROM gateways g GROUP BY newest",
	)
}
