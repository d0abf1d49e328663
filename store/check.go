package store

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

// Found is what stands in a data folder, as far as it is seen without changing it.
type Found struct {
	// There is none yet: the first start makes it.
	New bool
	// Version of its tables, and the one of this release; a start upgrades an earlier one.
	Version, Known int64
	// When something was done last.
	Last time.Time
	// Bytes that are left on its disk.
	Space uint64
}

// Check looks at a data folder before a service starts on it, also while one works on it: whether
// it can be written to, whether its tables are known to this release, and whether the master key is
// the one that it was sealed with. Nothing is changed.
func Check(ctx context.Context, dir string, key Key) (f Found, err error) {
	if f.Space, err = writable(dir); err != nil {
		return f, err
	}
	path := filepath.Join(dir, File)
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
		f.New = true
		return f, nil
	}
	db, err := open(path, 1, "busy_timeout(10000)", "query_only(1)")
	if err != nil {
		return f, err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	provider, err := Migrations(db)
	if err != nil {
		return f, fmt.Errorf("migrations: %w", err)
	}
	if f.Version, f.Known, err = provider.GetVersions(ctx); err != nil {
		return f, fmt.Errorf("%s: %w", path, err)
	}
	if f.Version > f.Known {
		return f, &NewerError{dir, f.Version, f.Known}
	}
	if key.File == "" {
		key.File = filepath.Join(dir, "master.key")
	}
	if _, err := unlock(ctx, db, key); err != nil {
		return f, err
	}
	var last int64
	if err := db.QueryRowContext(ctx, `SELECT COALESCE(MAX(at), 0) FROM audit`).
		Scan(&last); err != nil {
		return f, fmt.Errorf("%s: %w", path, err)
	}
	f.Last = fromMillis(last)
	return f, nil
}

// writable tells how much space is left in a folder that files can be made in; one that is not
// there yet is made at the first start, so its parent counts.
func writable(dir string) (uint64, error) {
	at := dir
	for {
		info, err := os.Stat(at)
		if err == nil && !info.IsDir() {
			return 0, fmt.Errorf("data folder %s: found a file at %s, expected a folder", dir, at)
		}
		if err == nil {
			break
		}
		if !errors.Is(err, fs.ErrNotExist) || filepath.Dir(at) == at {
			return 0, fmt.Errorf("data folder: %w", err)
		}
		at = filepath.Dir(at)
	}
	f, err := os.CreateTemp(at, ".wardicon-check-")
	if err != nil {
		return 0, fmt.Errorf("data folder %s: no file can be made there: %w", dir, err)
	}
	if err := errors.Join(f.Close(), os.Remove(f.Name())); err != nil {
		return 0, fmt.Errorf("data folder %s: %w", dir, err)
	}
	left, err := space(at)
	if err == nil && left < leastSpace {
		err = fmt.Errorf("data folder %s: found %d MiB left on its disk, expected at least %d",
			dir, left>>20, leastSpace>>20)
	}
	return left, err
}
