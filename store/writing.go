package store

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"wardicon/core/vpn"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// writer is the one connection that changes anything. Whoever waits for it gets it in the order of
// coming: a channel serves its senders so.
type writer struct {
	turn chan struct{}
	lane *lane

	mu    sync.Mutex
	fault *FaultError // of the last write; nil where it went well
}

// FaultError says that the database could not be worked on for a reason that may pass: what was
// asked for did not happen, and can be tried again.
type FaultError struct {
	Why vpn.Kind // KindDiskFull, KindLocked or KindDisk
	Dir string
	Err error
}

func (e *FaultError) Error() string {
	switch e.Why {
	case vpn.KindDiskFull:
		return fmt.Sprintf(
			"the disk of the data folder %s is full: nothing was changed; free some space and try "+
				"again",
			e.Dir,
		)
	case vpn.KindLocked:
		return fmt.Sprintf(
			"another process holds the database in %s: nothing was changed; end what works on "+
				"that file, and try again",
			e.Dir,
		)
	}
	return fmt.Sprintf(
		"the disk of the data folder %s has errors: nothing was changed (%v)",
		e.Dir,
		e.Err,
	)
}

// Kind tells the kind of the error.
func (e *FaultError) Kind() vpn.Kind { return e.Why }

func (e *FaultError) Unwrap() error { return e.Err }

// passing finds the fault of the disk or of a lock in an error; nil where it is another one.
func (s *Store) passing(err error) *FaultError {
	var refused *sqlite.Error
	if !errors.As(err, &refused) {
		return nil
	}
	switch refused.Code() & 0xff {
	case sqlite3.SQLITE_FULL:
		return &FaultError{vpn.KindDiskFull, s.dir, err}
	case sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED:
		return &FaultError{vpn.KindLocked, s.dir, err}
	case sqlite3.SQLITE_IOERR, sqlite3.SQLITE_READONLY, sqlite3.SQLITE_CANTOPEN:
		if left, err := space(s.dir); err == nil && left < leastSpace {
			return &FaultError{vpn.KindDiskFull, s.dir, refused}
		}
		return &FaultError{vpn.KindDisk, s.dir, err}
	}
	return nil
}

// faulty puts the fault in the place of an error that is one, and keeps the reason.
func (s *Store) faulty(err error) error {
	if f := s.passing(err); f != nil {
		return f
	}
	return err
}

// ErrClosed is the error for a store that was closed.
var ErrClosed = errors.New("the database is closed")

// Write runs a function in one transaction: all of it happens, or nothing. Nothing that takes long
// belongs into it: all others wait, in the order in which they came.
func (s *Store) Write(ctx context.Context, do func(*Tx) error) error {
	if s.closed.Load() {
		return ErrClosed
	}
	select {
	case s.writer.turn <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() { <-s.writer.turn }()
	err := s.transact(ctx, do)
	fault := s.passing(err)
	s.writer.mu.Lock()
	if fault != nil || err == nil {
		s.writer.fault = fault
	}
	s.writer.mu.Unlock()
	if fault != nil {
		return fault
	}
	return err
}

func (s *Store) transact(ctx context.Context, do func(*Tx) error) (err error) {
	l := s.writer.lane
	if _, err := l.ExecContext(ctx, "BEGIN IMMEDIATE"); err != nil {
		// A context that ends meanwhile may be told of a transaction that has begun.
		return errors.Join(fmt.Errorf("database: %w", err), l.undo(ctx))
	}
	done := false
	defer func() {
		if !done {
			err = errors.Join(err, l.undo(ctx))
		}
	}()
	var topics []string
	if err := do(&Tx{s: s, q: l, topics: &topics}); err != nil {
		return err
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	if _, err := l.ExecContext(context.WithoutCancel(ctx), "COMMIT"); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	done = true
	if s.changed != nil && len(topics) > 0 {
		s.changed(topics)
	}
	return nil
}

// undo rolls back, unless SQLite has done so already, as it does on a full disk.
func (l *lane) undo(ctx context.Context) error {
	_, err := l.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
	if err != nil && !strings.Contains(err.Error(), "no transaction is active") {
		return err
	}
	return nil
}

// Snapshot runs a function that reads the database as it is at one moment, on a connection of its
// own: long work there keeps nobody else from reading.
func (s *Store) Snapshot(ctx context.Context, do func(*Tx) error) (err error) {
	var l *lane
	select {
	case l = <-s.lanes:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() { s.lanes <- l }()
	if l == nil {
		if l, err = newLane(context.WithoutCancel(ctx), s.read.DB); err != nil {
			return s.faulty(fmt.Errorf("database: %w", err))
		}
	}
	if _, err := l.ExecContext(ctx, "BEGIN"); err != nil {
		return s.faulty(errors.Join(fmt.Errorf("database: %w", err), l.undo(ctx)))
	}
	defer func() { err = s.faulty(errors.Join(err, l.undo(ctx))) }()
	return do(&Tx{s: s, q: l})
}

// Ready tells whether the database answers, on a connection that nothing else waits for, and
// whether what is accepted can be kept.
func (s *Store) Ready(ctx context.Context) error {
	ctx, stop := context.WithTimeout(ctx, readyTime)
	defer stop()
	var one int
	if err := s.ready.QueryRowContext(ctx, `SELECT only FROM seal`).Scan(&one); err != nil {
		return s.faulty(fmt.Errorf("database: %w", err))
	}
	if left, err := space(s.dir); err == nil && left < leastSpace {
		return &FaultError{Why: vpn.KindDiskFull, Dir: s.dir}
	}
	s.writer.mu.Lock()
	fault := s.writer.fault
	s.writer.mu.Unlock()
	if fault == nil {
		return nil
	}
	// Whether it has passed shows itself by writing.
	if err := s.Write(
		ctx,
		func(tx *Tx) error { return tx.Remember(ctx, "ready", s.now().UTC().Format(time.RFC3339)) },
	); err != nil {
		return fault
	}
	return nil
}

const (
	readyTime  = 5 * time.Second
	leastSpace = 4 << 20 // bytes that must be left on the disk
)
