package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"wardicon/core/secret"
	"wardicon/core/vpn"
)

var _ = step(35, `
-- How operators sign in by a provider of OpenID Connect: one row.
CREATE TABLE single_sign_on (
    version INTEGER NOT NULL,
    body    TEXT NOT NULL
);
INSERT INTO single_sign_on VALUES (1, '{"issuer": ""}');
-- Who an operator is at the provider.
CREATE TABLE operator_links (
    operator_id TEXT PRIMARY KEY REFERENCES operators ON DELETE CASCADE,
    issuer      TEXT NOT NULL,
    subject     TEXT NOT NULL,
    proof       BLOB NOT NULL DEFAULT x'',
    UNIQUE (issuer, subject)
) WITHOUT ROWID;
`, `
DROP TABLE operator_links;
DROP TABLE single_sign_on;
DELETE FROM secrets WHERE owner = 'single sign-on:1';
`)

var signOnSettings = settings[vpn.SingleSignOn]{
	table: "single_sign_on",
	owner: "single sign-on:1",
	parts: func(s *vpn.SingleSignOn) (*int, **secret.Text, *bool) {
		return &s.Version, &s.Secret, &s.Damaged
	},
	normalise: (*vpn.SingleSignOn).Normalise,
}

// SingleSignOn reads how operators sign in by a provider, with the client secret open.
func (tx *Tx) SingleSignOn(ctx context.Context) (vpn.SingleSignOn, error) {
	return signOnSettings.get(ctx, tx)
}

// PutSingleSignOn replaces it.
func (tx *Tx) PutSingleSignOn(ctx context.Context, s *vpn.SingleSignOn) error {
	return signOnSettings.put(ctx, tx, s)
}

// LinkOperator notes who an operator is at a provider.
func (tx *Tx) LinkOperator(ctx context.Context, operatorID, issuer, subject string) error {
	if _, err := tx.q.ExecContext(ctx, `INSERT INTO operator_links (operator_id, issuer, subject)
		VALUES (?, ?, ?)`, operatorID, issuer, subject); err != nil {
		return constraint("operator link", err)
	}
	return tx.prove(ctx, provenLink, operatorID)
}

// OperatorLinked finds who somebody of a provider is here; nil where nobody is.
func (tx *Tx) OperatorLinked(ctx context.Context, issuer, subject string) (*Operator, error) {
	var id string
	err := tx.q.QueryRowContext(ctx, `SELECT operator_id FROM operator_links WHERE issuer = ? AND
		subject = ?`, issuer, subject).Scan(&id)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	if err := tx.untouched(ctx, provenLink, id, id); err != nil {
		return nil, err
	}
	o, err := tx.Operator(ctx, id)
	return &o, err
}

// Linked tells whether an operator signs in by a provider.
func (tx *Tx) Linked(ctx context.Context, operatorID string) (linked bool, err error) {
	err = tx.q.QueryRowContext(ctx, `SELECT EXISTS (SELECT 1 FROM operator_links WHERE
		operator_id = ?)`, operatorID).Scan(&linked)
	return linked, err
}
