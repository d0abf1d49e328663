package store

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
)

// Backup writes a copy of the database to a new file, while others read and write.
// Secrets stay sealed in it. The file has its name only once it is whole and on disk; a
// file that is there already is not touched (os.ErrExist).
func Backup(ctx context.Context, dir, to string) error {
	if err := copyTo(ctx, dir, to); err != nil {
		return fmt.Errorf("backup: %w", err)
	}
	return nil
}

func copyTo(ctx context.Context, dir, to string) (err error) {
	if _, err := os.Stat(filepath.Join(dir, File)); err != nil {
		return err
	}
	if _, err := os.Lstat(to); err == nil {
		return fmt.Errorf("%s: %w; give another name, or move it away", to, os.ErrExist)
	}
	part := to + ".part"
	if err := os.Remove(
		part,
	); err != nil &&
		!errors.Is(err, os.ErrNotExist) { // left by one that was killed
		return err
	}
	f, err := os.OpenFile(part, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	defer func() {
		if err = errors.Join(err, f.Close()); err != nil {
			_ = os.Remove(part) // it has its name by then, or is in nobody's way
		}
	}()
	if err := vacuum(ctx, filepath.Join(dir, File), part); err != nil {
		return fmt.Errorf("%s: %w", to, err)
	}
	if err := f.Sync(); err != nil {
		return err
	}
	if err := os.Rename(part, to); err != nil {
		return err
	}
	return SyncDir(filepath.Dir(to))
}

// vacuum copies a database page by page in the order of its trees, and reads the copy back.
func vacuum(ctx context.Context, from, to string) (err error) {
	db, err := open(from, 1, "busy_timeout(10000)")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	if _, err = db.ExecContext(ctx, `VACUUM INTO ?`, to); err != nil {
		return err
	}
	made, err := open(to, 1, "query_only(1)")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, made.Close()) }()
	var verdict string
	if err := made.QueryRowContext(ctx, `PRAGMA quick_check(1)`).
		Scan(&verdict); err != nil ||
		verdict != "ok" {
		return errors.Join(fmt.Errorf("the copy does not read back: %s", verdict), err)
	}
	return nil
}

// SyncDir has the name of a new file survive a loss of power.
func SyncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}
