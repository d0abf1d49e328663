package cli

import (
	"cmp"
	"context"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/pki"
)

// certificateRequest makes what an authority elsewhere shall sign.
func (a *app) certificateRequest() *cobra.Command {
	var authority, made, kind, to string
	var names []string
	cmd := &cobra.Command{
		Use:   "request [DEVICE]",
		Short: "Create a signing request for a CA whose key is kept elsewhere",
		Long: `Creates a key, which stays in the service, and a signing request (PKCS #10) to be
signed elsewhere: for a device, or with --new-authority for an issuing CA below a root that is
kept elsewhere. Import the signed certificate with "answer".`,
		Example: "  wardicon certificate request \"Engine laptop 1\" --authority \"Vault root\" " +
			"--out engine.csr\n  wardicon certificate request --new-authority \"Skerry Line " +
			"issuing\" --out issuing.csr\n  wardicon certificate answer issuing.pem",
		Args: func(_ *cobra.Command, args []string) error {
			if (len(args) == 1) == (made != "") || len(args) > 1 {
				return usage("found %s, expected either a device or --new-authority",
					plural(len(args), "argument"))
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				var r api.Request
				var err error
				if made != "" {
					r, err = c.RequestForAuthority(ctx, made, pki.KeyChoice(kind))
				} else {
					d, by, found := issuing(ctx, c, args[0], authority)
					if found != nil {
						return found
					}
					r, err = c.RequestForDevice(ctx, d.ID, by.ID, names)
				}
				if err != nil {
					return err
				}
				if a.output != "table" {
					return a.print(r, nil)
				}
				return a.handed(to, r.PEM, "the request for "+r.Subject+" is in "+to+" ("+r.ID+")")
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&authority, "authority", "", "CA that is to sign it")
	f.StringSliceVar(&names, "name", nil, "host name or email address that both sides check")
	f.StringVar(&made, "new-authority", "", "name of a new issuing CA")
	f.StringVar(&kind, "kind", "p256", "key type of the new CA: p256, p384 or rsa3072")
	f.StringVar(&to, "out", "", "file to write the request to (standard output)")
	return cmd
}

func (a *app) certificateRequests() *cobra.Command {
	return list(a, listing[api.Request]{
		use:     "requests",
		short:   "List pending signing requests",
		about:   "Lists signing requests without a certificate, oldest first.",
		example: "  wardicon certificate requests\n  wardicon certificate requests --output json",
		plural:  "requests",
		filters: []string{"authority", "device", "usage"},
		columns: []string{"id", "for", "names", "authority", "created", "by"},
		load: func(ctx context.Context, c *client.Client, q client.Query) (api.Page[api.Request],
			error) {
			return c.Requests(ctx, q)
		},
		row: func(r api.Request) table.Row {
			by := cmp.Or(r.Authority, "any, for a new CA")
			return table.Row{
				r.ID,
				r.Subject,
				strings.Join(r.Names, ", "),
				by,
				r.Created.Local().Format(time.DateOnly),
				r.Operator,
			}
		},
	})
}

func (a *app) certificateAnswer() *cobra.Command {
	return &cobra.Command{
		Use:   "answer FILE",
		Short: "Import a certificate for a signing request",
		Args:  exactly("FILE"),
		Long: `Imports the certificate for a signing request as PEM, DER, PKCS #7 or PKCS #12. It
is matched by its key, and must be issued by the requested CA with the requested names. It is
stored with the device, or as a new CA.`,
		Example: "  wardicon certificate answer engine.pem",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				m, err := a.material(args[0], materialFlags{})
				if err != nil {
					return err
				}
				out, err := c.Answer(ctx, m)
				if err != nil {
					return err
				}
				return a.print(out, func(table.Writer) {
					if r := out.Certificate; r != nil {
						a.say(
							"%s has a certificate for %s, valid until %s (%s)",
							r.Device,
							strings.Join(r.Names, ", "),
							r.To.Local().Format(time.DateOnly),
							r.ID,
						)
					}
					if r := out.Authority; r != nil {
						a.say(
							"the authority %s issues here, valid until %s",
							r.Name,
							r.Expires.Local().Format(time.DateOnly),
						)
					}
				})
			})
		},
	}
}

func (a *app) certificateForget() *cobra.Command {
	return &cobra.Command{
		Use:     "forget ID",
		Short:   "Remove a signing request and its key",
		Args:    exactly("ID"),
		Long:    "Removes a signing request that will not be signed, with its key.",
		Example: "  wardicon certificate forget rq-4xk7q2m9h3vw8tzp",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				if err := a.sure("Remove the request %s and its key?", args[0]); err != nil {
					return err
				}
				if err := c.ForgetRequest(ctx, args[0]); err != nil {
					return err
				}
				a.say("the request %s is removed", args[0])
				return nil
			})
		},
	}
}
