package cli

import (
	"time"

	"github.com/spf13/cobra"

	"wardicon/store"
)

// changeKey seals all secrets with another master key.
func (a *app) changeKey() *cobra.Command {
	h, next := host{}, host{}
	cmd := &cobra.Command{
		Use:   "change-key",
		Short: "Seal all secrets with another master key",
		Args:  exactly(),
		Long: `Seals every secret with new keys, below a new master key: a file that is made, or a
passphrase. Stop the service first. It happens in one transaction: if it is interrupted, the old
key still opens everything. Afterwards start the service with the new key, and keep the old one
only as long as copies of the database that were made before.

Sessions, links and tokens go on. The keys of digests stay, because digests of links and tokens
cannot be made again: they open no secret.`,
		Example: "  wardicon service change-key --data data --new-key-file new-master.key\n" +
			"  wardicon service change-key --data data --new-passphrase-file passphrase",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if (next.keyFile == "") == (next.passphraseFile == "") {
				return usage("expected either --new-key-file or --new-passphrase-file")
			}
			old, err := a.masterKey(h)
			if err != nil {
				return err
			}
			other, err := a.masterKey(next)
			if err != nil {
				return err
			}
			s, err := store.Open(cmd.Context(), h.data, old, time.Now)
			if err != nil {
				return err
			}
			n, err := s.ChangeKey(cmd.Context(), other)
			if closed := s.Close(); err == nil {
				err = closed
			}
			if err != nil {
				return err
			}
			a.say("%s sealed with the new key. Start the service with it.", plural(n, "secret"))
			return nil
		},
	}
	f := cmd.Flags()
	f.StringVar(&h.data, "data", "data", "data folder")
	f.StringVar(&h.keyFile, "key-file", "", "file with the master key (default: master.key in the "+
		"data folder)")
	f.StringVar(&h.passphraseFile, "passphrase-file", "", "file with a passphrase instead of a key")
	f.StringVar(&next.keyFile, "new-key-file", "", "file for the new master key; it must not exist")
	f.StringVar(&next.passphraseFile, "new-passphrase-file", "", "file with the new passphrase")
	return cmd
}
