package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// holdFile is locked for as long as a store is open. The lock ends with its process, however that
// ends.
const holdFile = File + "-held"

// HeldError says that somebody else works on a data folder.
type HeldError struct{ Dir string }

func (e *HeldError) Error() string {
	return fmt.Sprintf(
		"data folder %s: another process works on it; stop that one first, or give this one a "+
			"folder of its own (--data)",
		e.Dir,
	)
}

// hold keeps a second service out of a data folder: two would both send the same letters and do the
// same jobs. SQLite's own lock works wherever its database does.
func hold(ctx context.Context, dir string) (*sql.DB, error) {
	db, err := open(filepath.Join(dir, holdFile), 1, "busy_timeout(0)", "journal_mode(MEMORY)")
	if err != nil {
		return nil, err
	}
	if _, err = db.ExecContext(ctx, "BEGIN EXCLUSIVE"); err == nil {
		return db, nil
	}
	var refused *sqlite.Error
	if errors.As(err, &refused) && refused.Code()&0xff == sqlite3.SQLITE_BUSY ||
		strings.Contains(err.Error(), "locked") {
		err = &HeldError{dir}
	} else {
		err = fmt.Errorf("data folder %s: %w", dir, err)
	}
	return nil, errors.Join(err, db.Close())
}
