// Package copies keeps encrypted copies of the database in another folder, by schedule, and reads
// them back. A copy is a database as store.Backup makes it, in an age file (age-encryption.org/v1)
// for public keys: whoever makes copies cannot read them.
package copies

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"filippo.io/age"

	"wardicon/store"
)

// Names of copies: when they were made, so that they sort by age.
const (
	prefix = "wardicon-"
	suffix = ".db.age"
	form   = "20060102T150405Z"
)

// Settings say where copies go, how often, and how many are kept.
type Settings struct {
	To         string        // folder; empty makes none
	Every      time.Duration // between two copies
	Keep       int           // how many are kept
	Recipients []string      // public keys that can read them
}

// Check refuses settings that cannot work.
func (s Settings) Check() error {
	if s.To == "" {
		return nil
	}
	if _, err := s.recipients(); err != nil {
		return err
	}
	switch {
	case s.Every < time.Minute:
		return fmt.Errorf("backup-every: found %s, expected at least a minute", s.Every)
	case s.Keep < 1:
		return fmt.Errorf("backup-keep: found %d, expected at least 1", s.Keep)
	}
	return writable("backup-to", s.To)
}

// writable refuses a folder that is none, or that takes no file.
func writable(setting, folder string) error {
	switch info, err := os.Stat(folder); {
	case err != nil:
		return fmt.Errorf("%s: %w; make the folder first", setting, err)
	case !info.IsDir():
		return fmt.Errorf("%s %s: found a file, expected a folder", setting, folder)
	}
	f, err := os.CreateTemp(folder, ".wardicon-check-")
	if err != nil {
		return fmt.Errorf("%s %s: no file can be made there: %w", setting, folder, err)
	}
	return errors.Join(f.Close(), os.Remove(f.Name()))
}

func (s Settings) recipients() (list []age.Recipient, err error) {
	for _, text := range s.Recipients {
		r, err := age.ParseX25519Recipient(strings.TrimSpace(text))
		if err != nil {
			return nil, fmt.Errorf("backup-recipient: found %q, expected a public key that begins "+
				"with age1; wardicon service backup-key makes one", text)
		}
		list = append(list, r)
	}
	if len(list) == 0 {
		return nil, errors.New("backup-recipient: found none, expected a public key: copies are " +
			"kept encrypted; wardicon service backup-key makes one")
	}
	return list, nil
}

// Keeper makes copies of the database of a data folder.
type Keeper struct {
	Settings
	Data string // folder
	Now  func() time.Time
	Log  *slog.Logger
}

// Run makes a copy whenever one is due, until the context ends. One that fails is made again a
// little later; earlier ones are kept then.
func (k *Keeper) Run(ctx context.Context) {
	const again = 10 * time.Minute
	for {
		wait, err := k.due()
		if err == nil && wait <= 0 {
			var made string
			if made, err = k.Make(ctx); err == nil {
				k.Log.InfoContext(ctx, "copied the database", "file", made)
				wait = k.Every
			}
		}
		if err != nil && ctx.Err() == nil {
			k.Log.ErrorContext(ctx, "the database was not copied", "error", err, "again", again)
			wait = again
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(min(wait, time.Hour)): // the clock may be set meanwhile
		}
	}
}

// due is how long it takes until the next copy.
func (k *Keeper) due() (time.Duration, error) {
	list, err := List(k.To)
	if err != nil || len(list) == 0 {
		return 0, err
	}
	newest := list[len(list)-1].Made
	if newest.After(k.Now()) {
		return 0, nil // the clock was wrong then, or is now: a copy too many does no harm
	}
	return newest.Add(k.Every).Sub(k.Now()), nil
}

// Make makes a copy, and removes those that are too many. It has its name only once it is whole and
// on disk.
func (k *Keeper) Make(ctx context.Context) (path string, err error) {
	recipients, err := k.recipients()
	if err != nil {
		return "", err
	}
	plain := filepath.Join(k.Data, store.File+".copying")
	if err := os.Remove(plain); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	defer func() { _ = os.Remove(plain) }()
	if err := store.Backup(ctx, k.Data, plain); err != nil {
		return "", err
	}
	path = filepath.Join(k.To, prefix+k.Now().UTC().Format(form)+suffix)
	if err := sealed(plain, path, recipients); err != nil {
		return "", err
	}
	return path, k.prune()
}

// sealed encrypts a file.
func sealed(from, to string, recipients []age.Recipient) (err error) {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, in.Close()) }()
	part := to + ".part"
	out, err := os.OpenFile(part, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	w, err := age.Encrypt(out, recipients...)
	if err == nil {
		_, err = io.Copy(w, in)
		err = errors.Join(err, w.Close())
	}
	if err = errors.Join(err, out.Sync(), out.Close()); err != nil {
		return errors.Join(err, os.Remove(part))
	}
	if err := os.Rename(part, to); err != nil {
		return err
	}
	return store.SyncDir(filepath.Dir(to))
}

// prune removes the oldest copies that are too many, and what was left by one that was killed.
func (k *Keeper) prune() error {
	list, err := List(k.To)
	if err != nil {
		return err
	}
	parts, err := filepath.Glob(filepath.Join(k.To, prefix+"*"+suffix+".part"))
	if err != nil {
		return err
	}
	for _, one := range list[:max(0, len(list)-k.Keep)] {
		parts = append(parts, one.Path)
	}
	var errs []error
	for _, path := range parts {
		errs = append(errs, os.Remove(path))
	}
	return errors.Join(errs...)
}

// Copy is one that was made.
type Copy struct {
	Path string
	Made time.Time
}

// List lists the copies in a folder, the oldest first.
func List(folder string) ([]Copy, error) {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil, err
	}
	var list []Copy
	for _, e := range entries {
		name, ok := strings.CutSuffix(e.Name(), suffix)
		if !ok {
			continue
		}
		if made, err := time.Parse(form, strings.TrimPrefix(name, prefix)); err == nil {
			list = append(list, Copy{filepath.Join(folder, e.Name()), made})
		}
	}
	slices.SortFunc(list, func(a, b Copy) int { return a.Made.Compare(b.Made) })
	return list, nil
}

// NewKey makes a pair of keys: the text of a file that opens copies, and the public key that they
// are made for.
func NewKey() (file, public string, err error) {
	k, err := age.GenerateX25519Identity()
	if err != nil {
		return "", "", err
	}
	public = k.Recipient().String()
	return fmt.Sprintf("# public key: %s\n%s\n", public, k), public, nil
}

// Open decrypts a copy into a new file. A copy that was changed, or is for other keys, is refused,
// and nothing is left behind.
func Open(from, keyFile, to string) (err error) {
	keys, err := os.Open(keyFile)
	if err != nil {
		return err
	}
	identities, err := age.ParseIdentities(keys)
	if err := errors.Join(err, keys.Close()); err != nil {
		return fmt.Errorf("%s: %w; expected the file that wardicon service backup-key made",
			keyFile, err)
	}
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, in.Close()) }()
	plain, err := age.Decrypt(in, identities...)
	if err != nil {
		return fmt.Errorf("%s: %w", from, err)
	}
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, plain)
	if err = errors.Join(err, out.Sync(), out.Close()); err != nil {
		return errors.Join(fmt.Errorf("%s: %w", from, err), os.Remove(to))
	}
	return nil
}
