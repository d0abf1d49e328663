package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/go-webauthn/webauthn/webauthn"

	"wardicon/api"
)

var _ = step(40, `
-- Key pairs of operators' devices that they sign in with; body is what is known of the public key.
-- An operator who has some has the second bit of operators.factor set.
CREATE TABLE passkeys (
    id          TEXT PRIMARY KEY,
    operator_id TEXT NOT NULL REFERENCES operators ON DELETE CASCADE,
    credential  BLOB NOT NULL UNIQUE,
    name        TEXT NOT NULL,
    body        TEXT NOT NULL,
    created     INTEGER NOT NULL,
    used        INTEGER,
    proof       BLOB NOT NULL DEFAULT x''
) WITHOUT ROWID;
CREATE INDEX passkeys_operator ON passkeys (operator_id);
`, `
UPDATE operators SET factor = factor & 1;
DROP TABLE passkeys;
`)

// Bits of an operator's factor.
const (
	factorCodes   = 1
	factorPasskey = 2
)

// AddPasskey keeps a passkey of an operator.
func (tx *Tx) AddPasskey(
	ctx context.Context, operatorID string, p *api.Passkey, c webauthn.Credential,
) error {
	body, err := json.Marshal(c)
	if err != nil {
		return err
	}
	p.ID, p.Synced, p.Created = newID("pk"), c.Flags.BackupEligible, tx.s.now().UTC()
	if _, err := tx.q.ExecContext(ctx, `INSERT INTO passkeys (id, operator_id, credential, name, body,
		created) VALUES (?, ?, ?, ?, ?, ?)`, p.ID, operatorID, c.ID, p.Name, body,
		millis(p.Created)); err != nil {
		return constraint("passkey", err)
	}
	return errors.Join(tx.prove(ctx, provenPasskey, p.ID), tx.markPasskeys(ctx, operatorID))
}

// markPasskeys notes with the operator, whose row is proven, whether there are passkeys: whoever
// takes them out of the database alone does not take the second factor away.
func (tx *Tx) markPasskeys(ctx context.Context, operatorID string) error {
	if _, err := tx.q.ExecContext(ctx, `UPDATE operators SET factor = (factor & ~?2) |
		CASE WHEN EXISTS (SELECT 1 FROM passkeys WHERE operator_id = ?1) THEN ?2 ELSE 0 END
		WHERE id = ?1`, operatorID, factorPasskey); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	return tx.prove(ctx, provenOperator, operatorID)
}

// Passkeys lists those of an operator, the oldest first.
func (tx *Tx) Passkeys(ctx context.Context, operatorID string) ([]api.Passkey, error) {
	return collect(ctx, tx, func(scan scanner) (p api.Passkey, err error) {
		var body string
		var created int64
		var used sql.NullInt64
		if err := scan(&p.ID, &p.Name, &body, &created, &used); err != nil {
			return p, err
		}
		p.Created = fromMillis(created)
		if used.Valid {
			at := fromMillis(used.Int64)
			p.Used = &at
		}
		var c webauthn.Credential
		err = json.Unmarshal([]byte(body), &c)
		p.Synced = c.Flags.BackupEligible
		return p, err
	}, `SELECT id, name, body, created, used FROM passkeys WHERE operator_id = ? ORDER BY created, id`,
		operatorID)
}

// Credentials are the public keys of an operator's passkeys that the service itself has kept.
func (tx *Tx) Credentials(
	ctx context.Context,
	operatorID string,
) (list []webauthn.Credential, err error) {
	ids, err := tx.names(ctx, `SELECT id FROM passkeys WHERE operator_id = ? ORDER BY created, id`,
		operatorID)
	for _, id := range ids {
		if err := tx.untouched(ctx, provenPasskey, id, id); err != nil {
			return nil, err
		}
		var body string
		var c webauthn.Credential
		if err := tx.q.QueryRowContext(ctx, `SELECT body FROM passkeys WHERE id = ?`, id).
			Scan(&body); err != nil {
			return nil, fmt.Errorf("database: %w", err)
		}
		if err := json.Unmarshal([]byte(body), &c); err != nil {
			return nil, err
		}
		list = append(list, c)
	}
	return list, err
}

// UsePasskey notes that somebody has signed in with a passkey, and the state of its counter.
func (tx *Tx) UsePasskey(ctx context.Context, c webauthn.Credential) error {
	body, err := json.Marshal(c)
	if err != nil {
		return err
	}
	var id string
	if err := tx.q.QueryRowContext(ctx, `UPDATE passkeys SET body = ?, used = ? WHERE credential = ?
		RETURNING id`, body, millis(tx.s.now()), c.ID).Scan(&id); errors.Is(err, sql.ErrNoRows) {
		return &NotFoundError{"passkey", ""} // it was removed meanwhile
	} else if err != nil {
		return fmt.Errorf("database: %w", err)
	}
	return tx.prove(ctx, provenPasskey, id)
}

// RemovePasskey removes one of an operator; it gives its name.
func (tx *Tx) RemovePasskey(ctx context.Context, operatorID, id string) (name string, err error) {
	err = tx.q.QueryRowContext(ctx, `DELETE FROM passkeys WHERE operator_id = ? AND id = ?
		RETURNING name`, operatorID, id).Scan(&name)
	if errors.Is(err, sql.ErrNoRows) {
		return "", &NotFoundError{"passkey", id}
	}
	if err != nil {
		return "", fmt.Errorf("database: %w", err)
	}
	return name, tx.markPasskeys(ctx, operatorID)
}

// DropPasskeys removes all of an operator.
func (tx *Tx) DropPasskeys(ctx context.Context, operatorID string) error {
	if _, err := tx.q.ExecContext(ctx, `DELETE FROM passkeys WHERE operator_id = ?`,
		operatorID); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	return tx.markPasskeys(ctx, operatorID)
}

// HasPasskeys tells whether any operator has one.
func (tx *Tx) HasPasskeys(ctx context.Context) (has bool, err error) {
	err = tx.q.QueryRowContext(ctx, `SELECT EXISTS (SELECT 1 FROM passkeys)`).Scan(&has)
	return has, err
}
