package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"time"

	"wardicon/api"
)

// Session is an open session with the operator that it belongs to.
type Session struct {
	api.Session
	Operator  api.Operator
	Device    string    // the mark by which the device is known again; only where it was just made
	Confirmed time.Time // when whoever uses it has last proven who they are
}

func bearerHash(bearer string) []byte {
	h := sha256.Sum256([]byte(bearer)) // the bearer has 256 random bits: no salt is needed
	return h[:]
}

// AddSession keeps a session under the hash of its bearer, and drops those that ended.
func (tx *Tx) AddSession(ctx context.Context, bearer string, s *Session) error {
	now := millis(tx.s.now())
	if _, err := tx.q.ExecContext(ctx, `DELETE FROM sessions WHERE expires < ?`, now); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	s.ID, s.Created = newID("se"), fromMillis(now)
	_, err := tx.q.ExecContext(
		ctx,
		`INSERT INTO sessions (hash, operator_id, kind, created, expires, id, name, role, origin,
			client, addresses) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		bearerHash(
			bearer,
		),
		s.Operator.ID,
		s.Kind,
		now,
		millis(s.Expires),
		s.ID,
		s.Name,
		s.Role,
		s.Origin,
		s.Client,
		strings.Join(s.Addresses, " "),
	)
	if err != nil {
		return fmt.Errorf("database: %w", err)
	}
	return tx.prove(ctx, provenSession, s.ID)
}

// ConfirmSession notes that whoever uses a session has just proven who they are.
func (tx *Tx) ConfirmSession(ctx context.Context, id string) error {
	if _, err := tx.q.ExecContext(
		ctx,
		`UPDATE sessions SET confirmed = ? WHERE id = ?`,
		millis(tx.s.now()),
		id,
	); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	return tx.prove(ctx, provenSession, id)
}

const sessionColumns = `SELECT s.id, o.name, s.kind, s.name, s.role, s.origin, s.client,
	s.addresses, s.confirmed, s.created, s.used, s.expires, s.operator_id FROM sessions s JOIN
	operators o ON o.id = s.operator_id `

func scanSession(scan func(...any) error) (s Session, operatorID string, err error) {
	var created, expires, confirmed int64
	var used sql.NullInt64
	var addresses string
	v := &s.Session
	if err := scan(
		&v.ID,
		&v.Operator,
		&v.Kind,
		&v.Name,
		&v.Role,
		&v.Origin,
		&v.Client,
		&addresses,
		&confirmed,
		&created,
		&used,
		&expires,
		&operatorID,
	); err != nil {
		return s, "", err
	}
	v.Created, v.Expires, s.Confirmed, v.Addresses = fromMillis(
		created,
	), fromMillis(
		expires,
	), fromMillis(
		confirmed,
	), strings.Fields(
		addresses,
	)
	if used.Valid {
		at := fromMillis(used.Int64)
		v.Used = &at
	}
	return s, operatorID, nil
}

// Session finds the session of a bearer that has not ended.
func (tx *Tx) Session(ctx context.Context, bearer string) (Session, error) {
	s, operatorID, err := scanSession(
		tx.q.QueryRowContext(
			ctx,
			sessionColumns+`WHERE s.hash = ? AND s.expires > ?`,
			bearerHash(bearer),
			millis(tx.s.now()),
		).Scan,
	)
	if errors.Is(err, sql.ErrNoRows) {
		return s, &NotFoundError{"session", ""}
	}
	if err != nil {
		return s, fmt.Errorf("database: %w", err)
	}
	if err := errors.Join(
		tx.untouched(ctx, provenSession, s.ID, s.ID),
		tx.untouched(ctx, provenOperator, operatorID, operatorID),
	); err != nil {
		return s, err
	}
	if s.Operator, err = Operators.Row(ctx, tx, operatorID); err != nil {
		return s, err
	}
	return s, tx.confinedSoundly(ctx, s.Operator)
}

// Sessions lists the open sessions, of one operator or of all, the newest first.
func (tx *Tx) Sessions(ctx context.Context, operatorID string) ([]api.Session, error) {
	return collect(ctx, tx, func(scan scanner) (api.Session, error) {
		s, _, err := scanSession(scan)
		return s.Session, err
	}, sessionColumns+`WHERE s.expires > ? AND (? = '' OR s.operator_id = ?) ORDER BY s.created
			DESC, s.id LIMIT 500`,
		millis(tx.s.now()),
		operatorID, operatorID)
}

// UseSession notes when a session was used, to the minute.
func (tx *Tx) UseSession(ctx context.Context, id string, at time.Time) error {
	_, err := tx.q.ExecContext(
		ctx,
		`UPDATE sessions SET used = ? WHERE id = ?`,
		millis(at.Truncate(time.Minute)),
		id,
	)
	return err
}

// EndSession ends a session, of one operator where one is named.
func (tx *Tx) EndSession(ctx context.Context, id, operatorID string) error {
	res, err := tx.q.ExecContext(
		ctx,
		`DELETE FROM sessions WHERE id = ? AND (? = '' OR operator_id = ?)`,
		id,
		operatorID,
		operatorID,
	)
	if err != nil {
		return fmt.Errorf("database: %w", err)
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, &NotFoundError{"session", id})
	}
	return nil
}

// EndSessions ends all sessions of an operator but one.
func (tx *Tx) EndSessions(ctx context.Context, operatorID, but string) error {
	_, err := tx.q.ExecContext(
		ctx,
		`DELETE FROM sessions WHERE operator_id = ? AND id <> ?`,
		operatorID,
		but,
	)
	return err
}
