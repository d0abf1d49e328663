package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"fmt"
	"time"
)

// Operator signs in to the console or the API. Password is the encoded hash.
type Operator struct {
	ID       string
	Name     string
	Role     string
	Password string
}

// Session is a signed-in console or command line.
type Session struct {
	Operator Operator
	Kind     string // cookie or token
	Expires  time.Time
}

// HasOperators tells whether the first start is over.
func (tx *Tx) HasOperators(ctx context.Context) (bool, error) {
	var n int
	err := tx.q.QueryRowContext(ctx, `SELECT COUNT(*) FROM operators`).Scan(&n)
	return n > 0, err
}

// AddOperator keeps an operator.
func (tx *Tx) AddOperator(ctx context.Context, o *Operator) error {
	o.ID = newID("op")
	_, err := tx.q.ExecContext(ctx, `INSERT INTO operators VALUES (?, ?, ?, ?, ?)`, o.ID, o.Name, o.Role, o.Password, millis(tx.s.now()))
	return constraint("operator", err)
}

// OperatorByName finds an operator; capitals do not matter.
func (tx *Tx) OperatorByName(ctx context.Context, name string) (o Operator, err error) {
	err = tx.q.QueryRowContext(ctx, `SELECT id, name, role, password FROM operators WHERE name = ?`, name).Scan(&o.ID, &o.Name, &o.Role, &o.Password)
	if errors.Is(err, sql.ErrNoRows) {
		err = &NotFoundError{"operator", name}
	}
	return o, err
}

func bearerHash(bearer string) []byte {
	h := sha256.Sum256([]byte(bearer)) // the bearer has 256 random bits: no salt is needed
	return h[:]
}

// AddSession keeps a session under the hash of its bearer, and drops those that ended.
func (tx *Tx) AddSession(ctx context.Context, bearer string, s Session) error {
	now := millis(tx.s.now())
	if _, err := tx.q.ExecContext(ctx, `DELETE FROM sessions WHERE expires < ?`, now); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	_, err := tx.q.ExecContext(ctx, `INSERT INTO sessions VALUES (?, ?, ?, ?, ?)`, bearerHash(bearer), s.Operator.ID, s.Kind, now, millis(s.Expires))
	return err
}

// Session finds the session of a bearer that has not ended.
func (tx *Tx) Session(ctx context.Context, bearer string) (s Session, err error) {
	var expires int64
	err = tx.q.QueryRowContext(ctx, `SELECT o.id, o.name, o.role, s.kind, s.expires FROM sessions s JOIN operators o ON o.id = s.operator_id WHERE s.hash = ? AND s.expires > ?`,
		bearerHash(bearer), millis(tx.s.now())).Scan(&s.Operator.ID, &s.Operator.Name, &s.Operator.Role, &s.Kind, &expires)
	if errors.Is(err, sql.ErrNoRows) {
		err = &NotFoundError{"session", ""}
	}
	s.Expires = fromMillis(expires)
	return s, err
}

// EndSession ends the session of a bearer.
func (tx *Tx) EndSession(ctx context.Context, bearer string) error {
	_, err := tx.q.ExecContext(ctx, `DELETE FROM sessions WHERE hash = ?`, bearerHash(bearer))
	return err
}
