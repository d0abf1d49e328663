package copies

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"github.com/benbjohnson/litestream"
	"github.com/benbjohnson/litestream/file"

	"wardicon/store"
)

// How a mirror is kept.
const (
	mirrorEvery = 500 * time.Millisecond // between two looks at the log of changes
	mirrorLast  = 20 * time.Second       // for what is left when the service stops
	mirrorWhole = 24 * time.Hour         // between two whole copies
	mirrorKept  = 72 * time.Hour         // how far back the database can be restored
	mirrorLog   = 64 << 20               // bytes of the log at which writers wait for the mirror
	pageSize    = 4096                   // of the database
)

// Mirror keeps a second folder up to date with a database while it is worked on: every change is
// there about a second later. The folder holds whole copies and the changes since; secrets are
// sealed in them as they are in the database.
type Mirror struct {
	store *litestream.Store
	db    *litestream.DB
}

// CheckMirror refuses a folder that cannot be one.
func CheckMirror(folder string) error {
	if folder == "" {
		return nil
	}
	return writable("mirror-to", folder)
}

// OpenMirror begins to mirror the database of a data folder that is open already. Where the mirror
// is of another state of the database, a whole copy is made.
func OpenMirror(ctx context.Context, data, folder string, log *slog.Logger) (*Mirror, error) {
	quiet := slog.New(&faultsOnly{log: log})
	db := litestream.NewDB(filepath.Join(data, store.File))
	db.SetMetaPath(filepath.Join(data, store.File+".mirror"))
	db.MonitorInterval = mirrorEvery
	db.TruncatePageN = mirrorLog / pageSize
	client := file.NewReplicaClient(folder)
	replica := litestream.NewReplicaWithClient(db, client)
	replica.SyncInterval = mirrorEvery
	client.Replica, db.Replica = replica, replica
	s := litestream.NewStore([]*litestream.DB{db}, litestream.CompactionLevels{
		{Level: 0},
		{Level: 1, Interval: 30 * time.Second},
		{Level: 2, Interval: 5 * time.Minute},
		{Level: 3, Interval: time.Hour},
	})
	s.SnapshotInterval, s.SnapshotRetention = mirrorWhole, mirrorKept
	s.Logger = quiet
	db.SetLogger(quiet)
	client.SetLogger(quiet)
	if err := s.Open(ctx); err != nil {
		return nil, fmt.Errorf("mirror-to %s: %w", folder, err)
	}
	return &Mirror{s, db}, nil
}

// Synced is when all that was written then was in the mirror.
func (m *Mirror) Synced() time.Time { return m.db.LastSuccessfulSyncAt() }

// Close brings the mirror up to date, where that can be done in a while, and ends it. The database
// must still be open.
func (m *Mirror) Close(ctx context.Context) error {
	soon, cancel := context.WithTimeout(ctx, mirrorLast)
	defer cancel()
	err := m.db.SyncAndWait(soon)
	if err != nil {
		err = fmt.Errorf("the mirror has not all that was written: %w", err)
	}
	return errors.Join(err, m.store.Close(soon))
}

// faultsOnly passes on what is a warning or worse, as one message.
type faultsOnly struct{ log *slog.Logger }

func (f *faultsOnly) Enabled(_ context.Context, level slog.Level) bool {
	return level >= slog.LevelWarn
}

func (f *faultsOnly) Handle(ctx context.Context, r slog.Record) error {
	list := []slog.Attr{slog.String("cause", r.Message)}
	r.Attrs(func(a slog.Attr) bool {
		list = append(list, a)
		return true
	})
	f.log.LogAttrs(ctx, r.Level, "the mirror of the database is behind", list...)
	return nil
}

func (f *faultsOnly) WithAttrs([]slog.Attr) slog.Handler { return f }
func (f *faultsOnly) WithGroup(string) slog.Handler      { return f }

// IsMirror tells whether a folder is a mirror.
func IsMirror(folder string) bool {
	info, err := os.Stat(filepath.Join(folder, "ltx"))
	return err == nil && info.IsDir()
}

// OpenMirrored writes the database of a mirror into a new file, as it was at a time, or as late as
// the mirror has it for the zero time. It returns which moment that is.
func OpenMirrored(ctx context.Context, folder string, at time.Time, to string) (time.Time, error) {
	if _, err := os.Stat(to); !errors.Is(err, fs.ErrNotExist) {
		return time.Time{}, fmt.Errorf("%s: found a file, expected none", to)
	}
	client := file.NewReplicaClient(folder)
	quiet := slog.New(slog.DiscardHandler)
	client.SetLogger(quiet)
	replica := litestream.NewReplicaWithClient(nil, client)
	from, until, err := replica.TimeBounds(ctx)
	if err != nil {
		return time.Time{}, fmt.Errorf("mirror %s: %w", folder, err)
	}
	if !at.IsZero() && at.Before(from) {
		return time.Time{}, fmt.Errorf(
			"mirror %s: found the time %s, expected one from %s on",
			folder,
			at.UTC().Format(time.RFC3339),
			from.UTC().Format(time.RFC3339),
		)
	}
	options := litestream.NewRestoreOptions()
	options.OutputPath, options.Timestamp = to, at
	options.IntegrityCheck = litestream.IntegrityCheckFull
	if err := replica.Restore(ctx, options); err != nil {
		return time.Time{}, errors.Join(fmt.Errorf("mirror %s: %w", folder, err), os.RemoveAll(to))
	}
	if at.IsZero() || at.After(until) {
		at = until
	}
	return at, os.Chmod(to, 0o600)
}
