package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/vpn"
)

// Findings is the list of what is wrong all over the fleet. It is written by PutFindings
// alone.
var Findings = &Table[struct{}, api.FleetFinding]{
	Noun: "finding",
	name: "findings",
	list: listing[api.FleetFinding]{
		id:   "i.n",
		from: "findings i",
		size: "findings",
		cols: "i.rule, i.severity, i.field, i.found, i.fix, i.noun, i.object, i.pointer, " +
			"i.fixable, i.overridden, i.since, COALESCE(i.profile_id, ''), i.device_id, " +
			"i.device_name, i.at_gateway, i.gateway_name, i.person_id, i.person_name",
		scan: func(scan scanner) (r api.FleetFinding, err error) {
			var since int64
			err = scan(
				&r.Rule,
				&r.Severity,
				&r.Field,
				&r.Found,
				&r.Fix,
				&r.Noun,
				&r.Object,
				&r.Pointer,
				&r.Fixable,
				&r.Overridden,
				&since,
				&r.ProfileID,
				&r.DeviceID,
				&r.Device,
				&r.GatewayID,
				&r.Gateway,
				&r.PersonID,
				&r.Person,
			)
			r.Since = fromMillis(since)
			return r, err
		},
		search: []string{
			"i.device_name",
			"i.gateway_name",
			"i.person_name",
			"i.found",
		},
		first: "severity",
		hits: map[string]string{
			"device":  "i.device_id",
			"gateway": "i.at_gateway",
			"person":  "i.person_id",
			"found":   "i.found",
		},
		sorts: map[string]string{
			"severity": "i.rank ASC, i.rule ASC, i.n ASC",
			"since":    "i.since ASC, i.n ASC",
			"device":   "i.device_name ASC, i.n ASC",
			"gateway":  "i.gateway_name ASC, i.n ASC",
			"person":   "i.person_name ASC, i.n ASC",
			"rule":     "i.rule ASC, i.n ASC",
		},
		filters: map[string]string{
			"rule":       "i.rule = ?",
			"severity":   "i.severity = ?",
			"gateway_id": "i.at_gateway = ?",
			"person_id":  "i.person_id = ?",
			"device_id":  "i.device_id = ?",
			"profile_id": "i.profile_id = ?",
			"days":       "i.since >= (unixepoch() - 86400 * ?days) * 1000",
			"fixable":    "i.fixable = ?flag",
			"overridden": "i.overridden = ?flag",
			"record":     "(i.gateway_id IS NOT NULL) = ?flag",
		},
	},
}

// sums are what findings, named i, can be counted by.
var sums = map[string]string{
	"rule": "SELECT i.rule AS key, i.rule AS title, i.* FROM %s i",
	"gateway": "SELECT g.id AS key, g.name AS title, i.* FROM %s i LEFT JOIN profiles f ON f.id " +
		"= i.profile_id JOIN gateways g ON g.id = COALESCE(i.gateway_id, f.gateway_id)",
	"person": "SELECT p.id AS key, p.name AS title, i.* FROM %s i JOIN profiles f ON f.id = " +
		"i.profile_id JOIN devices d ON d.id = f.device_id JOIN people p ON p.id = " +
		"d.person_id",
}

// SumFindings counts findings by rule, gateway or person, the most severe and most
// frequent first. New and Ended look back some days; what has nothing but ended findings
// comes last.
func (tx *Tx) SumFindings(
	ctx context.Context,
	by string,
	days, limit int,
) ([]api.FindingSum, error) {
	from, ok := sums[by]
	if !ok {
		return nil, &QueryError{"by", by, keys(sums)}
	}
	since := tx.s.now().AddDate(0, 0, -days).UnixMilli()
	return collect(ctx, tx, func(scan scanner) (r api.FindingSum, err error) {
		err = scan(&r.Key, &r.Title, &r.Tally.Errors, &r.Tally.Warnings, &r.Tally.Notes,
			&r.Profiles, &r.New, &r.Fixable, &r.Ended)
		return r, err
	}, `WITH here AS (`+fmt.Sprintf(
		from,
		"findings",
	)+`), past AS (`+fmt.Sprintf(
		from,
		"past_findings",
	)+`),
		counted AS (
			SELECT key, title, SUM(severity = 'error') b, SUM(severity = 'warning') w, SUM(severity
			= 'note') a, COUNT(DISTINCT profile_id) n, SUM(since >= ?) fresh, SUM(fixable) fixable,
			0 ended FROM here GROUP BY key
			UNION ALL SELECT key, title, 0, 0, 0, 0, 0, 0, COUNT(*) FROM past WHERE ended >= ? GROUP
			BY key)
		SELECT key, title, SUM(b), SUM(w), SUM(a), SUM(n), SUM(fresh), SUM(fixable), SUM(ended) FROM
		counted GROUP BY key ORDER BY 3 DESC, 4 DESC, 5 DESC, 2 LIMIT ?`,
		since,
		since,
		limit)
}

// keepPast is how long findings that are gone are remembered.
const keepPast = 90 * 24 * time.Hour

// holder is what findings are kept of: a profile, or a gateway for its record alone.
type holder struct{ table, column string }

var (
	ofProfile = holder{"profiles", "profile_id"}
	ofGateway = holder{"gateways", "gateway_id"}
)

// emitChecked has those told who want to know when a profile gets its first error, or loses its
// last.
func (tx *Tx) emitChecked(
	ctx context.Context, profileID string, old []keptFinding, now []check.Finding,
) error {
	before := slices.ContainsFunc(old, func(k keptFinding) bool {
		return k.severity == string(vpn.Error)
	})
	var rules []string
	for _, f := range now {
		if f.Severity == vpn.Error && !slices.Contains(rules, f.Rule) {
			rules = append(rules, f.Rule)
		}
	}
	switch {
	case len(rules) > 0 && !before:
		return tx.emitFor(ctx, ofProfile, api.EventBlocked, profileID, strings.Join(rules, ", "))
	case len(rules) == 0 && before:
		return tx.emitFor(ctx, ofProfile, api.EventUnblocked, profileID, "")
	}
	return nil
}

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
	res, err := tx.q.ExecContext(
		ctx,
		`UPDATE `+of.table+` SET seen = touched, errors = ?, warnings = ?, notes = ? WHERE id = ?
			AND touched = ?`,
		t.Errors,
		t.Warnings,
		t.Notes,
		d.ID,
		d.Touched,
	)
	if err != nil {
		return fmt.Errorf("database: %w", err)
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return err
	}
	old, err := tx.kept(ctx, of, d.ID)
	if err != nil {
		return err
	}
	if of == ofProfile {
		if err := tx.emitChecked(ctx, d.ID, old, findings); err != nil {
			return err
		}
	}
	now := tx.s.now().UnixMilli()
	since := map[string]int64{} // by rule and field, of what is there already
	for _, k := range old {
		if first, ok := since[k.key()]; !ok || k.since < first {
			since[k.key()] = k.since
		}
	}
	still := map[string]bool{}
	var fresh, ended []string // severity and rule
	for _, f := range findings {
		k := keptOf(f)
		still[k.key()] = true
		// What is there already, word for word, is left alone: most checks find what they found
		// before.
		if i := slices.IndexFunc(old, func(o keptFinding) bool { return o.same(k) }); i >= 0 {
			old = slices.Delete(old, i, i+1)
			continue
		}
		if first, ok := since[k.key()]; ok {
			k.since = first
		} else {
			k.since = now
			fresh = append(fresh, k.severity+" "+k.rule)
		}
		if err := tx.addFinding(ctx, of, d.ID, k); err != nil {
			return err
		}
	}
	for _, k := range old {
		if _, err := tx.q.ExecContext(ctx, `DELETE FROM findings WHERE n = ?`, k.n); err != nil {
			return fmt.Errorf("database: %w", err)
		}
		if still[k.key()] {
			continue
		}
		still[k.key()] = true // one line for all of the same rule and field
		ended = append(ended, k.severity+" "+k.rule)
		if _, err := tx.q.ExecContext(
			ctx,
			`INSERT INTO past_findings (`+of.column+
				`, rule, severity, field, since, ended) VALUES (?, ?, ?, ?, ?, ?)`,
			d.ID,
			k.rule,
			k.severity,
			k.field,
			since[k.key()],
			now,
		); err != nil {
			return fmt.Errorf("database: %w", err)
		}
	}
	return tx.emitFindings(ctx, of, d.ID, fresh, ended)
}

// emitFindings has those told who want to know of every finding that is new, or has ended.
func (tx *Tx) emitFindings(ctx context.Context, of holder, id string, fresh, ended []string) error {
	var errs []error
	for event, list := range map[string][]string{
		api.EventFindingNew: fresh, api.EventFindingEnded: ended,
	} {
		if len(list) > 0 {
			slices.Sort(list)
			list = slices.Compact(list)
			errs = append(errs, tx.emitFor(ctx, of, event, id, strings.Join(list, ", ")))
		}
	}
	return errors.Join(errs...)
}

// keptFinding is a finding as its row has it.
type keptFinding struct {
	n, since                                                 int64
	rule, severity, field, found, fix, noun, object, pointer string
	fixable, overridden                                      bool
}

func (k keptFinding) key() string { return k.rule + " " + k.field }

func (k keptFinding) same(other keptFinding) bool {
	other.n, other.since = k.n, k.since
	return k == other
}

func keptOf(f check.Finding) keptFinding {
	k := keptFinding{
		rule:       f.Rule,
		severity:   string(f.Severity),
		field:      string(f.Field),
		found:      f.Found,
		fix:        f.Fix,
		fixable:    f.Fixable,
		overridden: f.Override != nil,
	}
	if f.Place != nil {
		k.noun, k.object, k.pointer = f.Place.Noun, f.Place.ID, f.Place.Pointer
	}
	return k
}

// kept reads what was found before.
func (tx *Tx) kept(ctx context.Context, of holder, id string) ([]keptFinding, error) {
	return collect(ctx, tx, func(scan scanner) (k keptFinding, err error) {
		err = scan(&k.n, &k.since, &k.rule, &k.severity, &k.field, &k.found, &k.fix, &k.noun,
			&k.object, &k.pointer, &k.fixable, &k.overridden)
		return k, err
	}, `SELECT n, since, rule, severity, field, found, fix, noun, object, pointer, fixable,
			overridden FROM findings WHERE `+of.column+` = ?`,
		id)
}

// addFinding keeps a finding with the names of those whom it concerns.
func (tx *Tx) addFinding(ctx context.Context, of holder, id string, k keptFinding) error {
	whom := `SELECT f.gateway_id, f.gateway_name, f.device_id, f.device_name, f.person_id,
		f.person_name FROM profiles f WHERE f.id = ?`
	if of == ofGateway {
		whom = `SELECT g.id, g.name, '', '', '', '' FROM gateways g WHERE g.id = ?`
	}
	_, err := tx.q.ExecContext(
		ctx,
		`INSERT INTO findings (`+of.column+
			`, rule, severity, field, found, fix, noun, object, pointer, fixable, overridden, since,
				at_gateway, gateway_name, device_id, device_name, person_id, person_name)
		SELECT ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, whom.* FROM (`+whom+`) AS whom`,
		id,
		k.rule,
		k.severity,
		k.field,
		k.found,
		k.fix,
		k.noun,
		k.object,
		k.pointer,
		k.fixable,
		k.overridden,
		k.since,
		id,
	)
	if err != nil {
		return fmt.Errorf("database: %w", err)
	}
	return nil
}

// ForgetPast removes what is gone for long.
func (tx *Tx) ForgetPast(ctx context.Context) error {
	_, err := tx.q.ExecContext(
		ctx,
		`DELETE FROM past_findings WHERE ended < ?`,
		tx.s.now().Add(-keepPast).UnixMilli(),
	)
	if err == nil {
		_, err = tx.q.ExecContext(
			ctx,
			`DELETE FROM texts WHERE noun = 'found' AND record NOT IN (SELECT found FROM findings)`,
		)
	}
	return err
}

// ProfilesWith lists profiles with a finding of a rule that can be fixed, after a cursor.
func (tx *Tx) ProfilesWith(ctx context.Context, rule, after string, limit int) ([]string, error) {
	return tx.names(
		ctx,
		`SELECT DISTINCT profile_id FROM findings WHERE rule = ? AND fixable AND profile_id > ?
			ORDER BY profile_id LIMIT ?`,
		rule,
		after,
		limit,
	)
}

// CountWith counts them.
func (tx *Tx) CountWith(ctx context.Context, rule string) (n int, err error) {
	err = tx.q.QueryRowContext(ctx,
		`SELECT COUNT(DISTINCT profile_id) FROM findings WHERE rule = ? AND fixable`, rule).
		Scan(&n)
	return n, err
}
