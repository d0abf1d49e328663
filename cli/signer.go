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
		Use: "signer", Short: "Choose what signs parcels", GroupID: "records",
		Long: `Parcels are signed by one certificate: Apple profiles themselves, so that the device shows them as verified;
for all others a list of the files' digests. "wardicon verify" tells who signed a file and whether it was changed.`,
		Example: "  wardicon signer make --authority \"Skerry Line\"\n  wardicon signer bring signing.p12 --passphrase-file secret.txt\n  wardicon signer show",
	}
	return group(root, a.signerShow(), a.signerMake(), a.signerBring(), a.signerRemove())
}

func (a *app) showSigner(s api.Signer) error {
	return a.print(s, func(table.Writer) {
		if !s.Set {
			a.say("nothing signs parcels; wardicon signer make has an authority issue a certificate for it")
			return
		}
		by := "brought in"
		if s.Authority != "" {
			by = "issued by " + s.Authority
		}
		a.say("%s signs parcels since %s, until %s (%s)\n", s.Subject, s.Since.Local().Format(time.DateOnly), s.Expires.Local().Format(time.DateOnly), by)
		a.links(s.Links)
	})
}

func (a *app) signerShow() *cobra.Command {
	return &cobra.Command{
		Use: "show", Short: "Show what signs parcels", Args: exactly(), Long: "Shows whose signature parcels carry, and its chain.", Example: "  wardicon signer show",
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
		Use: "make", Short: "Have an authority issue the certificate that signs parcels", Args: exactly(),
		Long:    "Makes a key and has an authority issue a signing certificate, in the place of the one that signed\nparcels. Parcels that were built before count as outdated.",
		Example: "  wardicon signer make --authority \"Skerry Line\" --name \"Skerry Line network office\"",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				if authority == "" {
					return usage("--authority: found nothing, expected the name of an authority; wardicon authority list shows them")
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
	cmd.Flags().StringVar(&name, "name", "", "name that people see (that of the organisation)")
	cmd.Flags().IntVar(&days, "days", 0, "days that it is valid (as the authority says of gateways)")
	return cmd
}

func (a *app) signerBring() *cobra.Command {
	var flags materialFlags
	cmd := &cobra.Command{
		Use: "bring FILE", Short: "Bring a signing certificate with its key in", Args: exactly("FILE"),
		Long:    "Brings a signing certificate in, such as one by an authority that devices know already.",
		Example: "  wardicon signer bring signing.p12 --passphrase-file secret.txt",
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
		Use: "remove", Short: "Sign parcels no more", Args: exactly(), Long: "Removes the signing certificate with its key. What was signed stays signed.", Example: "  wardicon signer remove",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				before, err := c.Signer(ctx)
				if err != nil {
					return err
				}
				if err := c.RemoveSigner(ctx, before.Version); err != nil {
					return err
				}
				a.say("parcels are signed no more")
				return nil
			})
		},
	}
}
