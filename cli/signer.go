package cli

import (
	"context"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
)

// signerCommands are those of what signs parcels.
func (a *app) signerCommands() *cobra.Command {
	root := &cobra.Command{
		Use:   "signer",
		Short: "Show and change the certificate that signs parcels",
		Long: `Parcels are signed with one certificate: Apple profiles directly, so that the
device shows them as verified; for all others a list of digests is signed. "wardicon verify" shows
who signed a file and whether it was changed.`,
		Example: "  wardicon organisation signer make --authority \"Skerry Line\"\n  wardicon " +
			"organisation signer import signing.p12 --passphrase-file secret.txt\n  wardicon " +
			"organisation signer show",
	}
	return group(root, a.signerShow(), a.signerMake(), a.signerBring(), a.signerRemove())
}

func (a *app) showSigner(s api.Signer) error {
	return a.print(s, func(table.Writer) {
		if !s.Set {
			a.say(
				"parcels are not signed; wardicon organisation signer make creates a signing " +
					"certificate",
			)
			return
		}
		by := "imported"
		if s.Authority != "" {
			by = "issued by " + s.Authority
		}
		a.say(
			"%s has signed parcels since %s, until %s (%s)\n",
			s.Subject,
			s.Since.Local().Format(time.DateOnly),
			s.Expires.Local().Format(time.DateOnly),
			by,
		)
		a.links(s.Links)
	})
}

func (a *app) signerShow() *cobra.Command {
	return &cobra.Command{
		Use:     "show",
		Short:   "Show the signing certificate",
		Args:    exactly(),
		Long:    "Shows the certificate that signs parcels, and its chain.",
		Example: "  wardicon organisation signer show",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				s, err := c.Signer(ctx)
				if err != nil {
					return err
				}
				return a.showSigner(s)
			})
		},
	}
}

func (a *app) signerMake() *cobra.Command {
	var authority, name string
	var days int
	cmd := &cobra.Command{
		Use:   "make",
		Short: "Create a signing certificate",
		Args:  exactly(),
		Long: "Makes a key and has an authority issue a signing certificate, in the place of " +
			"the one that signed\nparcels. Parcels that were built before count as outdated.",
		Example: "  wardicon organisation signer make --authority \"Skerry Line\" --name " +
			"\"Skerry Line network office\"",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				if authority == "" {
					return usage(
						"--authority: found nothing, expected the name of an authority; wardicon " +
							"authority list shows them",
					)
				}
				by, err := findAuthority(ctx, c, authority)
				if err != nil {
					return err
				}
				before, err := c.Signer(ctx)
				if err != nil {
					return err
				}
				s, err := c.MakeSigner(ctx, by.ID, name, days, before.Version)
				if err != nil {
					return err
				}
				return a.showSigner(s)
			})
		},
	}
	cmd.Flags().StringVar(&authority, "authority", "", "authority that issues it")
	cmd.Flags().StringVar(&name, "name", "", "name that people see (default: the organisation's)")
	cmd.Flags().
		IntVar(&days, "days", 0, "days that it is valid (default: the authority's setting for "+
			"gateways)")
	return cmd
}

func (a *app) signerBring() *cobra.Command {
	var flags materialFlags
	cmd := &cobra.Command{
		Use:   "import FILE",
		Short: "Import a signing certificate and its key",
		Args:  exactly("FILE"),
		Long: "Imports a signing certificate, for example one of a CA that devices already " +
			"trust.",
		Example: "  wardicon organisation signer import signing.p12 --passphrase-file secret.txt",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				m, err := a.material(args[0], flags)
				if err != nil {
					return err
				}
				before, err := c.Signer(ctx)
				if err != nil {
					return err
				}
				s, err := c.TakeSigner(ctx, m, before.Version)
				if err != nil {
					return err
				}
				return a.showSigner(s)
			})
		},
	}
	flags.on(cmd)
	return cmd
}

func (a *app) signerRemove() *cobra.Command {
	return &cobra.Command{
		Use:     "remove",
		Short:   "Stop signing parcels",
		Args:    exactly(),
		Long:    "Removes the signing certificate and its key. Signed parcels stay signed.",
		Example: "  wardicon organisation signer remove",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				before, err := c.Signer(ctx)
				if err != nil {
					return err
				}
				if err := a.sure("Remove the signing certificate and its key?"); err != nil {
					return err
				}
				if err := c.RemoveSigner(ctx, before.Version); err != nil {
					return err
				}
				a.say("parcels are no longer signed")
				return nil
			})
		},
	}
}
