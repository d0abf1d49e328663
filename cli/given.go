package cli

import (
	"github.com/spf13/cobra"

	"wardicon/core/secret"
)

// outside are the flags of a server that the service signs in to: the CAs of its certificate, and a
// secret.
type outside struct{ authority, secret string }

// given takes over the fields of settings whose flags were given, and reads the files that outside
// names into the other two.
func (a *app) given(
	cmd *cobra.Command,
	fields map[string]func(),
	files outside,
	authority *string,
	password **secret.Text,
) error {
	for name, take := range fields {
		if cmd.Flags().Changed(name) {
			take()
		}
	}
	if cmd.Flags().Changed("authority") {
		data, err := a.read(files.authority)
		if err != nil {
			return err
		}
		*authority = string(data)
	}
	if files.secret != "" {
		text, err := a.readSecret(files.secret)
		if err != nil {
			return err
		}
		read := secret.New(text)
		*password = &read
	}
	return nil
}
