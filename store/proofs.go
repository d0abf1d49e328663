package store

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
)

// TamperedError is the error for a row that was not written by the service.
type TamperedError struct{ Noun, ID string }

func (e *TamperedError) Error() string {
	return fmt.Sprintf(
		"the %s %s was changed in the database, and not by this service: it does not count",
		e.Noun,
		e.ID,
	)
}

// prove is a keyed digest over parts, told apart by what they are for (RFC 2104). Nobody
// without the master key can make one.
func (s *sealer) prove(purpose string, parts ...any) []byte {
	m := hmac.New(sha256.New, s.proofs)
	field := func(data []byte) {
		m.Write(binary.BigEndian.AppendUint64(nil, uint64(len(data))))
		m.Write(data)
	}
	field([]byte(purpose))
	for _, p := range parts {
		if data, ok := p.([]byte); ok {
			field(data)
		} else {
			field(fmt.Append(nil, p))
		}
	}
	return m.Sum(nil)
}

// Prove is a keyed digest of what leaves the service and comes back, such as the mark of a known
// device.
func (s *Store) Prove(
	purpose string,
	parts ...any,
) []byte {
	return s.seal.prove(purpose, parts...)
}

// proven are the rows that carry a digest: the columns that it covers, in their order.
var proven = []struct{ noun, table, key, columns string }{
	{
		"operator",
		"operators",
		"id",
		"id, name, role, password, disabled, must_change, factor, created",
	},
	{
		"session",
		"sessions",
		"id",
		"hash, id, operator_id, kind, created, expires, name, role, origin, client, addresses, " +
			"confirmed",
	},
	{"handover", "handovers", "id", "id, parcel_id, link, passcode, max_uses, operator, created"},
	{"visit", "visits", "hash", "hash, handover_id, expires"},
	{"operator link", "operator_links", "operator_id", "operator_id, issuer, subject"},
	{"passkey", "passkeys", "id", "id, operator_id, credential, body, created"},
	{"confinement", "confinements", "operator_id", "operator_id, people, gateways"},
}

// Places in proven.
const (
	provenOperator = iota
	provenSession
	provenHandover
	provenVisit
	provenLink
	provenPasskey
	provenConfinement
)

// digest reads the columns of a row and works its digest out; what is there beside it.
func (tx *Tx) digest(ctx context.Context, which int, key any) (want, found []byte, err error) {
	p := proven[which]
	n := 1 + bytes.Count([]byte(p.columns), []byte(","))
	values := make([]any, n, n+1)
	into := make([]any, n, n+1)
	for i := range values {
		into[i] = &values[i]
	}
	if err := tx.q.QueryRowContext(ctx, `SELECT `+p.columns+`, proof FROM `+p.table+` WHERE `+p.key+
		` = ?`, key).
		Scan(append(into, &found)...); err != nil {
		return nil, nil, fmt.Errorf("database: %w", err)
	}
	return tx.s.seal.prove(p.noun, values...), found, nil
}

// prove puts the digest of a row right after the service has written it.
func (tx *Tx) prove(ctx context.Context, which int, key any) error {
	want, _, err := tx.digest(ctx, which, key)
	if err != nil {
		return err
	}
	p := proven[which]
	_, err = tx.q.ExecContext(
		ctx,
		`UPDATE `+p.table+` SET proof = ? WHERE `+p.key+` = ?`,
		want,
		key,
	)
	return err
}

// untouched holds that a row is as the service has written it.
func (tx *Tx) untouched(ctx context.Context, which int, key any, id string) error {
	want, found, err := tx.digest(ctx, which, key)
	if err == nil && !hmac.Equal(want, found) {
		return &TamperedError{proven[which].noun, id}
	}
	return err
}

// adopt gives data of a release that wrote no digests what it lacks, once: when the master
// key opens the old proof. Data that was sealed with the new one is never signed again.
func (s *Store) adopt(ctx context.Context) error {
	if s.seal.fresh {
		return s.Write(ctx, func(tx *Tx) error { return tx.putHead(ctx, 0, nil) })
	}
	if !s.seal.old {
		return nil
	}
	if err := s.chainOld(ctx); err != nil {
		return err
	}
	return s.Write(ctx, func(tx *Tx) error {
		for which, p := range proven {
			keys, err := collect(ctx, tx, func(scan scanner) (key any, err error) {
				err = scan(&key)
				return key, err
			}, `SELECT `+p.key+` FROM `+p.table)
			if err != nil {
				return err
			}
			for _, key := range keys {
				if err := tx.prove(ctx, which, key); err != nil {
					return err
				}
			}
		}
		var lines int64
		var chain []byte
		if err := tx.q.QueryRowContext(ctx,
			`SELECT COUNT(*), COALESCE((SELECT chain FROM audit ORDER BY seq DESC LIMIT 1), x'')
				FROM audit`).
			Scan(&lines, &chain); err != nil {
			return fmt.Errorf("database: %w", err)
		}
		if err := tx.putHead(ctx, lines, chain); err != nil {
			return err
		}
		_, err := tx.q.ExecContext(
			ctx,
			`UPDATE seal SET proof = ?`,
			s.seal.seal("seal", "proof", []byte(proofText)),
		)
		return err
	})
}

// head is how many lines the audit log has, and its last link, as the service has written them.
func (tx *Tx) head(ctx context.Context) (lines int64, chain []byte, sound bool, err error) {
	var proof []byte
	err = tx.q.QueryRowContext(ctx, `SELECT lines, chain, proof FROM audit_head`).
		Scan(&lines, &chain, &proof)
	if err != nil {
		return 0, nil, false, err
	}
	return lines, chain, hmac.Equal(proof, tx.s.seal.prove("audit head", lines, chain)), nil
}

func (tx *Tx) putHead(ctx context.Context, lines int64, chain []byte) error {
	if chain == nil {
		chain = []byte{}
	}
	_, err := tx.q.ExecContext(
		ctx,
		`INSERT INTO audit_head VALUES (1, ?, ?, ?) ON CONFLICT DO UPDATE SET lines =
			excluded.lines, chain = excluded.chain, proof = excluded.proof`,
		lines,
		chain,
		tx.s.seal.prove("audit head", lines, chain),
	)
	return err
}
