package cli

import (
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
		Use: "request [DEVICE]", Short: "Make a signing request for an authority whose key is kept elsewhere",
		Long: `Makes a key, which stays in the service, and a signing request (PKCS #10) to carry to where the
authority's key is: for a device, or with --new-authority for an authority that issues here below a root kept
elsewhere. Bring what comes back in by "answer".`,
		Example: "  wardicon certificate request \"Engine laptop 1\" --authority \"Vault root\" --to engine.csr\n  wardicon certificate request --new-authority \"Skerry Line issuing\" --to issuing.csr\n  wardicon certificate answer issuing.pem",
		Args: func(_ *cobra.Command, args []string) error {
			if (len(args) == 1) == (made != "") || len(args) > 1 {
				return usage("found %d arguments, expected either a device or --new-authority", len(args))
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
					if authority == "" {
						return usage("--authority: found nothing, expected the name of an authority; wardicon authority list shows them")
					}
					d, found := findDevice(ctx, c, args[0])
					if found != nil {
						return found
					}
					by, found := findAuthority(ctx, c, authority)
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
	f.StringVar(&authority, "authority", "", "authority that is asked")
	f.StringSliceVar(&names, "name", nil, "host name or mail address that both sides check")
	f.StringVar(&made, "new-authority", "", "name of an authority that issues here")
	f.StringVar(&kind, "kind", "p256", "kind of the new authority's key: p256, p384 or rsa3072")
	f.StringVar(&to, "to", "", "file to write the request to (standard output)")
	return cmd
}

func (a *app) certificateRequests() *cobra.Command {
	var q client.Query
	cmd := &cobra.Command{
		Use: "requests", Short: "List signing requests that wait for their certificate", Args: exactly(),
		Long:    "Lists what was made to be signed elsewhere and has not come back, the oldest first.\nFilters: authority_id, device_id, usage.",
		Example: "  wardicon certificate requests\n  wardicon certificate requests --output json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				page, err := c.Requests(ctx, q)
				if err != nil {
					return err
				}
				if err := a.print(page, func(w table.Writer) {
					w.AppendHeader(heads("id", "for", "names", "authority", "made", "by"))
					w.SetColumnConfigs([]table.ColumnConfig{wrapped(3, 44)})
					for _, r := range page.Items {
						by := r.Authority
						if by == "" {
							by = "any, for a new authority"
						}
						w.AppendRow(table.Row{r.ID, r.Subject, strings.Join(r.Names, ", "), by, r.Created.Local().Format(time.DateOnly), r.Operator})
					}
				}); err != nil {
					return err
				}
				if a.output == "table" {
					a.say("%s", countedPage(page, q.Offset, "requests"))
				}
				return nil
			})
		},
	}
	pageFlags(cmd, &q)
	cmd.Flags().StringToStringVar(&q.Filter, "filter", nil, "conditions such as usage=client")
	return cmd
}

func (a *app) certificateAnswer() *cobra.Command {
	return &cobra.Command{
		Use: "answer FILE", Short: "Take in a certificate that was signed elsewhere", Args: exactly("FILE"),
		Long: `Takes in what came back for a signing request, of any shape. It is known by its key; it must be by the
authority that was asked, with the names that were asked for. A device gets it; a new authority is then on record.`,
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
						a.say("%s has a certificate for %s, valid until %s (%s)", r.Device, strings.Join(r.Names, ", "), r.To.Local().Format(time.DateOnly), r.ID)
					}
					if r := out.Authority; r != nil {
						a.say("the authority %s issues here, valid until %s", r.Name, r.Expires.Local().Format(time.DateOnly))
					}
				})
			})
		},
	}
}

func (a *app) certificateForget() *cobra.Command {
	return &cobra.Command{
		Use: "forget ID", Short: "Drop a signing request with its key", Args: exactly("ID"),
		Long: "Drops a signing request that shall not be answered. Its key is gone with it.", Example: "  wardicon certificate forget rq-4xk7q2m9h3vw8tzp",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				if err := c.ForgetRequest(ctx, args[0]); err != nil {
					return err
				}
				a.say("the request %s is dropped", args[0])
				return nil
			})
		},
	}
}
