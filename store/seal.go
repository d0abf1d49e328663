package store

import (
	"bytes"
	"context"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"wardicon/core/vpn"

	"golang.org/x/crypto/argon2"
	"golang.org/x/crypto/chacha20poly1305"
)

// Key says where the master key comes from: a file, made at the first start, a passphrase, or the
// data itself, sealed by a token.
type Key struct {
	File       string
	Passphrase []byte // used where it is not empty
	Token      Wrapper
}

// Wrapper seals a few octets so that only a token opens them again.
type Wrapper interface {
	Wrap(plain []byte) ([]byte, error)
	Unwrap(sealed []byte) ([]byte, error)
}

// kind names where a key comes from.
func (k Key) kind() string {
	switch {
	case k.Token != nil:
		return kindToken
	case len(k.Passphrase) > 0:
		return kindPassphrase
	}
	return kindFile
}

// sealer seals secrets with XChaCha20-Poly1305 (draft-irtf-cfrg-xchacha) under keys
// derived from the master key by HKDF-SHA256 (RFC 5869).
type sealer struct {
	aead   cipher.AEAD
	keys   sealKeys
	digest []byte
	marks  []byte
	proofs []byte
	fresh  bool // there was no data before
	old    bool // the data was sealed by a release that wrote no digests of rows
}

const (
	kindFile       = "file"
	kindPassphrase = "passphrase"
	kindToken      = "token"
	proofText      = "wardicon master key, rows are proven"
	oldProofText   = "wardicon master key"
)

var errKey = errors.New("this is not the key that the data was sealed with")

// sealKeys are what everything is sealed and signed with: the key of secrets, which is another one
// after each change of the master key, and the root of the keys of digests, which stays, because
// nobody can make the digests of links and tokens again.
type sealKeys struct{ records, root []byte }

// firstKeys are those of a data folder whose master key was never changed.
func firstKeys(master []byte) (k sealKeys, err error) {
	k.root = master
	k.records, err = hkdf.Key(sha256.New, master, nil, "wardicon records v1",
		chacha20poly1305.KeySize)
	return k, err
}

func newSealer(k sealKeys) (*sealer, error) {
	records, master := k.records, k.root
	digest, err := hkdf.Key(sha256.New, master, nil, "wardicon digests v1", sha256.Size)
	if err != nil {
		return nil, err
	}
	marks, err := hkdf.Key(sha256.New, master, nil, "wardicon marks v1", sha256.Size)
	if err != nil {
		return nil, err
	}
	proofs, err := hkdf.Key(sha256.New, master, nil, "wardicon proofs v1", sha256.Size)
	if err != nil {
		return nil, err
	}
	aead, err := chacha20poly1305.NewX(records)
	return &sealer{aead: aead, keys: k, digest: digest, marks: marks, proofs: proofs}, err
}

// seal binds the identity (owner and field) in as additional data, so that a sealed
// value moved to another record does not open.
func (s *sealer) seal(owner, field string, plain []byte) []byte {
	nonce := make([]byte, s.aead.NonceSize(), s.aead.NonceSize()+len(plain)+s.aead.Overhead())
	_, _ = rand.Read(nonce) // never fails (crypto/rand)
	return s.aead.Seal(nonce, nonce, plain, []byte(owner+"\x00"+field))
}

func (s *sealer) open(owner, field string, sealed []byte) ([]byte, error) {
	if len(sealed) < s.aead.NonceSize() {
		return nil, &DamagedError{owner, field}
	}
	n := s.aead.NonceSize()
	plain, err := s.aead.Open(nil, sealed[:n], sealed[n:], []byte(owner+"\x00"+field))
	if err != nil {
		return nil, &DamagedError{owner, field}
	}
	return plain, nil
}

// DamagedError is the error for a stored value that does not open: the disk, or another program,
// has changed it or moved it to another record.
type DamagedError struct {
	Owner string // noun and identifier, such as account:ac-…
	Field string
}

// wholeRecord stands for a record that cannot be read at all.
const wholeRecord = "record"

func (e *DamagedError) Error() string {
	noun, id, _ := strings.Cut(e.Owner, ":")
	if e.Field == wholeRecord {
		return fmt.Sprintf(
			"the record of %s %s cannot be read: it was changed on the disk; change it with all "+
				"its fields, remove it, or restore it from a copy",
			noun,
			id,
		)
	}
	return fmt.Sprintf(
		"the sealed %s of %s %s does not open: it was changed on the disk, or moved; set it "+
			"again, or restore it from a copy",
		e.Field,
		noun,
		id,
	)
}

// Kind tells the kind of the error.
func (e *DamagedError) Kind() vpn.Kind { return vpn.KindDamaged }

// mac is a digest that nobody without the master key can make.
func (s *sealer) mac(data []byte) string {
	m := hmac.New(sha256.New, s.digest)
	m.Write(data)
	return hex.EncodeToString(m.Sum(nil))
}

// mark is a keyed digest by which equal secrets of records are found; nil for what is no
// secret of a record, such as a parcel's file.
func (s *sealer) mark(owner string, plain []byte) []byte {
	switch noun, _, _ := strings.Cut(owner, ":"); noun {
	case "account", "gateway", "device":
		m := hmac.New(sha256.New, s.marks)
		m.Write(plain)
		return m.Sum(nil)
	}
	return nil
}

// unlock finds the master key and proves that it is the one the data was sealed with.
func unlock(ctx context.Context, db *sql.DB, key Key) (*sealer, error) {
	var kind string
	var salt, proof, wrapped []byte
	err := db.QueryRowContext(ctx, `SELECT kind, salt, proof, wrapped FROM seal`).
		Scan(&kind, &salt, &proof, &wrapped)
	first := errors.Is(err, sql.ErrNoRows)
	if err != nil && !first {
		return nil, err
	}
	wanted := key.kind()
	var master []byte
	if first {
		kind, salt = wanted, make([]byte, 16)
		_, _ = rand.Read(salt)
	} else if kind != wanted {
		return nil, fmt.Errorf(
			"the data was sealed with a key from a %s, not from a %s",
			kind,
			wanted,
		)
	}
	switch {
	case kind == kindPassphrase:
		master, err = ofPassphrase(key.Passphrase, salt), nil
	case kind == kindToken && first:
		master = make([]byte, 32)
		_, _ = rand.Read(master)
		salt, err = key.Token.Wrap(master) // in its place: a random key needs none
	case kind == kindToken:
		master, err = key.Token.Unwrap(salt)
	default:
		master, err = keyFile(key.File, first)
	}
	if err != nil {
		return nil, err
	}
	k, err := firstKeys(master)
	if err == nil && len(wrapped) > 0 {
		k, err = unwrap(master, wrapped)
	}
	if err != nil {
		return nil, err
	}
	s, err := newSealer(k)
	if err != nil {
		return nil, err
	}
	if first {
		_, err = db.ExecContext(
			ctx,
			`INSERT INTO seal (only, kind, salt, proof) VALUES (1, ?, ?, ?)`,
			kind,
			salt,
			s.seal("seal", "proof", []byte(proofText)),
		)
		s.fresh = true
		return s, err
	}
	plain, err := s.open("seal", "proof", proof)
	s.old = err == nil && bytes.Equal(plain, []byte(oldProofText))
	if err != nil || !s.old && !bytes.Equal(plain, []byte(proofText)) {
		return nil, errKey
	}
	return s, nil
}

// ofPassphrase is the master key of a passphrase (RFC 9106 §4, second choice).
func ofPassphrase(passphrase, salt []byte) []byte {
	return argon2.IDKey(passphrase, salt, 3, 64<<10, 2, 32)
}

// keyFile reads the master key, or makes it at the first start.
func keyFile(path string, first bool) ([]byte, error) {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist) && first:
		master := make([]byte, 32)
		_, _ = rand.Read(master)
		return master, makeKeyFile(path, hex.EncodeToString(master)+"\n")
	case err != nil:
		return nil, fmt.Errorf("key file: %w; without it the secrets cannot be opened", err)
	case info.Mode().Perm()&0o077 != 0:
		return nil, fmt.Errorf(
			"key file %s: found mode %04o, expected 0600; run chmod 600 on it",
			path,
			info.Mode().Perm(),
		)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("key file: %w", err)
	}
	master, err := hex.DecodeString(string(bytes.TrimSpace(text)))
	if err != nil || len(master) != 32 {
		return nil, fmt.Errorf("key file %s: expected 64 hexadecimal digits", path)
	}
	return master, nil
}

// makeKeyFile writes a key file whole or not at all, also when the process is killed.
func makeKeyFile(path, text string) error {
	f, err := os.OpenFile(path+".new", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return fmt.Errorf("key file: %w", err)
	}
	_, err = f.WriteString(text)
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("key file: %w", err)
	}
	return os.Rename(path+".new", path)
}

// Salt is made of some words, always the same, and nobody without the master key can make it: 16
// characters that SHA-512 crypt takes.
func (tx *Tx) Salt(words ...string) string {
	return tx.s.seal.mac([]byte("salt\x00" + strings.Join(words, "\x00")))[:16]
}
