package store

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"wardicon/core/check"
	"wardicon/core/view"
)

// Findings is the list of what is wrong all over the fleet. It is written by PutFindings
// alone.
var Findings = &Table[struct{}, view.FleetFinding]{
	Noun: "finding", name: "findings",
	list: listing[view.FleetFinding]{
		id: "i.rowid", from: "findings i",
		joins: "LEFT JOIN profiles f ON f.id = i.profile_id LEFT JOIN devices d ON d.id = f.device_id LEFT JOIN gateways g ON g.id = COALESCE(i.gateway_id, f.gateway_id) LEFT JOIN people p ON p.id = d.person_id",
		cols:  "i.rule, i.severity, i.field, i.found, i.mend, i.noun, i.object, i.pointer, i.mendable, i.passed, i.since, COALESCE(i.profile_id, ''), COALESCE(d.id, ''), COALESCE(d.name, ''), g.id, g.name, COALESCE(p.id, ''), COALESCE(p.name, '')",
		scan: func(scan func(...any) error) (r view.FleetFinding, err error) {
			var since int64
			err = scan(&r.Rule, &r.Severity, &r.Field, &r.Found, &r.Mend, &r.Noun, &r.Object, &r.Pointer, &r.Mendable, &r.Passed, &since, &r.ProfileID, &r.DeviceID, &r.Device, &r.GatewayID, &r.Gateway, &r.PersonID, &r.Person)
			r.Since = fromMillis(since)
			return r, err
		},
		search: []string{"d.name", "g.name", "p.name", "i.found"}, first: "severity",
		sorts: map[string]string{
			"severity": "i.severity = 'blocker' DESC, i.severity = 'warning' DESC, i.rule ASC, i.rowid ASC", "since": "i.since ASC, i.rowid ASC",
			"device": "d.name ASC, i.rowid ASC", "gateway": "g.name ASC, i.rowid ASC", "person": "p.name ASC, i.rowid ASC", "rule": "i.rule ASC, i.rowid ASC",
		},
		filters: map[string]string{
			"rule": "i.rule = ?", "severity": "i.severity = ?", "gateway_id": "? IN (i.gateway_id, f.gateway_id)", "person_id": "d.person_id = ?", "device_id": "f.device_id = ?", "profile_id": "i.profile_id = ?",
			"days": "i.since >= (unixepoch() - 86400 * ?days) * 1000", "mendable": "i.mendable = ?flag", "passed": "i.passed = ?flag",
			"record": "(i.gateway_id IS NOT NULL) = ?flag",
		},
	},
}

// sums are what findings, named i, can be counted by.
var sums = map[string]string{
	"rule":    "SELECT i.rule AS key, i.rule AS title, i.* FROM %s i",
	"gateway": "SELECT g.id AS key, g.name AS title, i.* FROM %s i LEFT JOIN profiles f ON f.id = i.profile_id JOIN gateways g ON g.id = COALESCE(i.gateway_id, f.gateway_id)",
	"person":  "SELECT p.id AS key, p.name AS title, i.* FROM %s i JOIN profiles f ON f.id = i.profile_id JOIN devices d ON d.id = f.device_id JOIN people p ON p.id = d.person_id",
}

// SumFindings counts findings by rule, gateway or person, the most severe and most
// frequent first. New and Ended look back some days; what has nothing but ended findings
// comes last.
func (tx *Tx) SumFindings(ctx context.Context, by string, days, limit int) ([]view.FindingSum, error) {
	from, ok := sums[by]
	if !ok {
		return nil, &QueryError{"by", by, keys(sums)}
	}
	since := tx.s.now().AddDate(0, 0, -days).UnixMilli()
	rows, err := tx.q.QueryContext(ctx, `WITH here AS (`+fmt.Sprintf(from, "findings")+`), past AS (`+fmt.Sprintf(from, "past_findings")+`),
		counted AS (
			SELECT key, title, SUM(severity = 'blocker') b, SUM(severity = 'warning') w, SUM(severity = 'advice') a, COUNT(DISTINCT profile_id) n, SUM(since >= ?) fresh, SUM(mendable) mendable, 0 ended FROM here GROUP BY key
			UNION ALL SELECT key, title, 0, 0, 0, 0, 0, 0, COUNT(*) FROM past WHERE ended >= ? GROUP BY key)
		SELECT key, title, SUM(b), SUM(w), SUM(a), SUM(n), SUM(fresh), SUM(mendable), SUM(ended) FROM counted GROUP BY key ORDER BY 3 DESC, 4 DESC, 5 DESC, 2 LIMIT ?`, since, since, limit)
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	list := []view.FindingSum{}
	for rows.Next() {
		var r view.FindingSum
		if err := rows.Scan(&r.Key, &r.Title, &r.Tally.Blockers, &r.Tally.Warnings, &r.Tally.Advice, &r.Profiles, &r.New, &r.Mendable, &r.Ended); err != nil {
			return nil, errors.Join(err, rows.Close())
		}
		list = append(list, r)
	}
	return list, errors.Join(rows.Err(), rows.Close())
}

// keepPast is how long findings that are gone are remembered.
const keepPast = 90 * 24 * time.Hour

// holder is what findings are kept of: a profile, or a gateway for its record alone.
type holder struct{ table, column string }

var (
	ofProfile = holder{"profiles", "profile_id"}
	ofGateway = holder{"gateways", "gateway_id"}
)

// PutFindings keeps the result of a check, unless the profile was touched since. What was
// there before keeps its first day; what is gone is remembered for a while.
func (tx *Tx) PutFindings(ctx context.Context, d Due, findings []check.Finding) error {
	return tx.putFindings(ctx, ofProfile, d, findings)
}

// PutGatewayFindings does the same for what is found on a gateway's record alone.
func (tx *Tx) PutGatewayFindings(ctx context.Context, d Due, findings []check.Finding) error {
	return tx.putFindings(ctx, ofGateway, d, findings)
}

func (tx *Tx) putFindings(ctx context.Context, of holder, d Due, findings []check.Finding) error {
	t := check.Count(findings)
	res, err := tx.q.ExecContext(ctx, `UPDATE `+of.table+` SET seen = touched, blockers = ?, warnings = ?, advice = ? WHERE id = ? AND touched = ?`,
		t.Blockers, t.Warnings, t.Advice, d.ID, d.Touched)
	if err != nil {
		return fmt.Errorf("database: %w", err)
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return err
	}
	old, err := tx.foundBefore(ctx, of, d.ID)
	if err != nil {
		return err
	}
	now := tx.s.now().UnixMilli()
	if _, err := tx.q.ExecContext(ctx, `DELETE FROM findings WHERE `+of.column+` = ?`, d.ID); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	var args []any
	for _, f := range findings {
		spot := check.Spot{}
		if f.Place != nil {
			spot = *f.Place
		}
		since := now
		key := f.Rule + " " + string(f.Field)
		if before, ok := old[key]; ok {
			since, before.still = before.since, true
		}
		args = append(args, d.ID, f.Rule, f.Severity, f.Field, f.Found, f.Mend, spot.Noun, spot.ID, spot.Pointer, f.Mendable, f.Override != nil, since)
	}
	if len(findings) > 0 {
		marks := strings.TrimSuffix(strings.Repeat("(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?), ", len(findings)), ", ")
		if _, err = tx.q.ExecContext(ctx, `INSERT INTO findings (`+of.column+`, rule, severity, field, found, mend, noun, object, pointer, mendable, passed, since) VALUES `+marks, args...); err != nil {
			return fmt.Errorf("database: %w", err)
		}
	}
	for key, before := range old {
		if before.still {
			continue
		}
		rule, field, _ := strings.Cut(key, " ")
		if _, err := tx.q.ExecContext(ctx, `INSERT INTO past_findings (`+of.column+`, rule, severity, field, since, ended) VALUES (?, ?, ?, ?, ?, ?)`, d.ID, rule, before.severity, field, before.since, now); err != nil {
			return fmt.Errorf("database: %w", err)
		}
	}
	return nil
}

type foundBefore struct {
	since    int64
	severity string
	still    bool
}

func (tx *Tx) foundBefore(ctx context.Context, of holder, id string) (map[string]*foundBefore, error) {
	rows, err := tx.q.QueryContext(ctx, `SELECT rule, field, severity, MIN(since) FROM findings WHERE `+of.column+` = ? GROUP BY rule, field`, id)
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	list := map[string]*foundBefore{}
	for rows.Next() {
		var rule, field string
		var b foundBefore
		if err := rows.Scan(&rule, &field, &b.severity, &b.since); err != nil {
			return nil, errors.Join(err, rows.Close())
		}
		list[rule+" "+field] = &b
	}
	return list, errors.Join(rows.Err(), rows.Close())
}

// ForgetPast removes what is gone for long.
func (tx *Tx) ForgetPast(ctx context.Context) error {
	_, err := tx.q.ExecContext(ctx, `DELETE FROM past_findings WHERE ended < ?`, tx.s.now().Add(-keepPast).UnixMilli())
	return err
}

// ProfilesWith lists profiles with a finding of a rule that can be mended, after a cursor.
func (tx *Tx) ProfilesWith(ctx context.Context, rule, after string, limit int) ([]string, error) {
	return tx.names(ctx, `SELECT DISTINCT profile_id FROM findings WHERE rule = ? AND mendable AND profile_id > ? ORDER BY profile_id LIMIT ?`, rule, after, limit)
}

// CountWith counts them.
func (tx *Tx) CountWith(ctx context.Context, rule string) (n int, err error) {
	err = tx.q.QueryRowContext(ctx, `SELECT COUNT(DISTINCT profile_id) FROM findings WHERE rule = ? AND mendable`, rule).Scan(&n)
	return n, err
}
