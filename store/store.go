// Package store keeps the records in SQLite. Whatever a call accepted is on disk when
// the call returns; secrets are sealed before they come near the database.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the driver "sqlite"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is the opened database. Reads run side by side; writes go one at a time.
type Store struct {
	read, write *sql.DB
	seal        *sealer
	now         func() time.Time
}

// File is the name of the database in the data folder.
const File = "wardicon.db"

// Open opens the database in a folder, brings its tables up to date and unlocks it.
// The folder is made where it is missing, for its owner alone.
func Open(ctx context.Context, dir string, key Key, now func() time.Time) (*Store, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("data folder: %w", err)
	}
	if err := private(dir); err != nil {
		return nil, err
	}
	path := filepath.Join(dir, File)
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600) // its WAL takes this mode over
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	if err := f.Close(); err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	write, err := open(path, 1, "foreign_keys(1)", "busy_timeout(10000)", "journal_mode(WAL)", "synchronous(FULL)", "secure_delete(1)")
	if err != nil {
		return nil, err
	}
	read, err := open(path, 8, "busy_timeout(10000)", "query_only(1)")
	if err != nil {
		return nil, errors.Join(err, write.Close())
	}
	s := &Store{read: read, write: write, now: now}
	if err := s.migrate(ctx); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	if key.File == "" {
		key.File = filepath.Join(dir, "master.key")
	}
	if s.seal, err = unlock(ctx, write, key); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	if err := errors.Join(s.markAll(ctx), s.fillEnds(ctx), s.adopt(ctx), s.keepAudit(ctx)); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

func open(path string, connections int, pragmas ...string) (*sql.DB, error) {
	q := url.Values{"_txlock": {"immediate"}, "_pragma": pragmas}
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+"?"+q.Encode())
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	db.SetMaxOpenConns(connections)
	return db, nil
}

func (s *Store) migrate(ctx context.Context) error {
	dir, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, s.write, dir)
	if err != nil {
		return fmt.Errorf("migrations: %w", err)
	}
	if _, err := provider.Up(ctx); err != nil {
		return fmt.Errorf("migrations: %w", err)
	}
	return nil
}

// Close closes the database.
func (s *Store) Close() error { return errors.Join(s.read.Close(), s.write.Close()) }

// Ready tells whether the database answers.
func (s *Store) Ready(ctx context.Context) error {
	var one int
	return s.read.QueryRowContext(ctx, `SELECT only FROM seal`).Scan(&one)
}

// Digest is a keyed digest: equal for equal data, and nobody without the master key
// can try guesses against it.
func (s *Store) Digest(data []byte) string { return s.seal.mac(data) }

// Backup writes a copy of the database to a new file, while others read and write.
// Secrets stay sealed in it.
func Backup(ctx context.Context, dir, to string) (err error) {
	if _, err := os.Stat(filepath.Join(dir, File)); err != nil {
		return fmt.Errorf("backup: %w", err)
	}
	f, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return fmt.Errorf("backup: %w", err)
	}
	if err := f.Close(); err != nil {
		return fmt.Errorf("backup: %w", err)
	}
	db, err := open(filepath.Join(dir, File), 1, "busy_timeout(10000)")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	if _, err = db.ExecContext(ctx, `VACUUM INTO ?`, to); err != nil {
		return fmt.Errorf("backup: %w", err)
	}
	return nil
}

// querier is a database or a transaction.
type querier interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
}

// Tx is a write transaction, or the store seen for reading.
type Tx struct {
	s *Store
	q querier
}

// Write runs a function in one transaction: all of it happens, or nothing.
func (s *Store) Write(ctx context.Context, do func(*Tx) error) error {
	tx, err := s.write.BeginTx(ctx, nil)
	if err != nil {
		return fmt.Errorf("database: %w", err)
	}
	if err := do(&Tx{s, tx}); err != nil {
		return errors.Join(err, ignoreDone(tx.Rollback()))
	}
	if err := tx.Commit(); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	return nil
}

func ignoreDone(err error) error {
	if errors.Is(err, sql.ErrTxDone) {
		return nil
	}
	return err
}

// Read is the store for reading, outside any transaction.
func (s *Store) Read() *Tx { return &Tx{s, s.read} }

// NotFoundError says that there is no such record.
type NotFoundError struct{ Noun, ID string }

func (e *NotFoundError) Error() string { return fmt.Sprintf("there is no %s %s", e.Noun, e.ID) }

// ConflictError says that a record was changed since it was read.
type ConflictError struct {
	Noun, ID    string
	Found, Want int
}

func (e *ConflictError) Error() string {
	return fmt.Sprintf("%s %s was changed meanwhile: it has version %d, you saw %d; read it again", e.Noun, e.ID, e.Found, e.Want)
}

// TakenError says that a unique value is in use already.
type TakenError struct{ Noun, Column string }

func (e *TakenError) Error() string {
	return fmt.Sprintf("another %s has this %s already", e.Noun, e.Column)
}

// constraint turns SQLite's words on a unique column into a TakenError.
func constraint(noun string, err error) error {
	if err == nil {
		return nil
	}
	text := err.Error()
	if _, columns, ok := strings.Cut(text, "UNIQUE constraint failed: "); ok {
		_, column, _ := strings.Cut(columns, ".")
		column, _, _ = strings.Cut(column, " (")
		column, _, _ = strings.Cut(column, ",")
		return &TakenError{noun, column}
	}
	return fmt.Errorf("database: %s: %w", noun, err)
}

// private holds that nobody else can look into the data folder. One with nothing in it but data is closed.
func private(dir string) error {
	info, err := os.Stat(dir)
	if err != nil {
		return fmt.Errorf("data folder: %w", err)
	}
	if info.Mode().Perm()&0o077 == 0 {
		return nil
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return fmt.Errorf("data folder: %w", err)
	}
	for _, e := range entries {
		if !strings.HasPrefix(e.Name(), File) && !strings.HasPrefix(e.Name(), "master.key") {
			return fmt.Errorf("data folder %s: found mode %04o, expected 0700, and other files in it (%s); run chmod 700 on it, or choose a folder of its own", dir, info.Mode().Perm(), e.Name())
		}
	}
	if err := os.Chmod(dir, 0o700); err != nil {
		return fmt.Errorf("data folder %s: found mode %04o, expected 0700: %w", dir, info.Mode().Perm(), err)
	}
	return nil
}
