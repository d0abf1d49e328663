package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strconv"

	"wardicon/core/secret"
	"wardicon/core/vpn"
)

const signerOwner = "signer:1"

// Signer reads what signs parcels, with its key; nil where nothing does.
func (tx *Tx) Signer(ctx context.Context) (*vpn.Signer, error) {
	var s vpn.Signer
	var since int64
	err := tx.q.QueryRowContext(ctx, `SELECT certificate, authority, since FROM signer`).
		Scan(&s.Certificate, &s.Authority, &since)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	key, err := tx.secret(ctx, signerOwner, "key")
	if err != nil {
		return nil, err
	}
	text := secret.New(string(key))
	s.Key, s.Since = &text, fromMillis(since)
	return &s, nil
}

// SignerMark stands for what signs parcels; it is empty where nothing does.
func (tx *Tx) SignerMark(ctx context.Context) (mark string, err error) {
	return shelved(tx, "signer", func() (mark string, err error) {
		err = tx.q.QueryRowContext(ctx, `SELECT certificate FROM signer`).Scan(&mark)
		if errors.Is(err, sql.ErrNoRows) {
			return "", nil
		}
		return mark, err
	})
}

// SignerVersion counts how often what signs parcels was changed, from one on.
func (tx *Tx) SignerVersion(ctx context.Context) (int, error) {
	text, err := tx.Remembered(ctx, "signer version")
	if err != nil || text == "" {
		return 1, err
	}
	return strconv.Atoi(text)
}

// PutSigner keeps what signs parcels in the place of what did; nil takes it away.
func (tx *Tx) PutSigner(ctx context.Context, s *vpn.Signer) error {
	version, err := tx.SignerVersion(ctx)
	if err == nil {
		err = tx.Remember(ctx, "signer version", strconv.Itoa(version+1))
	}
	if err == nil {
		_, err = tx.q.ExecContext(ctx, `DELETE FROM signer`)
	}
	if err == nil {
		_, err = tx.q.ExecContext(ctx, `DELETE FROM secrets WHERE owner = ?`, signerOwner)
	}
	if err != nil || s == nil {
		return err
	}
	if _, err := tx.q.ExecContext(
		ctx,
		`INSERT INTO signer VALUES (1, ?, ?, ?)`,
		s.Certificate,
		s.Authority,
		millis(s.Since),
	); err != nil {
		return err
	}
	return tx.putSecret(ctx, signerOwner, "key", []byte(s.Key.Reveal()))
}
