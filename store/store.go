// Package store keeps the records in SQLite. Whatever a call accepted is on disk when
// the call returns; secrets are sealed before they come near the database.
package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"wardicon/core/vpn"

	"modernc.org/sqlite"
	_ "modernc.org/sqlite" // the driver "sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// Store is the opened database. Reads run side by side; writes go one at a time.
type Store struct {
	dir   string
	path  string  // of the database
	held  *sql.DB // keeps others out of the folder
	read  *pool
	ready *sql.DB    // for nothing but Ready
	write *sql.DB    // one connection: the writer's, once the store is open
	lanes chan *lane // for snapshots
	seal  *sealer
	now   func() time.Time

	behind  *sql.DB // writes the log back
	left    atomic.Bool
	ended   func() // ends what does that
	writer  writer
	closed  atomic.Bool
	changed Changed // told what each transaction has changed; may be nil
}

// lanes is how many snapshots are read side by side.
const lanes = 4

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
	held, err := hold(ctx, dir)
	if err != nil {
		return nil, err
	}
	s := &Store{
		dir:    dir,
		held:   held,
		now:    now,
		lanes:  make(chan *lane, lanes),
		writer: writer{turn: make(chan struct{}, 1)},
	}
	if err := s.open(ctx, dir, key); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

func (s *Store) open(ctx context.Context, dir string, key Key) error {
	path := filepath.Join(dir, File)
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600) // its WAL takes this mode over
	if err != nil {
		return fmt.Errorf("database: %w", err)
	}
	if err := f.Close(); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	if s.write, err = open(
		path,
		1,
		"foreign_keys(1)",
		"busy_timeout(10000)",
		"journal_mode(WAL)",
		"synchronous(FULL)",
		"secure_delete(1)",
		"cache_size(-65536)",
		"wal_autocheckpoint(0)",
	); err != nil {
		return err
	}
	if err := s.migrate(ctx, dir); err != nil {
		return err
	}
	if key.File == "" {
		key.File = filepath.Join(dir, "master.key")
	}
	if s.seal, err = unlock(ctx, s.write, key); err != nil {
		return err
	}
	if err := s.connect(ctx, path); err != nil {
		return err
	}
	return errors.Join(
		s.markAll(ctx),
		s.fillExpiry(ctx),
		s.fillHeld(ctx),
		s.adopt(ctx),
		s.keepAudit(ctx),
	)
}

// connect opens what is worked on once the tables are as this release knows them.
func (s *Store) connect(ctx context.Context, path string) (err error) {
	if s.writer.lane, err = newLane(ctx, s.write); err != nil {
		return err
	}
	reading := []string{"busy_timeout(10000)", "query_only(1)", "cache_size(-8192)"}
	db, err := open(path, 8+lanes, reading...)
	if err != nil {
		return err
	}
	s.read = newPool(db)
	if s.ready, err = open(path, 1, reading...); err != nil {
		return err
	}
	// With the tables known, it answers at once also when all else is busy.
	if _, err := s.ready.ExecContext(ctx, `SELECT only FROM seal`); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	if s.behind, err = open(path, 1, "busy_timeout(10000)", "synchronous(FULL)"); err != nil {
		return err
	}
	s.path = path
	ctx, stop := context.WithCancel(context.WithoutCancel(ctx))
	done := make(chan struct{})
	s.ended = func() { stop(); <-done }
	go func() { defer close(done); s.checkpoints(ctx) }()
	for range lanes {
		s.lanes <- nil // opened when it is used first
	}
	return nil
}

func open(path string, connections int, pragmas ...string) (*sql.DB, error) {
	q := url.Values{"_pragma": pragmas}
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+"?"+q.Encode())
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	db.SetMaxOpenConns(connections)
	db.SetMaxIdleConns(connections)
	return db, nil
}

// Close closes the database; once is enough.
func (s *Store) Close() error {
	if s.closed.Swap(true) {
		return nil
	}
	var errs []error
	if s.ended != nil {
		s.ended()
	}
	if s.writer.lane != nil {
		// what is being written comes to its end; nothing comes after it
		s.writer.turn <- struct{}{}
		errs = append(errs, s.writer.lane.close())
	}
	for len(s.lanes) > 0 {
		if l := <-s.lanes; l != nil {
			errs = append(errs, l.close())
		}
	}
	if s.read != nil {
		errs = append(errs, s.read.Close())
	}
	// others may come in only once it is closed
	for _, db := range []*sql.DB{s.ready, s.behind, s.write, s.held} {
		if db != nil {
			errs = append(errs, db.Close())
		}
	}
	return errors.Join(errs...)
}

// Digest is a keyed digest: equal for equal data, and nobody without the master key
// can try guesses against it.
func (s *Store) Digest(data []byte) string { return s.seal.mac(data) }

// querier is a database or a transaction.
type querier interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
}

// Tx is a write transaction, or the store seen for reading.
type Tx struct {
	s      *Store
	q      querier
	shelf  *shelf    // nil where nothing is kept between reads
	topics *[]string // what it changes; nil where it only reads
}

// Read is the store for reading, outside any transaction.
func (s *Store) Read() *Tx { return &Tx{s: s, q: s.read} }

// NotFoundError says that there is no such record.
type NotFoundError struct{ Noun, ID string }

func (e *NotFoundError) Error() string { return fmt.Sprintf("there is no %s %s", e.Noun, e.ID) }

// Kind tells the kind of the error.
func (e *NotFoundError) Kind() vpn.Kind { return vpn.KindNotFound }

// ConflictError says that a record was changed since it was read.
type ConflictError struct {
	Noun, ID    string
	Found, Want int
}

func (e *ConflictError) Error() string {
	what := strings.TrimSpace(e.Noun + " " + e.ID)
	return fmt.Sprintf(
		"%s was changed meanwhile: found version %d, expected %d, which you saw; read it again",
		what,
		e.Found,
		e.Want,
	)
}

// Kind tells the kind of the error.
func (e *ConflictError) Kind() vpn.Kind { return vpn.KindChanged }

// TakenError says that a unique value is in use already.
type TakenError struct{ Noun, Column string }

func (e *TakenError) Error() string {
	return fmt.Sprintf("another %s has this %s already", e.Noun, e.Column)
}

// constraint turns the error of a unique column into a TakenError. SQLite names the column in its
// text alone: "UNIQUE constraint failed: people.name".
func constraint(noun string, err error) error {
	var refused *sqlite.Error
	switch {
	case err == nil:
		return nil
	case errors.As(err, &refused) && refused.Code() == sqlite3.SQLITE_CONSTRAINT_UNIQUE:
		_, column, _ := strings.Cut(refused.Error(), ".")
		if end := strings.IndexAny(column, " ,("); end >= 0 {
			column = column[:end]
		}
		return &TakenError{noun, column}
	}
	return fmt.Errorf("database: %s: %w", noun, err)
}

// private holds that nobody else can look into the data folder. One with nothing in it but data is
// closed.
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
			return fmt.Errorf(
				"data folder %s: found mode %04o, expected 0700, and other files in it (%s); run "+
					"chmod 700 on it, or choose a folder of its own",
				dir,
				info.Mode().Perm(),
				e.Name(),
			)
		}
	}
	if err := os.Chmod(dir, 0o700); err != nil {
		return fmt.Errorf(
			"data folder %s: found mode %04o, expected 0700: %w",
			dir,
			info.Mode().Perm(),
			err,
		)
	}
	return nil
}
