package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"wardicon/core/view"
	"wardicon/core/vpn"
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

// Log adds a line to the audit log, in the same transaction as the deed itself.
func (tx *Tx) Log(ctx context.Context, d view.Deed) error {
	_, err := tx.q.ExecContext(ctx, `INSERT INTO audit (at, operator, action, noun, object, detail) VALUES (?, ?, ?, ?, ?, ?)`,
		millis(tx.s.now()), d.Operator, d.Action, d.Noun, d.Object, d.Detail)
	return err
}

// Audit lists the audit log, newest first.
func (tx *Tx) Audit(ctx context.Context, q Query) (page view.Page[view.Deed], err error) {
	page.Items = []view.Deed{}
	pattern := "%" + q.Search + "%"
	const where = ` FROM audit WHERE operator LIKE ?1 OR action LIKE ?1 OR noun LIKE ?1 OR object LIKE ?1 OR detail LIKE ?1`
	if err = tx.q.QueryRowContext(ctx, `SELECT COUNT(*)`+where, pattern).Scan(&page.Total); err != nil {
		return page, err
	}
	rows, err := tx.q.QueryContext(ctx, `SELECT seq, at, operator, action, noun, object, detail`+where+` ORDER BY seq DESC LIMIT ?2 OFFSET ?3`, pattern, q.Limit, q.Offset)
	if err != nil {
		return page, fmt.Errorf("database: %w", err)
	}
	for rows.Next() {
		var d view.Deed
		var at int64
		if err := rows.Scan(&d.Seq, &at, &d.Operator, &d.Action, &d.Noun, &d.Object, &d.Detail); err != nil {
			return page, errors.Join(err, rows.Close())
		}
		d.At = fromMillis(at)
		page.Items = append(page.Items, d)
	}
	return page, errors.Join(rows.Err(), rows.Close())
}

// Organisation reads who the service works for.
func (tx *Tx) Organisation(ctx context.Context) (o vpn.Organisation, err error) {
	err = tx.q.QueryRowContext(ctx, `SELECT version, name, domain FROM organisation`).Scan(&o.Version, &o.Name, &o.Domain)
	return o, err
}

// PutOrganisation replaces it.
func (tx *Tx) PutOrganisation(ctx context.Context, o *vpn.Organisation) error {
	return tx.q.QueryRowContext(ctx, `UPDATE organisation SET version = version + 1, name = ?, domain = ? RETURNING version`, o.Name, o.Domain).Scan(&o.Version)
}
