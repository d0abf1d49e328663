package store

import (
	"context"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"

	"golang.org/x/crypto/chacha20poly1305"
)

var _ = step(37, `
-- The keys of secrets and digests, sealed with the master key, once that was changed.
ALTER TABLE seal ADD COLUMN wrapped BLOB;
`, `ALTER TABLE seal DROP COLUMN wrapped;`)

var _ = step(44, `
-- The master key may be sealed by a token: salt is what the token opens then.
CREATE TABLE seal_next (
    only    INTEGER PRIMARY KEY CHECK (only = 1),
    kind    TEXT NOT NULL CHECK (kind IN ('file', 'passphrase', 'token')),
    salt    BLOB NOT NULL,
    proof   BLOB NOT NULL,
    wrapped BLOB -- the keys below the master key, once that was changed
);
INSERT INTO seal_next SELECT only, kind, salt, proof, wrapped FROM seal;
DROP TABLE seal;
ALTER TABLE seal_next RENAME TO seal;
`, `
CREATE TABLE seal_next (
    only    INTEGER PRIMARY KEY CHECK (only = 1),
    kind    TEXT NOT NULL CHECK (kind IN ('file', 'passphrase')),
    salt    BLOB NOT NULL,
    proof   BLOB NOT NULL,
    wrapped BLOB
);
INSERT INTO seal_next SELECT only, kind, salt, proof, wrapped FROM seal;
DROP TABLE seal;
ALTER TABLE seal_next RENAME TO seal;
`)

// wrapping is the cipher by which a master key seals the keys below it.
func wrapping(master []byte) (cipher.AEAD, error) {
	key, err := hkdf.Key(sha256.New, master, nil, "wardicon key encryption v1",
		chacha20poly1305.KeySize)
	if err != nil {
		return nil, err
	}
	return chacha20poly1305.NewX(key)
}

const wrappedFor = "keys below the master key"

func wrap(master []byte, k sealKeys) ([]byte, error) {
	aead, err := wrapping(master)
	if err != nil {
		return nil, err
	}
	nonce := make([]byte, aead.NonceSize())
	_, _ = rand.Read(nonce) // never fails (crypto/rand)
	return aead.Seal(nonce, nonce, append(append([]byte{}, k.records...), k.root...),
		[]byte(wrappedFor)), nil
}

func unwrap(master, wrapped []byte) (k sealKeys, err error) {
	aead, err := wrapping(master)
	if err != nil {
		return k, err
	}
	if len(wrapped) < aead.NonceSize() {
		return k, errKey
	}
	plain, err := aead.Open(nil, wrapped[:aead.NonceSize()], wrapped[aead.NonceSize():],
		[]byte(wrappedFor))
	if err != nil || len(plain) != 2*chacha20poly1305.KeySize {
		return k, errKey
	}
	k.records, k.root = plain[:chacha20poly1305.KeySize], plain[chacha20poly1305.KeySize:]
	return k, nil
}

// ChangeKey seals every secret with new keys below another master key, in one transaction, and
// tells how many. A key file is made; one that is there already is refused. Digests stay as they
// are: of links and tokens, which nobody could make again.
func (s *Store) ChangeKey(ctx context.Context, next Key) (sealed int, err error) {
	kind, salt, master := next.kind(), make([]byte, 16), make([]byte, 32)
	_, _ = rand.Read(salt)
	_, _ = rand.Read(master)
	switch kind {
	case kindPassphrase:
		master = ofPassphrase(next.Passphrase, salt)
	case kindToken:
		if salt, err = next.Token.Wrap(master); err != nil {
			return 0, err
		}
	default:
		if _, err := os.Stat(next.File); err == nil {
			return 0, fmt.Errorf("key file %s: there is one already; name one that is not there",
				next.File)
		}
		// It is there before the data needs it.
		if err := makeKeyFile(next.File, hex.EncodeToString(master)+"\n"); err != nil {
			return 0, err
		}
		defer func() {
			if err != nil {
				err = errors.Join(err, os.Remove(next.File))
			}
		}()
	}
	k := sealKeys{records: make([]byte, chacha20poly1305.KeySize), root: s.seal.keys.root}
	_, _ = rand.Read(k.records)
	fresh, err := newSealer(k)
	if err != nil {
		return 0, err
	}
	wrapped, err := wrap(master, k)
	if err != nil {
		return 0, err
	}
	err = s.Write(ctx, func(tx *Tx) error {
		// Answers that are kept for a day are not worth to be sealed again.
		if _, err := tx.q.ExecContext(ctx, `DELETE FROM replays`); err != nil {
			return err
		}
		type row struct{ owner, field string }
		list, err := collect(ctx, tx, func(scan scanner) (r row, err error) {
			return r, scan(&r.owner, &r.field)
		}, `SELECT owner, field FROM secrets`)
		if err != nil {
			return err
		}
		for _, r := range list {
			plain, err := tx.secret(ctx, r.owner, r.field)
			if err != nil {
				return err
			}
			if _, err := tx.q.ExecContext(ctx, `UPDATE secrets SET sealed = ? WHERE owner = ? AND
				field = ?`, fresh.seal(r.owner, r.field, plain), r.owner, r.field); err != nil {
				return err
			}
		}
		sealed = len(list)
		_, err = tx.q.ExecContext(ctx, `UPDATE seal SET kind = ?, salt = ?, proof = ?, wrapped = ?`,
			kind, salt, fresh.seal("seal", "proof", []byte(proofText)), wrapped)
		return err
	})
	if err == nil {
		s.seal = fresh
	}
	return sealed, err
}
