package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/pressly/goose/v3"
)

// Migrations stand in files, or beside the code that speaks to the tables they make: see step.
//
//go:embed migrations/*.sql
var migrations embed.FS

// schema makes the tables as all migrations together leave them in a new database, in a tenth of
// the time. A test writes it again (-update) and holds it to the migrations.
//
//go:embed schema.sql
var schema string

var steps []*goose.Migration

// step is a migration by its number, which is that of no other, and the way back.
func step(number int64, up, down string) struct{} {
	run := func(statements string) *goose.GoFunc {
		return &goose.GoFunc{RunTx: func(ctx context.Context, tx *sql.Tx) error {
			_, err := tx.ExecContext(ctx, statements)
			return err
		}}
	}
	steps = append(steps, goose.NewGoMigration(number, run(up), run(down)))
	return struct{}{}
}

// Migrations are all of them, for a database.
func Migrations(db *sql.DB) (*goose.Provider, error) {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	return goose.NewProvider(goose.DialectSQLite3, db, files, goose.WithGoMigrations(steps...),
		goose.WithDisableGlobalRegistry(true))
}

// NewerError says that a data folder was worked on by a later release.
type NewerError struct {
	Dir          string
	Found, Known int64 // schema versions
}

func (e *NewerError) Error() string {
	return fmt.Sprintf(
		"data folder %s: found schema version %d, expected %d at most: a later release of "+
			"Wardicon upgraded it; start that release, or restore the copy %s.before-%04d that it "+
			"made",
		e.Dir,
		e.Found,
		e.Known,
		File,
		e.Found,
	)
}

// migrate brings the tables up to date. What a later release wrote is refused; what an earlier one
// wrote is copied first, so that there is a way back.
func (s *Store) migrate(ctx context.Context, dir string) error {
	provider, err := Migrations(s.write)
	if err != nil {
		return fmt.Errorf("migrations: %w", err)
	}
	if err := begin(ctx, s.write); err != nil {
		return fmt.Errorf("first tables: %w", err)
	}
	found, known, err := provider.GetVersions(ctx)
	if err != nil {
		return fmt.Errorf("migrations: %w", err)
	}
	switch {
	case found > known:
		return &NewerError{dir, found, known}
	case found == known:
		return nil
	case found > 0:
		// A copy that is there already is of a start that did not come through: it is the older
		// one, and whole.
		if err := Backup(
			ctx,
			dir,
			filepath.Join(dir, fmt.Sprintf("%s.before-%04d", File, known)),
		); err != nil &&
			!errors.Is(err, os.ErrExist) {
			return fmt.Errorf("copy before the tables are changed: %w", err)
		}
	}
	if _, err := provider.Up(ctx); err != nil {
		return fmt.Errorf("migrations: %w", err)
	}
	return nil
}

// begin puts the tables into a database that has none.
func begin(ctx context.Context, db *sql.DB) error {
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	var tables int
	if err := tx.QueryRowContext(ctx, `SELECT count(*) FROM sqlite_schema`).Scan(&tables); err != nil ||
		tables > 0 {
		return err
	}
	if _, err := tx.ExecContext(ctx, schema); err != nil {
		return err
	}
	return tx.Commit()
}
