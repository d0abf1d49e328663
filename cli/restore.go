package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/copies"
	"wardicon/store"
)

// copyFlags are the settings of copies that are kept by schedule.
type copyFlags struct {
	copies.Settings
	mirror string
}

func (c *copyFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(&c.To, "backup-to", "", "folder for encrypted copies of the database by "+
		"schedule (default: none)")
	cmd.Flags().DurationVar(&c.Every, "backup-every", 24*time.Hour, "time between two copies")
	cmd.Flags().IntVar(&c.Keep, "backup-keep", 14, "number of copies to keep")
	cmd.Flags().StringSliceVar(&c.Recipients, "backup-recipient", nil, "public keys that the "+
		"copies are encrypted for; wardicon service backup-key makes one")
	cmd.Flags().
		StringVar(&c.mirror, "mirror-to", "", "folder on another disk that is kept up to date "+
			"with the database while the service runs (default: none)")
}

// Check refuses settings that cannot work, the mirror's included.
func (c *copyFlags) Check() error {
	return errors.Join(c.Settings.Check(), copies.CheckMirror(c.mirror))
}

// mirrored begins to mirror an open database where that is wanted, and returns how that ends.
func (h *host) mirrored(
	ctx context.Context,
	s *store.Store,
	log *slog.Logger,
) (end func() error, err error) {
	if h.copies.mirror == "" {
		return func() error { return nil }, nil
	}
	m, err := copies.OpenMirror(ctx, h.data, h.copies.mirror, log)
	if err != nil {
		return nil, err
	}
	s.LeaveLog()
	h.synced = m.Synced
	log.Info("mirroring the database", "folder", h.copies.mirror)
	return func() error { return m.Close(context.WithoutCancel(ctx)) }, nil
}

func (a *app) backupKey() *cobra.Command {
	var to string
	cmd := &cobra.Command{
		Use:   "backup-key",
		Short: "Make the key that encrypted copies are opened with",
		Args:  exactly(),
		Long: `Makes a pair of keys for the copies that "wardicon serve --backup-to" keeps. The file
opens copies: keep it away from the service, and more than once. The public key that is printed goes
into the setting backup-recipient.`,
		Example: "  wardicon service backup-key --out backup.key",
		RunE: func(*cobra.Command, []string) error {
			if to == "" {
				return usage("--out: found nothing, expected a file to write")
			}
			text, public, err := copies.NewKey()
			if err != nil {
				return err
			}
			f, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
			if err != nil {
				return err
			}
			_, err = f.WriteString(text)
			if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
				return err
			}
			return a.print(map[string]string{"public": public, "file": to}, func(table.Writer) {
				a.say("%s", public)
			})
		},
	}
	cmd.Flags().StringVar(&to, "out", "", "file for the key; it must not exist")
	return cmd
}

func (a *app) restore() *cobra.Command {
	var h host
	var from, key, at string
	var check bool
	cmd := &cobra.Command{
		Use:   "restore",
		Short: "Restore the database from a copy or a mirror, or check that it could be",
		Args:  exactly(),
		Long: `Restores the database into a data folder that has none, from an encrypted copy that "wardicon
serve --backup-to" made, or from the mirror that "--mirror-to" kept, and reads every page, value and
record of it. The master key must be in the folder, or be named by --key-file, --passphrase-file or
--key-pkcs11.
--check does the same in a temporary folder, and leaves nothing behind. --from may be a folder of
copies: then it is the newest one. A mirror can also be restored as it was at a time of the last
three days (--at).`,
		Example: "  wardicon service restore --from wardicon-20261130T030000Z.db.age \\\n" +
			"      --backup-key backup.key --data /var/lib/wardicon\n" +
			"  wardicon service restore --from /srv/backup --backup-key backup.key \\\n" +
			"      --key-file master.key --check\n" +
			"  wardicon service restore --from /srv/wardicon-mirror --at 2026-11-30T12:30:00Z \\\n" +
			"      --key-file master.key --data /var/lib/wardicon",
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			source, err := a.source(from, key, at)
			if err != nil {
				return err
			}
			master, err := a.masterKey(h)
			if err != nil {
				return err
			}
			if master.File == "" {
				master.File = filepath.Join(h.data, "master.key")
			}
			folder := h.data
			if check {
				if folder, err = os.MkdirTemp("", "wardicon-restore-"); err != nil {
					return err
				}
				defer func() { err = errors.Join(err, os.RemoveAll(folder)) }()
			} else if err := os.MkdirAll(folder, 0o700); err != nil {
				return err
			}
			to := filepath.Join(folder, store.File)
			if _, err := os.Stat(to); !errors.Is(err, fs.ErrNotExist) {
				return usage("--data %s: found a database there, expected a folder without one; "+
					"move it away first", folder)
			}
			part := to + ".restoring"
			if err := source.write(cmd.Context(), part); err != nil {
				return err
			}
			defer func() {
				if err != nil {
					err = errors.Join(err, os.Remove(part))
				}
			}()
			found, err := store.InspectCopy(cmd.Context(), part, master)
			if err != nil {
				return err
			}
			if !found.Sound() {
				if err := a.print(found, func(w table.Writer) { inspected(w, found) }); err != nil {
					return err
				}
				return errFindings
			}
			if check {
				a.say("%s can be restored: values and records checked: %d; all are intact",
					source.name, found.Looked)
				return os.Remove(part)
			}
			a.say("restored %s to %s: values and records checked: %d; all are intact",
				source.name, h.data, found.Looked)
			if err := os.Rename(part, to); err != nil {
				return err
			}
			return store.SyncDir(folder)
		},
	}
	h.dataFlags(cmd)
	cmd.Flags().StringVar(&from, "from", "", "copy, folder of copies (then the newest), or mirror")
	cmd.Flags().StringVar(&key, "backup-key", "", "file that service backup-key made, for a copy")
	cmd.Flags().StringVar(&at, "at", "", "time of the state to restore from a mirror, such as "+
		"2026-11-30T12:30:00Z (default: the latest)")
	cmd.Flags().BoolVar(&check, "check", false, "only check that it could be restored")
	return cmd
}

// restoreSource is what a database is restored from: what it is called, and how it is written into
// a new file.
type restoreSource struct {
	name  string
	write func(ctx context.Context, to string) error
}

func (a *app) source(from, key, at string) (*restoreSource, error) {
	if from == "" {
		return nil, usage("--from: found nothing, expected a copy, a folder of copies or a mirror")
	}
	info, err := os.Stat(from)
	if err != nil {
		return nil, usage("--from: %w", err)
	}
	if copies.IsMirror(from) {
		var moment time.Time
		if at != "" {
			if moment, err = time.Parse(time.RFC3339, at); err != nil {
				return nil, usage(
					"--at: found %q, expected a time such as 2026-11-30T12:30:00Z",
					at,
				)
			}
		}
		s := &restoreSource{name: from}
		s.write = func(ctx context.Context, to string) error {
			of, err := copies.OpenMirrored(ctx, from, moment, to)
			s.name = fmt.Sprintf("%s as of %s", from, of.UTC().Format(time.RFC3339))
			return err
		}
		return s, nil
	}
	switch {
	case at != "":
		return nil, usage("--at is for a mirror, and %s is none", from)
	case key == "":
		return nil, usage("--backup-key: found nothing, expected the file that opens copies")
	}
	if info.IsDir() {
		list, err := copies.List(from)
		if err != nil {
			return nil, err
		}
		if len(list) == 0 {
			return nil, missing("there is no copy in %s, and it is no mirror", from)
		}
		from = list[len(list)-1].Path
	}
	return &restoreSource{from, func(_ context.Context, to string) error {
		return copies.Open(from, key, to)
	}}, nil
}
