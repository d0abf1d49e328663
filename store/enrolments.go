package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"wardicon/api"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

var _ = step(34, `
ALTER TABLE organisation ADD COLUMN enrol TEXT NOT NULL DEFAULT '';
-- Secrets with which devices may ask for a certificate, each for one key.
CREATE TABLE enrolments (
    id           TEXT PRIMARY KEY,
    device_id    TEXT NOT NULL REFERENCES devices ON DELETE CASCADE,
    authority_id TEXT NOT NULL REFERENCES authorities ON DELETE CASCADE,
    secret       TEXT NOT NULL UNIQUE, -- keyed digest
    expires      INTEGER NOT NULL,
    operator     TEXT NOT NULL,
    created      INTEGER NOT NULL,
    used         INTEGER,
    key          BLOB, -- digest of the public key that it was used for
    serial       TEXT
);
CREATE INDEX enrolments_device ON enrolments (device_id, created DESC);
CREATE INDEX enrolments_expires ON enrolments (expires);
-- Who opens the messages of devices for an authority.
CREATE TABLE registrars (
    authority_id TEXT PRIMARY KEY REFERENCES authorities ON DELETE CASCADE,
    certificate  TEXT NOT NULL,
    expires      INTEGER NOT NULL
);
`, `
DROP TABLE registrars;
DROP TABLE enrolments;
ALTER TABLE organisation DROP COLUMN enrol;
`)

// Enrolment is a secret with which a device may ask for a certificate.
type Enrolment struct {
	api.Enrolment
	Key []byte // digest of the public key that it was used for
}

// EnrolmentDigest is what is kept of an enrolment secret.
func (s *Store) EnrolmentDigest(given secret.Text) string {
	return s.seal.mac([]byte("enrolment\x00" + given.Reveal()))
}

// DeviceSecret is the enrolment secret in a device's files for one profile at one gateway: the same
// as long as the generation is. Each has the device make a key, since each is for one certificate.
func (tx *Tx) DeviceSecret(p vpn.Profile, authorityID string, generation int) secret.Text {
	made := tx.s.seal.mac([]byte(fmt.Sprintf("device secret\x00%s\x00%s\x00%s\x00%s\x00%d",
		p.DeviceID, p.ID, p.GatewayID, authorityID, generation)))
	return secret.New(made[:32])
}

// PutEnrolment keeps one for the secret in a device's files: a new one, or the same for longer
// where it was not used.
func (tx *Tx) PutEnrolment(ctx context.Context, e *api.Enrolment, digest string) error {
	known, err := tx.EnrolmentBy(ctx, digest)
	switch {
	case err != nil:
		return err
	case known == nil:
		return tx.AddEnrolment(ctx, e, digest)
	}
	_, err = tx.q.ExecContext(
		ctx,
		`UPDATE enrolments SET expires = ? WHERE id = ? AND used IS NULL`,
		millis(e.Expires),
		known.ID,
	)
	return err
}

// AddEnrolment keeps one, and gives it its identity.
func (tx *Tx) AddEnrolment(ctx context.Context, e *api.Enrolment, digest string) error {
	e.ID, e.Created = newID("en"), tx.s.now().UTC().Truncate(time.Millisecond)
	_, err := tx.q.ExecContext(ctx, `INSERT INTO enrolments (id, device_id, authority_id, secret,
		expires, operator, created) VALUES (?, ?, ?, ?, ?, ?, ?)`, e.ID, e.DeviceID, e.AuthorityID,
		digest, millis(e.Expires), e.Operator, millis(e.Created))
	return constraint("enrolment", err)
}

const enrolmentColumns = `SELECT e.id, e.device_id, d.name, e.authority_id, a.name, e.expires,
	e.operator, e.created, e.used, COALESCE(e.serial, ''), e.key FROM enrolments e
	JOIN devices d ON d.id = e.device_id JOIN authorities a ON a.id = e.authority_id `

func scanEnrolment(scan scanner) (e Enrolment, err error) {
	var expires, created int64
	var used sql.NullInt64
	if err = scan(&e.ID, &e.DeviceID, &e.Device, &e.AuthorityID, &e.Authority, &expires,
		&e.Operator, &created, &used, &e.Serial, &e.Key); err != nil {
		return e, err
	}
	e.Expires, e.Created = fromMillis(expires), fromMillis(created)
	if used.Valid {
		at := fromMillis(used.Int64)
		e.Used = &at
	}
	return e, nil
}

// Enrolments lists those of a device, the newest first.
func (tx *Tx) Enrolments(ctx context.Context, deviceID string) ([]api.Enrolment, error) {
	return collect(ctx, tx, func(scan scanner) (api.Enrolment, error) {
		e, err := scanEnrolment(scan)
		return e.Enrolment, err
	}, enrolmentColumns+`WHERE e.device_id = ? ORDER BY e.created DESC, e.id LIMIT 100`, deviceID)
}

// EnrolmentBy finds the one of a secret; nil where there is none.
func (tx *Tx) EnrolmentBy(ctx context.Context, digest string) (*Enrolment, error) {
	e, err := scanEnrolment(
		tx.q.QueryRowContext(ctx, enrolmentColumns+`WHERE e.secret = ?`, digest).
			Scan,
	)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	return &e, nil
}

// UseEnrolment notes for which key one was used; false where it was used meanwhile.
func (tx *Tx) UseEnrolment(
	ctx context.Context, id string, key []byte, serial string,
) (bool, error) {
	return tx.one(ctx, `UPDATE enrolments SET used = ?, key = ?, serial = ? WHERE id = ? AND
		used IS NULL`, millis(tx.s.now()), key, serial, id)
}

// EndEnrolment takes one away that was not used yet.
func (tx *Tx) EndEnrolment(ctx context.Context, id string) (deviceID string, err error) {
	err = tx.q.QueryRowContext(ctx, `DELETE FROM enrolments WHERE id = ? AND used IS NULL
		RETURNING device_id`, id).Scan(&deviceID)
	if errors.Is(err, sql.ErrNoRows) {
		return "", &NotFoundError{"enrolment that is not used", id}
	}
	return deviceID, err
}

// SweepEnrolments removes what was not used in its time and what was used long ago.
func (tx *Tx) SweepEnrolments(ctx context.Context, before time.Time) error {
	_, err := tx.q.ExecContext(ctx, `DELETE FROM enrolments WHERE expires < ?`, millis(before))
	return err
}

func registrarOwner(authorityID string) string { return "registrar:" + authorityID }

// Registrar reads who opens the messages of devices for an authority; empty where nobody does yet.
func (tx *Tx) Registrar(ctx context.Context, authorityID string) (
	certificate string, key secret.Text, err error,
) {
	err = tx.q.QueryRowContext(ctx, `SELECT certificate FROM registrars WHERE authority_id = ?`,
		authorityID).Scan(&certificate)
	if errors.Is(err, sql.ErrNoRows) {
		return "", key, nil
	}
	if err != nil {
		return "", key, fmt.Errorf("database: %w", err)
	}
	plain, err := tx.secret(ctx, registrarOwner(authorityID), "key")
	return certificate, secret.New(string(plain)), err
}

// PutRegistrar keeps who opens them, in the place of an earlier one.
func (tx *Tx) PutRegistrar(
	ctx context.Context, authorityID, certificate string, expires time.Time, key secret.Text,
) error {
	if _, err := tx.q.ExecContext(ctx, `INSERT INTO registrars VALUES (?, ?, ?) ON CONFLICT DO
		UPDATE SET certificate = excluded.certificate, expires = excluded.expires`,
		authorityID, certificate, millis(expires)); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	return tx.putSecret(ctx, registrarOwner(authorityID), "key", []byte(key.Reveal()))
}
