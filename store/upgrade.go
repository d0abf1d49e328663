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
