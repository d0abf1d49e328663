package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"wardicon/api"
	"wardicon/core/secret"
)

// Operator is an operator with the encoded hash of the password.
type Operator struct {
	api.Operator
	Password string
	Step     int64 // the last step of the second factor whose code was taken
}

// Operators lists who can sign in.
var Operators = &Table[api.Operator, api.Operator]{
	Noun:   "operator",
	name:   "operators",
	prefix: "op",
	list: listing[api.Operator]{
		id:   "o.id",
		from: "operators o",
		cols: "o.id, o.name, o.role, o.disabled, o.must_change, o.factor & 1, o.factor & 2 != 0, " +
			"o.signed_in, o.created, EXISTS (SELECT 1 FROM operator_links k WHERE k.operator_id = o.id), " +
			"(SELECT COUNT(*) FROM sessions s WHERE s.operator_id = o.id AND " +
			"s.expires > unixepoch() * 1000), " + confinedColumns,
		scan:   scanOperator,
		search: []string{"o.name"},
		first:  "name",
		sorts: map[string]string{
			"name":      "o.name ASC, o.id ASC",
			"role":      "o.role ASC, o.name ASC",
			"signed_in": "o.signed_in ASC, o.id ASC",
		},
		filters: map[string]string{
			"name":     "o.name = ?",
			"role":     "o.role = ?",
			"disabled": "(o.disabled = 1) = ?flag",
		},
	},
}

func scanOperator(scan func(...any) error) (o api.Operator, err error) {
	var signedIn sql.NullInt64
	var created int64
	var confined bool
	var people, gateways string
	if err := scan(
		&o.ID,
		&o.Name,
		&o.Role,
		&o.Disabled,
		&o.MustChange,
		&o.SecondFactor,
		&o.Passkeys,
		&signedIn,
		&created,
		&o.Provider,
		&o.Sessions,
		&confined,
		&people,
		&gateways,
	); err != nil {
		return o, err
	}
	o.Created = fromMillis(created)
	if signedIn.Valid {
		at := fromMillis(signedIn.Int64)
		o.SignedIn = &at
	}
	o.Confined, err = scanConfinement(confined, people, gateways)
	return o, err
}

// HasOperators tells whether the first start is over.
func (tx *Tx) HasOperators(ctx context.Context) (bool, error) {
	var n int
	err := tx.q.QueryRowContext(ctx, `SELECT COUNT(*) FROM operators`).Scan(&n)
	return n > 0, err
}

// AddOperator keeps an operator.
func (tx *Tx) AddOperator(ctx context.Context, o *Operator) error {
	o.ID = newID(Operators.prefix)
	_, err := tx.q.ExecContext(
		ctx,
		`INSERT INTO operators (id, name, role, password, created, must_change) VALUES (?, ?, ?, ?,
			?, ?)`,
		o.ID,
		o.Name,
		o.Role,
		o.Password,
		millis(tx.s.now()),
		o.MustChange,
	)
	if err != nil {
		return constraint(Operators.Noun, err)
	}
	return tx.prove(ctx, provenOperator, o.ID)
}

// PutOperator keeps role, state and password of an operator.
func (tx *Tx) PutOperator(ctx context.Context, o Operator) error {
	_, err := tx.q.ExecContext(
		ctx,
		`UPDATE operators SET role = ?, disabled = ?, must_change = ?, password = ? WHERE id = ?`,
		o.Role,
		o.Disabled,
		o.MustChange,
		o.Password,
		o.ID,
	)
	if err != nil {
		return fmt.Errorf("database: %w", err)
	}
	return tx.prove(ctx, provenOperator, o.ID)
}

// CountOwners counts the owners that can sign in.
func (tx *Tx) CountOwners(ctx context.Context) (n int, err error) {
	err = tx.q.QueryRowContext(ctx,
		`SELECT COUNT(*) FROM operators WHERE role = 'owner' AND disabled = 0`).
		Scan(&n)
	return n, err
}

// OperatorByName finds an operator; capitals do not matter.
func (tx *Tx) OperatorByName(ctx context.Context, name string) (o Operator, err error) {
	return tx.operator(ctx, "name = ?", name)
}

// Operator reads one with the hash of its password.
func (tx *Tx) Operator(ctx context.Context, id string) (o Operator, err error) {
	return tx.operator(ctx, "id = ?", id)
}

func (tx *Tx) operator(ctx context.Context, where, value string) (o Operator, err error) {
	err = tx.q.QueryRowContext(ctx, `SELECT id, password, factor_step FROM operators WHERE `+where,
		value).
		Scan(&o.ID, &o.Password, &o.Step)
	if errors.Is(err, sql.ErrNoRows) {
		return o, &NotFoundError{Operators.Noun, value}
	}
	if err != nil {
		return o, fmt.Errorf("database: %w", err)
	}
	if err := tx.untouched(ctx, provenOperator, o.ID, o.ID); err != nil {
		return o, err
	}
	o.Operator, err = Operators.Row(ctx, tx, o.ID)
	return o, err
}

// Factor is the key of an operator's second factor; pending tells that no code of it was given yet.
func (tx *Tx) Factor(
	ctx context.Context,
	operatorID string,
	pending bool,
) (key secret.Text, err error) {
	plain, err := tx.secret(ctx, Operators.owner(operatorID), factorField(pending))
	return secret.New(string(plain)), err
}

func factorField(pending bool) string {
	if pending {
		return "factor pending"
	}
	return "factor"
}

// OfferFactor keeps a key that does not count yet.
func (tx *Tx) OfferFactor(ctx context.Context, operatorID string, key secret.Text) error {
	return tx.putSecret(ctx, Operators.owner(operatorID), factorField(true), []byte(key.Reveal()))
}

// PutFactor has a key count from now on; an empty one takes the second factor away.
func (tx *Tx) PutFactor(ctx context.Context, operatorID string, key secret.Text) error {
	owner := Operators.owner(operatorID)
	_, err := tx.q.ExecContext(ctx, `DELETE FROM secrets WHERE owner = ?`, owner)
	if err == nil && !key.IsZero() {
		err = tx.putSecret(ctx, owner, factorField(false), []byte(key.Reveal()))
	}
	if err == nil {
		_, err = tx.q.ExecContext(
			ctx,
			`UPDATE operators SET factor = (factor & ~1) | ?1, factor_step = CASE WHEN ?1 THEN
				factor_step ELSE 0 END WHERE id = ?2`,
			!key.IsZero(),
			operatorID,
		) // codes of another key are used up again
	}
	if err == nil {
		err = tx.prove(ctx, provenOperator, operatorID)
	}
	return err
}

// TakeStep notes that the code of a step was taken; false where it was before.
func (tx *Tx) TakeStep(ctx context.Context, operatorID string, step int64) (bool, error) {
	res, err := tx.q.ExecContext(
		ctx,
		`UPDATE operators SET factor_step = ? WHERE id = ? AND factor_step < ?`,
		step,
		operatorID,
		step,
	)
	if err != nil {
		return false, fmt.Errorf("database: %w", err)
	}
	n, err := res.RowsAffected()
	return n > 0, err
}

// NoteSignIn notes when an operator has signed in.
func (tx *Tx) NoteSignIn(ctx context.Context, operatorID string) error {
	_, err := tx.q.ExecContext(
		ctx,
		`UPDATE operators SET signed_in = ? WHERE id = ?`,
		millis(tx.s.now().Truncate(time.Second)),
		operatorID,
	)
	return err
}
