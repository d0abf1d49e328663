package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"

	"wardicon/api"
)

var _ = step(42, `
-- Operators whose changes are confined to groups of people and to gateways; the flag in
-- operators.factor, which is proven, says that there must be a row here.
CREATE TABLE confinements (
    operator_id TEXT PRIMARY KEY REFERENCES operators ON DELETE CASCADE,
    people      TEXT NOT NULL, -- names of groups, JSON
    gateways    TEXT NOT NULL, -- identifiers, JSON
    proof       BLOB
);
`, `
DROP TABLE confinements;
UPDATE operators SET factor = factor & 3;
`)

// factorConfined marks an operator who is confined.
const factorConfined = 4

// confinedColumns reads what an operator is confined to, in lists.
const confinedColumns = `o.factor & 4 != 0, COALESCE((SELECT c.people FROM confinements c WHERE
	c.operator_id = o.id), '[]'), COALESCE((SELECT c.gateways FROM confinements c WHERE
	c.operator_id = o.id), '[]')`

func scanConfinement(confined bool, people, gateways string) (*api.Confinement, error) {
	if !confined {
		return nil, nil
	}
	c := &api.Confinement{}
	return c, errors.Join(
		json.Unmarshal([]byte(people), &c.Groups), json.Unmarshal([]byte(gateways), &c.Gateways),
	)
}

// PutConfinement keeps what an operator is confined to; nil sets them free.
func (tx *Tx) PutConfinement(ctx context.Context, operatorID string, c *api.Confinement) error {
	if c == nil {
		_, err := tx.q.ExecContext(
			ctx,
			`DELETE FROM confinements WHERE operator_id = ?`,
			operatorID,
		)
		if err == nil {
			_, err = tx.q.ExecContext(ctx, `UPDATE operators SET factor = factor & ~? WHERE id = ?`,
				factorConfined, operatorID)
		}
		return errors.Join(err, tx.prove(ctx, provenOperator, operatorID))
	}
	people, err := json.Marshal(append([]string{}, c.Groups...))
	if err != nil {
		return err
	}
	gateways, err := json.Marshal(append([]string{}, c.Gateways...))
	if err != nil {
		return err
	}
	if _, err := tx.q.ExecContext(ctx, `INSERT OR REPLACE INTO confinements (operator_id, people, gateways)
		VALUES (?, ?, ?)`, operatorID, string(people), string(gateways)); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	if _, err := tx.q.ExecContext(ctx, `UPDATE operators SET factor = factor | ? WHERE id = ?`,
		factorConfined, operatorID); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	return errors.Join(
		tx.prove(ctx, provenConfinement, operatorID),
		tx.prove(ctx, provenOperator, operatorID),
	)
}

// confinedSoundly holds that what an operator is confined to is as the service has written it.
func (tx *Tx) confinedSoundly(ctx context.Context, o api.Operator) error {
	if o.Confined == nil {
		return nil
	}
	err := tx.untouched(ctx, provenConfinement, o.ID, o.ID)
	if errors.Is(err, sql.ErrNoRows) {
		return &TamperedError{proven[provenConfinement].noun, o.ID}
	}
	return err
}
