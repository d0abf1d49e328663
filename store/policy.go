package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"wardicon/core/check"
	"wardicon/core/vpn"
)

// Severities are the severities that the owner has set, by rule.
func (tx *Tx) Severities(ctx context.Context) (map[string]vpn.Severity, error) {
	return shelved(
		tx,
		"severities",
		func() (map[string]vpn.Severity, error) { return tx.severities(ctx) },
	)
}

func (tx *Tx) severities(ctx context.Context) (map[string]vpn.Severity, error) {
	set := map[string]vpn.Severity{}
	err := each(ctx, tx, func(scan scanner) error {
		var rule string
		var severity vpn.Severity
		err := scan(&rule, &severity)
		set[rule] = severity
		return err
	}, `SELECT rule, severity FROM severities`)
	return set, err
}

// SetSeverity sets the severity of a rule; the empty one goes back to the rule's own.
func (tx *Tx) SetSeverity(
	ctx context.Context,
	rule string,
	severity vpn.Severity,
	operator string,
) error {
	var err error
	if severity == "" {
		_, err = tx.q.ExecContext(ctx, `DELETE FROM severities WHERE rule = ?`, rule)
	} else {
		_, err = tx.q.ExecContext(
			ctx,
			`INSERT INTO severities VALUES (?, ?, ?, ?) ON CONFLICT DO UPDATE SET severity =
				excluded.severity, operator = excluded.operator, changed = excluded.changed`,
			rule,
			severity,
			operator,
			tx.s.now().UnixMilli(),
		)
	}
	return err
}

// Overrides are those of one profile, ended ones too.
func (tx *Tx) Overrides(ctx context.Context, profileID string) ([]check.Override, error) {
	return collect(ctx, tx, func(scan scanner) (o check.Override, err error) {
		var until int64
		err = scan(&o.Rule, &o.Reason, &until, &o.Operator)
		o.Until = fromMillis(until)
		return o, err
	}, `SELECT rule, reason, until, operator FROM overrides WHERE profile_id = ? ORDER BY rule`,
		profileID)
}

// PutOverride keeps an override, in the place of an earlier one for the same rule.
func (tx *Tx) PutOverride(ctx context.Context, profileID string, o check.Override) error {
	_, err := tx.q.ExecContext(
		ctx,
		`INSERT INTO overrides VALUES (?, ?, ?, ?, ?, ?, 0) ON CONFLICT DO UPDATE SET reason =
			excluded.reason, until = excluded.until, operator = excluded.operator, created =
			excluded.created, ended = 0`,
		profileID,
		o.Rule,
		o.Reason,
		o.Until.UnixMilli(),
		o.Operator,
		tx.s.now().UnixMilli(),
	)
	return err
}

// EndOverride takes an override back.
func (tx *Tx) EndOverride(ctx context.Context, profileID, rule string) error {
	res, err := tx.q.ExecContext(
		ctx,
		`DELETE FROM overrides WHERE profile_id = ? AND rule = ?`,
		profileID,
		rule,
	)
	if err != nil {
		return fmt.Errorf("database: %w", err)
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, &NotFoundError{"override", rule})
	}
	return nil
}

// TouchExpired marks the profiles whose overrides have come to their end, once.
func (tx *Tx) TouchExpired(ctx context.Context) error {
	now := tx.s.now().UnixMilli()
	if err := tx.TouchProfiles(
		ctx,
		`id IN (SELECT profile_id FROM overrides WHERE until <= ? AND ended = 0)`,
		now,
	); err != nil {
		return err
	}
	_, err := tx.q.ExecContext(
		ctx,
		`UPDATE overrides SET ended = 1 WHERE until <= ? AND ended = 0`,
		now,
	)
	return err
}

// Remembered is a value that the service keeps for itself; empty where there is none.
func (tx *Tx) Remembered(ctx context.Context, name string) (value string, err error) {
	err = tx.q.QueryRowContext(ctx, `SELECT value FROM remembered WHERE name = ?`, name).
		Scan(&value)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return value, err
}

// Remember keeps such a value.
func (tx *Tx) Remember(ctx context.Context, name, value string) error {
	_, err := tx.q.ExecContext(
		ctx,
		`INSERT INTO remembered VALUES (?, ?) ON CONFLICT DO UPDATE SET value = excluded.value`,
		name,
		value,
	)
	return err
}
