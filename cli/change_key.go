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
		Long: `Seals every secret with new keys, below a new master key: a file that is made, a
passphrase, or one that a token seals (PKCS #11). Stop the service first. It happens in one
transaction: if it is interrupted, the old key still opens everything. Afterwards start the service
with the new key, and keep the old one only as long as copies of the database that were made before.

Sessions, links and tokens go on. The keys of digests stay, because digests of links and tokens
cannot be made again: they open no secret.`,
		Example: "  wardicon service change-key --data data --new-key-file new-master.key\n" +
			"  wardicon service change-key --data data --new-passphrase-file passphrase\n" +
			"  wardicon service change-key --data data \\\n" +
			"      --new-key-pkcs11 'pkcs11:token=Skerry%20Line;object=master' \\\n" +
			"      --pkcs11 'pkcs11:token=Skerry%20Line?" +
			"module-path=/usr/lib/softhsm/libsofthsm2.so&pin-source=file:/etc/wardicon/pin'",
		RunE: func(cmd *cobra.Command, _ []string) error {
			next.tokens = h.tokens
			if err := onlyOne(next.keyFile, next.passphraseFile, next.keyToken); err != nil {
				return err
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
	h.dataFlags(cmd)
	f := cmd.Flags()
	f.StringVar(&next.keyFile, "new-key-file", "", "file for the new master key; it must not exist")
	f.StringVar(&next.passphraseFile, "new-passphrase-file", "", "file with the new passphrase")
	f.StringVar(&next.keyToken, "new-key-pkcs11", "", "PKCS #11 URI of an RSA key in a token of "+
		"--pkcs11; it is made if there is none of that name")
	return cmd
}

// onlyOne wants one new key.
func onlyOne(places ...string) error {
	n := 0
	for _, p := range places {
		if p != "" {
			n++
		}
	}
	if n != 1 {
		return usage("expected one of --new-key-file, --new-passphrase-file and --new-key-pkcs11")
	}
	return nil
}
